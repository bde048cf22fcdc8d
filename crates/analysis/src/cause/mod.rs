//! Why a correction was necessary: found by trying.
//!
//! From the last state that both sides had alike, the client's ticks are stepped again with one ingredient at a time exchanged
//! for the server's: what it was told, what the server did to the entity, what it knows of the ground and the rule, which ticks it made. The
//! smallest exchange after which there would have been nothing to correct *is* the cause. Where none is, it is not
//! attributed. What there is to be exchanged is a table in `ingredient.rs`.

mod by_tick;
mod case;
mod excuse;
mod found;
mod ingredient;
mod mind;
mod trial;

use std::fmt::Write as _;

use case::{Case, NoCase};
use mind::Minds;
use velocitas_core::{Correction, Provenance, Restored, SolidId};
use velocitas_record::command::Command;
use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::knob::{Accessor, KnobValue};
use velocitas_record::record::Record;
use velocitas_record::settings::Knob;
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, HappeningRow};
use velocitas_record::world::KnownTo;

use crate::fate::{Fate, fate};
use crate::held::{Delayed, delayed};

pub use found::{Findings, Found};

pub use excuse::{Excuse, excuse};

/// What became of the inputs of ticks for which the server made them up.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct Missing {
    /// How many of them the hands never gave: the client passed over the tick.
    never_sampled: u32,
    /// How many had each [`Fate`].
    fates: [u32; Fate::NAMES.len()],
    /// How late the latest came, in milliseconds.
    latest_ms: f64,
    /// How many of them an ordered stream held back, and for how long at most; and how many it sent again.
    held: u32,
    longest: LabTime,
    again: u32,
    /// When the first of them was made up.
    first: Option<LabTime>,
}

/// A link that changed is named for so long: a client's lead has followed by then.
const FOLLOWED: LabTime = LabTime(5_000_000_000);

/// What changed of a machine's way up in the seconds before a moment, and how long before, in words.
fn link_turned(record: &Record, machine: MachineId, by: LabTime) -> Option<String> {
    let turned = |row: &HappeningRow| match row.what {
        Happening::Link { up: true, knob, value } => Some((row.at, knob, KnobValue::Number(value))),
        Happening::Command(Command::Set { knob, value, .. })
            if matches!(knob.spec().accessor, Accessor::Link { .. }) =>
        {
            Some((row.at, knob, value))
        }
        _ => None,
    };
    let mut rows = record.of(machine).happenings.span(by.minus(FOLLOWED), by).rev();
    let (at, knob, value) = rows.find_map(turned)?;
    let ago = by.minus(at).secs();
    Some(format!("{ago:.1} s after its link turned to {} {}", knob.spec().name, shown(knob, value)))
}

impl Missing {
    /// What has become by now of the inputs that the server missed in a span of ticks, and how many they are.
    fn between(
        record: &Record,
        (machine, actor): (MachineId, ActorId),
        (first, last): (RecordTick, RecordTick),
    ) -> (u64, Self) {
        let (mut count, mut missing) = (0, Self::default());
        let Some(inputs) = record.of(machine).own(actor).map(|own| &own.inputs) else { return (0, missing) };
        for row in (first.0..=last.0).filter_map(|tick| inputs.of_tick(RecordTick(tick))) {
            if row.used().is_some_and(|(_, how)| how == Provenance::Fresh) {
                continue;
            }
            let fate = fate(record, machine, actor, &row, record.end);
            if row.used().is_some_and(|(_, how)| how == Provenance::Unchanged) && fate == Some(Fate::Fresh) {
                continue;
            }
            count += 1;
            missing.first = missing.first.or(row.used().map(|(at, _)| at));
            missing.note(fate);
            match delayed(record, machine, actor, &row) {
                Some(Delayed::HeldBack(since)) => {
                    missing.held += 1;
                    let until = row.arrived().map_or(record.end, |(at, _)| at);
                    missing.longest = missing.longest.max(until.minus(since));
                }
                Some(Delayed::SentAgain) => missing.again += 1,
                None => {}
            }
        }
        (count, missing)
    }

    fn note(&mut self, fate: Option<Fate>) {
        let Some(fate) = fate else {
            self.never_sampled += 1;
            return;
        };
        self.fates[fate.index()] += 1;
        if let Fate::Late(ms) = fate {
            self.latest_ms = self.latest_ms.max(ms);
        }
    }

    /// In words, those that are none left out.
    fn words(&self) -> String {
        let of = |fate: Fate| self.fates[fate.index()];
        let late = format!("came up to {:.0} ms late", self.latest_ms);
        let parts = [
            (self.never_sampled, "never sampled: its client passed over the tick"),
            (of(Fate::Lost), "lost on the way"),
            (of(Fate::Late(0.0)), late.as_str()),
            (of(Fate::Outdated), "dropped: given before the last pull back"),
            (of(Fate::PassedOver), "for a tick that the server passed over"),
            (of(Fate::Refused), "refused by the guard"),
            (of(Fate::Unused), "not asked for: another's word held"),
            (of(Fate::Unheard), "arrived where nobody took it"),
            (of(Fate::UnderWay), "still under way"),
            (of(Fate::Fresh), "there in time"),
        ];
        let told = parts.iter().filter(|(n, _)| *n > 0);
        let words = match told.clone().count() {
            1 => told.map(|(_, words)| (*words).to_owned()).collect(),
            _ => told.map(|(n, words)| format!("{n} {words}")).collect::<Vec<_>>().join(", "),
        };
        words + &self.by_stream()
    }

    /// What an ordered stream did to them, if it did.
    fn by_stream(&self) -> String {
        let held = format!("{} held back for up to {:.0} ms", self.held, self.longest.millis());
        let again = format!("{} sent again", self.again);
        match (self.held, self.again) {
            (0, 0) => String::new(),
            (_, 0) => format!("; in the stream {held}"),
            (0, _) => format!("; in the stream {again}"),
            _ => format!("; in the stream {again}, {held}"),
        }
    }
}

/// Something proven to lie between the two machines' views.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Cause {
    /// The server used inputs that were not sent so.
    MadeUp {
        /// By whom they were not.
        machine: MachineId,
        /// For which entity.
        actor: ActorId,
        /// First such tick.
        first: RecordTick,
        /// Last such tick.
        last: RecordTick,
    },
    /// The same, and an ordered stream is why it did not have them: one was lost and sent again, and it held others back behind that.
    HeldBack {
        /// Whose they are.
        machine: MachineId,
        /// For which entity.
        actor: ActorId,
        /// First such tick.
        first: RecordTick,
        /// Last such tick.
        last: RecordTick,
    },
    /// The server read something else than was given, though it came as if sent so.
    Altered {
        /// First such tick.
        first: RecordTick,
        /// Last such tick.
        last: RecordTick,
    },
    /// How many ticks the client passed over.
    ClientSkipped(u64),
    /// How many ticks the server passed over.
    ServerSkipped(u64),
    /// The server pushed the entity before this tick.
    Pushed(RecordTick),
    /// The server put the entity elsewhere before this tick.
    Teleported(RecordTick),
    /// Something that one side only knows was touched.
    OneSided(SolidId, KnownTo),
    /// A knob was turned.
    Turned(Knob, KnobValue),
    /// A tunable of the rule is set otherwise on the two machines.
    Differs {
        /// Which, by name.
        tunable: &'static str,
        /// Its unit.
        unit: &'static str,
        /// On the owner's machine, in SI units.
        here: f32,
        /// At the server.
        there: f32,
    },
    /// The two machines run different versions of the rule.
    OtherRule(u8),
    /// The guard pulled back.
    PulledBack,
    /// The machine does not own the entity, and moves it all the same.
    NotOwner,
}

/// What was found behind a correction.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Finding {
    /// The smallest exchange after which there would have been nothing to correct: one thing, or all that are needed. Empty where
    /// nothing that is known does.
    pub causes: Vec<Cause>,
    /// Since before this tick both went their own ways: further back nothing was tried.
    pub parted_before: Option<RecordTick>,
    /// How many things there were to be exchanged.
    pub present: u32,
    /// How often the ticks were stepped again.
    pub replays: u32,
    /// Whether nothing could be tried: the rule is not in this program.
    pub rule_absent: bool,
}

/// Tries what lies behind a correction of a machine. [`Record::finding`] keeps what was found.
fn find(record: &Record, minds: &Minds, (machine, at): (MachineId, LabTime), c: &Correction) -> Finding {
    if c.why == Restored::PulledBack {
        // There is nothing to be tried: it is the guard's word itself.
        return Finding { causes: vec![Cause::PulledBack], ..Finding::default() };
    }
    if let Some(cause) = told_elsewhere(record, machine, at, c) {
        return Finding { causes: vec![cause], ..Finding::default() };
    }
    if record.cast.actor(c.entity).is_some_and(|actor| !record.has_rule(actor)) {
        return Finding { rule_absent: true, ..Finding::default() };
    }
    let case = match Case::of(record, (machine, at), c) {
        Ok(case) => case,
        Err(NoCase::Parted(tick)) => return Finding { parted_before: Some(tick), ..Finding::default() },
        Err(NoCase::Unknown) => return Finding::default(),
    };
    let tried = trial::tried(&case, minds);
    let mut causes: Vec<Cause> = tried.proven.iter().map(|one| one.cause(&case)).collect();
    if !causes.is_empty() {
        causes.extend(turned(record, machine, at, c));
    }
    Finding { causes, present: tried.present, replays: tried.replays, ..Finding::default() }
}

/// Where an owner who says itself where it is was told that it had been put elsewhere: nothing is to be tried of that either.
fn told_elsewhere(record: &Record, machine: MachineId, at: LabTime, c: &Correction) -> Option<Cause> {
    let player = record.cast.machines[machine.index()].player.as_ref()?;
    if c.why != Restored::Teleported || player.arrangement.sends_inputs() {
        return None;
    }
    let rows = record.of(machine).happenings.span(LabTime::ZERO, at);
    rows.rev().find_map(|row| match row.what {
        Happening::Teleported(entity, _) if entity == c.entity => row.tick.map(Cause::Teleported),
        _ => None,
    })
}

/// Reconciliation, where it was turned since both sides were last the same: had it been on, an earlier snapshot would have been
/// held against the prediction, and there would have been nothing left to correct in this one.
fn turned(record: &Record, machine: MachineId, at: LabTime, c: &Correction) -> Option<Cause> {
    let authority = record.authority(record.cast.actor(c.entity)?);
    let agreed = record.answer(machine, record.cast.actor(c.entity)?, record.cast.tick(c.agreed))?;
    let agreed = authority.head(agreed)?.at;
    record.of(machine).happenings.span(agreed, at).rev().find_map(|row| match row.what {
        Happening::Command(Command::Set { knob: Knob::Reconciliation, value, .. }) => {
            Some(Cause::Turned(Knob::Reconciliation, value))
        }
        _ => None,
    })
}

impl Finding {
    /// In a few words, for people: what it was, and what was tried.
    pub fn words(&self, record: &Record, machine: MachineId, c: &Correction) -> String {
        if self.rule_absent {
            return "not tried: the rule is not here".to_owned();
        }
        if let Some(tick) = self.parted_before {
            return format!("parted before tick {}: further back nothing is tried", record.shown(tick));
        }
        let why: Vec<String> = self.causes.iter().map(|cause| cause.words(record)).collect();
        let mut words = if why.is_empty() { self.not_attributed(c) } else { why.join("; ") };
        let tried = self.causes.iter().filter(|_| self.replays > 0);
        let with: Vec<String> = tried.filter_map(|cause| cause.exchanged(record, machine)).collect();
        if !with.is_empty() {
            let _ = write!(words, ". Tried: with {} tick {} agrees", with.join(" and "), c.tick.0);
        }
        words
    }
}

impl Finding {
    /// Why nothing was found.
    fn not_attributed(&self, c: &Correction) -> String {
        // As it was, and as the server had it.
        const BOTH: u32 = 2;
        let why = match self.replays {
            0 => "the record lacks what it takes to step these ticks again".to_owned(),
            BOTH => "stepped again, these ticks do not come out as they did".to_owned(),
            _ => format!("of {} things that differ no exchange makes tick {} agree", self.present, c.tick.0),
        };
        format!("not attributed: {why}")
    }
}

impl Cause {
    /// In a few words, for people.
    pub fn words(&self, record: &Record) -> String {
        let plural = |n: u64, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
        match *self {
            Self::MadeUp { machine, actor, first, last } | Self::HeldBack { machine, actor, first, last } => {
                let (count, missing) = Missing::between(record, (machine, actor), (first, last));
                // Late is what a link that is slower makes them, until the lead of their client has followed.
                let is_late = missing.fates[Fate::Late(0.0).index()] > 0;
                let turned = missing.first.filter(|_| is_late).and_then(|at| link_turned(record, machine, at));
                let turned = turned.map_or_else(String::new, |turned| format!("; {turned}"));
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
            Self::Turned(..) | Self::PulledBack => return None,
        })
    }

    /// Every word that [`name`](Self::name) can give.
    pub const NAMES: [&'static str; 13] = [
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
        }]
    }
}

/// Ticks as people count them.
fn span(record: &Record, first: RecordTick, last: RecordTick) -> String {
    let (first, last) = (record.shown(first), record.shown(last));
    if first == last { format!("tick {first}") } else { format!("ticks {first} to {last}") }
}

/// A knob's value with its unit.
pub fn shown(knob: Knob, value: KnobValue) -> String {
    match value {
        KnobValue::Auto => "auto".to_owned(),
        KnobValue::Switch(on) => if on { "on" } else { "off" }.to_owned(),
        KnobValue::Choice(_) => knob.chosen(value).map_or("?", |choice| choice.name).to_owned(),
        KnobValue::Number(x) => {
            let unit = knob.spec().unit;
            let number = if x.fract() == 0.0 { format!("{x:.0}") } else { format!("{x:.1}") };
            if unit.is_empty() { number } else { format!("{number} {unit}") }
        }
    }
}
