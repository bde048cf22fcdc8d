//! Why a correction was necessary.
//!
//! Between the last tick that agreed and the tick that did not, something happened to that client that did not happen
//! to the server, or the other way round. Only what the record proves is listed; a correction without any is "not
//! attributed". The tick that agreed is looked at too: a press whose tick was lost takes effect in the next.

use std::collections::BTreeSet;

use velocitas_core::{Correction, Fact, InputFate, Provenance, Restored, SolidId};

use crate::command::Command;
use crate::course::KnownTo;
use crate::ids::{ActorId, MachineId, Part, RecordTick};
use crate::knob::{Knob, KnobValue};
use crate::record::{Record, Track};
use crate::time::LabTime;
use crate::watch::Happening;

/// Something proven to lie between the two machines' views.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Cause {
    /// The server used inputs that were not sent so.
    MadeUp {
        /// First such tick.
        first: RecordTick,
        /// Last such tick.
        last: RecordTick,
        /// How many.
        count: u32,
        /// Of these, how many came late.
        late: u32,
    },
    /// The client passed over so many ticks.
    ClientSkipped(u64),
    /// The server passed over so many ticks.
    ServerSkipped(u64),
    /// The server pushed the entity before this tick.
    Pushed(RecordTick),
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

/// A correction that is looked into.
struct Case<'a> {
    record: &'a Record,
    /// Whose.
    machine: MachineId,
    actor: ActorId,
    /// The last tick that agreed, and the one that did not.
    ticks: (RecordTick, RecordTick),
    /// A moment before which nothing about those ticks can have happened, and that of the correction.
    times: (LabTime, LabTime),
}

/// What lies behind a correction at a machine, as far as the record proves it.
pub fn causes(record: &Record, machine: MachineId, at: LabTime, c: &Correction) -> Vec<Cause> {
    let mut found = Vec::new();
    if c.why == Restored::PulledBack {
        found.push(Cause::PulledBack);
    }
    let Some(actor) = record.cast.actor(c.entity) else { return found };
    let ticks = (record.cast.tick(c.agreed), record.cast.tick(c.tick));
    let case = Case { record, machine, actor, ticks, times: (began(record, actor, ticks.0, at), at) };
    if !record.cast.actors[actor.index()].is_owned_in(machine, ticks.1) {
        found.push(Cause::NotOwner);
    }
    found.extend(case.one_sided());
    found.extend(case.other_rule());
    case.happenings(&mut found);
    case.dropped_by_the_server(&mut found);
    found.extend(case.made_up());
    found
}

/// A moment before which nothing about ticks after `tick` can have happened.
fn began(record: &Record, actor: ActorId, tick: RecordTick, at: LabTime) -> LabTime {
    let track = record.authority(actor);
    let authority = track.of_tick(tick).and_then(|i| track.head(i)).map(|h| h.at);
    // Clients run ahead: their side of the tick lies earlier by the lead, a second at the very most.
    authority.unwrap_or(at).minus(LabTime::from_secs(2.5))
}

impl Case<'_> {
    fn covers(&self, tick: RecordTick) -> bool {
        (self.ticks.0..=self.ticks.1).contains(&tick)
    }

    fn made_up(&self) -> Option<Cause> {
        let rows = &self.record.of(self.machine).inputs;
        let entity = self.record.cast.actors[self.actor.index()].id;
        let (mut late, mut made_up, mut sampled, mut used) = (0, BTreeSet::new(), BTreeSet::new(), None);
        for row in rows.span(self.times.0, self.times.1).filter(|r| r.entity == entity && self.covers(r.tick)) {
            match row.fate {
                InputFate::Used(provenance) => {
                    used = Some(used.map_or(row.tick, |used: RecordTick| used.min(row.tick)));
                    if provenance != Provenance::Fresh {
                        made_up.insert(row.tick);
                    }
                }
                InputFate::Sampled => {
                    sampled.insert(row.tick);
                }
                InputFate::Arrived(margin) if margin < 0 => late += 1,
                _ => {}
            }
        }
        // What was sent before anything arrived the server could not miss, yet it made those ticks without it.
        let authority = self.record.authority(self.actor);
        let unheard = |tick: &RecordTick| used.is_none_or(|used| *tick < used) && authority.of_tick(*tick).is_some();
        made_up.extend(sampled.into_iter().filter(unheard));
        let (first, last, count) = (*made_up.first()?, *made_up.last()?, made_up.len() as u32);
        Some(Cause::MadeUp { first, last, count, late })
    }

    fn one_sided(&self) -> Option<Cause> {
        let (from, to) = self.ticks;
        let touched = |track: &Track, side: KnownTo| {
            let start = (from.0..=to.0).find_map(|tick| track.of_tick(RecordTick(tick)))?;
            (start..track.len())
                .map_while(|i| track.head(i).filter(|h| h.tick <= to))
                .flat_map(|h| h.touched())
                .find(|id| self.record.cast.solid(*id).is_some_and(|s| s.known_to == side))
                .map(|id| Cause::OneSided(id, side))
        };
        let own = || self.record.of(self.machine).own(self.actor);
        touched(self.record.authority(self.actor), KnownTo::Server)
            .or_else(|| touched(&own()?.predicted, KnownTo::Clients))
    }

    /// Where the two machines' rules differ at the tick.
    fn other_rule(&self) -> Vec<Cause> {
        let kind = self.record.cast.actors[self.actor.index()].kind;
        let here = self.record.known(self.machine, Part::Client, self.ticks.1);
        let there = self.record.known(MachineId::SERVER, Part::Server, self.ticks.1);
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

    /// Whether ticks passed over lie between the last that agreed and the one that did not.
    fn passes_over(&self, first: RecordTick, count: u64) -> bool {
        first <= self.ticks.1 && u64::from(first.0) + count > u64::from(self.ticks.0.0)
    }

    fn happenings(&self, found: &mut Vec<Cause>) {
        let rows = &self.record.of(self.machine).happenings;
        for row in rows.span(self.times.0, self.times.1) {
            let tick = row.tick.unwrap_or_default();
            match row.what {
                Happening::Pushed(entity)
                    if self.record.cast.actor(entity) == Some(self.actor) && self.covers(tick) =>
                {
                    found.push(Cause::Pushed(tick));
                }
                Happening::Fact(Fact::Dropped { count, .. })
                    if row.part == Part::Client && self.passes_over(tick, count) =>
                {
                    found.push(Cause::ClientSkipped(count));
                }
                // A change of the netcode takes effect at once but shows up to a round trip later.
                Happening::Command(Command::Set { knob, value, .. })
                    if matches!(knob, Knob::Prediction | Knob::Reconciliation) =>
                {
                    found.push(Cause::Turned(knob, value));
                }
                _ => {}
            }
        }
    }

    fn dropped_by_the_server(&self, found: &mut Vec<Cause>) {
        let rows = &self.record.of(MachineId::SERVER).happenings;
        for row in rows.span(self.times.0, self.times.1).filter(|r| r.part == Part::Server) {
            if let (Happening::Fact(Fact::Dropped { count, .. }), Some(tick)) = (&row.what, row.tick)
                && self.passes_over(tick, *count)
            {
                found.push(Cause::ServerSkipped(*count));
            }
        }
    }
}

impl Cause {
    /// In a few words, for people.
    pub fn words(&self, record: &Record) -> String {
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
            Self::NotOwner => "not_owner",
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
