//! Why a correction was necessary.
//!
//! Between the last tick that agreed and the tick that did not, something happened to that client that did not happen
//! to the server, or the other way round. Only what the record proves is listed; a correction without any is "not
//! attributed". The tick that agreed is looked at too: a press whose tick was lost takes effect in the next.

use velocitas_core::{Correction, Provenance, Restored, SolidId};

use crate::command::Command;
use crate::course::{Course, KnownTo};
use crate::knob::{Knob, KnobValue};
use crate::record::{Happening, InputFate, Machine, Record};
use crate::time::LabTime;

/// Something proven to lie between the two machines' views.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Cause {
    /// The server used inputs that were not sent so.
    MadeUp {
        /// First such tick, from the base.
        first: u32,
        /// Last such tick.
        last: u32,
        /// How many.
        count: u32,
        /// Of these, how many came late.
        late: u32,
    },
    /// The client passed over so many ticks.
    ClientSkipped(u64),
    /// The server passed over so many ticks.
    ServerSkipped(u64),
    /// The server pushed the entity before this tick, from the base.
    Pushed(u32),
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
        /// On the member's machine, in SI units.
        here: f32,
        /// At the server.
        there: f32,
    },
    /// The two machines run different versions of the rule.
    OtherRule(u8),
    /// The guard pulled back.
    PulledBack,
}

/// What lies behind a correction of `member` (its ticks counted from the base), as far as the record proves it.
pub fn causes(record: &Record, member: usize, at: LabTime, c: &Correction) -> Vec<Cause> {
    let mut found = Vec::new();
    if c.why == Restored::PulledBack {
        found.push(Cause::PulledBack);
    }
    let (from, to) = (c.agreed.0 as u32, c.tick.0 as u32);
    found.extend(one_sided(record, member, from, to));
    found.extend(other_rule(record, member, to));
    let since = began(record, member, from, at);
    happenings(record, member, (from, to), (since, at), &mut found);
    found.extend(made_up(record, member, (from, to), (since, at)));
    found
}

/// A moment before which nothing about ticks after `tick` can have happened.
fn began(record: &Record, member: usize, tick: u32, at: LabTime) -> LabTime {
    let made = |i: usize| record.authority[member].head(i).map(|h| h.at);
    let authority = record.authority[member].of_tick(tick).and_then(made);
    // Clients run ahead: their side of the tick lies earlier by the lead, a second at the very most.
    authority.unwrap_or(at).minus(LabTime::from_secs(2.5))
}

fn made_up(record: &Record, member: usize, ticks: (u32, u32), times: (LabTime, LabTime)) -> Option<Cause> {
    let start = record.inputs.partition(|r| r.at < times.0);
    let end = record.inputs.partition(|r| r.at <= times.1);
    let (mut first, mut last, mut count, mut late) = (u32::MAX, 0, 0, 0);
    for row in record.inputs.range(start, end) {
        if usize::from(row.member) != member || row.tick < ticks.0 || row.tick > ticks.1 {
            continue;
        }
        match row.fate {
            InputFate::Used(provenance) if provenance != Provenance::Fresh => {
                count += 1;
                first = first.min(row.tick);
                last = last.max(row.tick);
            }
            InputFate::Arrived(margin) if margin < 0 => late += 1,
            _ => {}
        }
    }
    (count > 0).then_some(Cause::MadeUp { first, last, count, late })
}

fn one_sided(record: &Record, member: usize, from: u32, to: u32) -> Option<Cause> {
    let touched = |track: &crate::record::Track, side: KnownTo| {
        let start = (from..=to).find_map(|tick| track.of_tick(tick))?;
        (start..track.len())
            .map_while(|i| track.head(i).filter(|h| h.tick <= to))
            .flat_map(|h| h.touched())
            .find(|id| record.course().solid(*id).is_some_and(|s| s.known_to == side))
            .map(|id| Cause::OneSided(id, side))
    };
    touched(&record.authority[member], KnownTo::Server).or_else(|| touched(&record.predicted[member], KnownTo::Clients))
}

/// Where the two machines' rules differ at a tick.
fn other_rule(record: &Record, member: usize, tick: u32) -> Vec<Cause> {
    let kind = record.course().cast[member].kind;
    let (here, there) = (record.known(Machine::Member(member), tick), record.known(Machine::Server, tick));
    let place = usize::from(kind);
    if here.versions[place] != there.versions[place] {
        return vec![Cause::OtherRule(kind)];
    }
    let pairs = here.tunables[place].iter().zip(&there.tunables[place]).zip(there.kinds.motion(kind).tunables());
    pairs
        .filter(|((here, there), _)| here != there)
        .map(|((here, there), t)| Cause::Differs { tunable: t.name, unit: t.unit, here: *here, there: *there })
        .collect()
}

fn happenings(record: &Record, member: usize, ticks: (u32, u32), times: (LabTime, LabTime), found: &mut Vec<Cause>) {
    let start = record.happenings.partition(|r| r.at < times.0);
    let end = record.happenings.partition(|r| r.at <= times.1);
    for row in record.happenings.range(start, end) {
        let mine = row.machine == Machine::Member(member);
        let tick = row.tick.unwrap_or(0);
        match row.what {
            Happening::Pushed if mine && (ticks.0..=ticks.1).contains(&tick) => found.push(Cause::Pushed(tick)),
            Happening::Dropped(count) => {
                let last = u64::from(tick) + count;
                if tick <= ticks.1 && last > u64::from(ticks.0) {
                    match row.machine {
                        Machine::Server => found.push(Cause::ServerSkipped(count)),
                        Machine::Member(_) if mine => found.push(Cause::ClientSkipped(count)),
                        Machine::Member(_) => {}
                    }
                }
            }
            // A change of the netcode takes effect at once but shows up to a round trip later.
            Happening::Command(Command::Set { knob, value, .. }) if mine => {
                let matters = matches!(knob, Knob::Prediction | Knob::Reconciliation);
                if matters {
                    found.push(Cause::Turned(knob, value));
                }
            }
            _ => {}
        }
    }
}

impl Cause {
    /// In a few words, for people.
    pub fn words(&self, record: &Record) -> String {
        let course: &Course = record.course();
        let plural = |n: u64, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
        match *self {
            Self::MadeUp { first, last, count, late } => {
                let ticks = if first == last {
                    format!("tick {}", record.shown(first))
                } else {
                    format!("ticks {} to {}", record.shown(first), record.shown(last))
                };
                let rest = count.saturating_sub(late);
                let fate = match (late.min(count), rest) {
                    (0, _) => "never arrived".to_owned(),
                    (late, 0) if late == count => "came late".to_owned(),
                    (late, rest) => format!("{late} came late, {rest} never arrived"),
                };
                format!("{} made up, {ticks}: {fate}", plural(u64::from(count), "input"))
            }
            Self::ClientSkipped(count) => format!("the client passed over {}", plural(count, "tick")),
            Self::ServerSkipped(count) => format!("the server passed over {}", plural(count, "tick")),
            Self::Pushed(tick) => format!("a push at tick {} that only the server knew", record.shown(tick)),
            Self::OneSided(id, side) => {
                let name = course.solid(id).map_or("something", |s| s.name.as_str());
                match side {
                    KnownTo::Server => format!("{name}: the server stops, the client walks on"),
                    _ => format!("{name}: the client stops, the server walks on"),
                }
            }
            Self::Turned(knob, value) => format!("{} turned {}", knob.spec().name, shown(knob, value)),
            Self::PulledBack => "the guard pulled back".to_owned(),
            Self::Differs { tunable, unit, here, there } => {
                let unit = if unit == "1" { String::new() } else { format!(" {unit}") };
                format!("{tunable} is {here}{unit} at the client, {there}{unit} at the server")
            }
            Self::OtherRule(kind) => {
                format!("the client runs another version of {} than the server", course.kinds.motion(kind).name())
            }
        }
    }

    /// One word, for programs.
    pub const fn name(&self) -> &'static str {
        match self {
            Self::MadeUp { .. } => "made_up",
            Self::ClientSkipped(_) => "client_skipped",
            Self::ServerSkipped(_) => "server_skipped",
            Self::Pushed(_) => "pushed",
            Self::OneSided(..) => "one_sided",
            Self::Turned(..) => "knob",
            Self::PulledBack => "pulled_back",
            Self::Differs { .. } => "tunable_differs",
            Self::OtherRule(_) => "rule_differs",
        }
    }
}

/// A knob's value with its unit.
pub fn shown(knob: Knob, value: KnobValue) -> String {
    match value {
        KnobValue::Auto => "auto".to_owned(),
        KnobValue::Switch(on) => if on { "on" } else { "off" }.to_owned(),
        KnobValue::Number(x) => {
            let unit = knob.spec().unit;
            let number = if x.fract() == 0.0 { format!("{x:.0}") } else { format!("{x:.1}") };
            if unit.is_empty() { number } else { format!("{number} {unit}") }
        }
    }
}
