//! Causes in words, for people and for programs.

use velocitas_record::ids::{MachineId, RecordTick};
use velocitas_record::record::Record;
use velocitas_record::world::KnownTo;

use super::missing::Missing;
use super::{Cause, shown};

impl Cause {
    /// In a few words, for people.
    pub fn words(&self, record: &Record) -> String {
        let plural = |n: u64, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
        match *self {
            Self::MadeUp { machine, actor, first, last } | Self::HeldBack { machine, actor, first, last } => {
                let (count, missing) = Missing::between(record, (machine, actor), (first, last));
                let turned = missing.turned(record, machine).map_or_else(String::new, |turned| format!("; {turned}"));
                let (made_up, ticks) = (plural(count, "input"), span(record, first, last));
                format!("{made_up} made up, {ticks}: {}{turned}", missing.words())
            }
            Self::Altered { first, last } => {
                format!("inputs of {} reached the server otherwise than they were given", span(record, first, last))
            }
            Self::ClientSkipped(count) => format!("the client passed over {}", plural(count, "tick")),
            Self::ServerSkipped(count) => format!("the server passed over {}", plural(count, "tick")),
            Self::Pushed(tick) => format!("a push at tick {} that only the server knew", record.shown(tick)),
            Self::Teleported(tick) => format!("put elsewhere by the server at tick {}", record.shown(tick)),
            Self::OneSided(id, side) => {
                let name = record.cast.solid(id).map_or("something", |s| s.name.as_str());
                match side {
                    KnownTo::Server => format!("{name}: the server stops, the client walks on"),
                    _ => format!("{name}: the client stops, the server walks on"),
                }
            }
            Self::Turned(knob, value) => format!("{} turned {}", knob.spec().name, shown(knob, value)),
            Self::PulledBack => "the guard pulled back".to_owned(),
            Self::NotOwner => "this machine moves it, and owns it no longer".to_owned(),
            Self::LeftSo(tick) => {
                format!("it was off by more than it may be at tick {} already, and left so", record.shown(tick))
            }
            Self::Untimely(tick) => {
                format!("an older state was taken for tick {}, which the server had not made yet", record.shown(tick))
            }
            Self::Differs { tunable, unit, here, there } => {
                let unit = if unit == "1" { String::new() } else { format!(" {unit}") };
                format!("{tunable} is {here}{unit} at the client, {there}{unit} at the server")
            }
            Self::OtherRule(kind) => {
                format!(
                    "the client runs another version of {} than the server",
                    record.cast.kinds().motion(kind).name()
                )
            }
        }
    }

    /// What of the server's was put in the place of the client's own when it was tried; `None` where nothing was.
    pub fn exchanged(&self, record: &Record, machine: MachineId) -> Option<String> {
        let who = record.cast.name(machine);
        Some(match *self {
            Self::MadeUp { .. } | Self::HeldBack { .. } | Self::Altered { .. } => {
                "the inputs as the server read them".to_owned()
            }
            Self::NotOwner => "the inputs of its owner".to_owned(),
            Self::Untimely(_) => "its own tick compared".to_owned(),
            Self::ClientSkipped(_) => "those ticks made".to_owned(),
            Self::ServerSkipped(_) => "those ticks passed over".to_owned(),
            Self::Pushed(_) => "that push".to_owned(),
            Self::Teleported(_) => "that teleport".to_owned(),
            Self::OneSided(id, side) => {
                let name = record.cast.solid(id).map_or("it", |s| s.name.as_str());
                let known = if side == KnownTo::Server { "known" } else { "unknown" };
                format!("{name} {known} to {who}")
            }
            Self::Differs { tunable, unit, there, .. } => {
                let unit = if unit == "1" { String::new() } else { format!(" {unit}") };
                format!("{tunable} at {there}{unit} on {who}")
            }
            Self::OtherRule(kind) => format!("the server's {}", record.cast.kinds().motion(kind).name()),
            Self::Turned(..) | Self::PulledBack | Self::LeftSo(_) => return None,
        })
    }

    /// Every word that [`name`](Self::name) can give.
    pub const NAMES: [&'static str; 15] = [
        "made_up",
        "client_skipped",
        "server_skipped",
        "pushed",
        "one_sided",
        "knob",
        "pulled_back",
        "tunable_differs",
        "rule_differs",
        "not_owner",
        "teleported",
        "altered",
        "held_back",
        "untimely",
        "left_so",
    ];

    /// One word, for programs.
    pub const fn name(&self) -> &'static str {
        Self::NAMES[match self {
            Self::MadeUp { .. } => 0,
            Self::ClientSkipped(_) => 1,
            Self::ServerSkipped(_) => 2,
            Self::Pushed(_) => 3,
            Self::OneSided(..) => 4,
            Self::Turned(..) => 5,
            Self::PulledBack => 6,
            Self::Differs { .. } => 7,
            Self::OtherRule(_) => 8,
            Self::NotOwner => 9,
            Self::Teleported(_) => 10,
            Self::Altered { .. } => 11,
            Self::HeldBack { .. } => 12,
            Self::Untimely(_) => 13,
            Self::LeftSo(_) => 14,
        }]
    }
}

/// Ticks as people count them.
fn span(record: &Record, first: RecordTick, last: RecordTick) -> String {
    let (first, last) = (record.shown(first), record.shown(last));
    if first == last { format!("tick {first}") } else { format!("ticks {first} to {last}") }
}
