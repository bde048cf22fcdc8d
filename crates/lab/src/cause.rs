//! Why a correction was necessary.
//!
//! Between the last tick that agreed and the tick that did not, something happened to that client that did not happen
//! to the server, or the other way round. Only what the record proves is listed; a correction without any is "not
//! attributed". The tick that agreed is looked at too: a press whose tick was lost takes effect in the next.

use std::collections::BTreeSet;

use velocitas_core::{Correction, Fact, Provenance, Restored, SolidId};

use crate::command::Command;
use crate::course::KnownTo;
use crate::fate::{Fate, fate};
use crate::ids::{ActorId, MachineId, Part, RecordTick};
use crate::knob::{Knob, KnobValue};
use crate::record::{InputRow, Record, Track};
use crate::time::LabTime;
use crate::watch::Happening;

/// What became of the inputs of ticks for which the server made them up.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Missing {
    /// Of so many the hands gave none: the client passed over the tick.
    pub never_sampled: u32,
    /// How many had each [`Fate`].
    pub fates: [u32; Fate::NAMES.len()],
    /// How late the latest came, in milliseconds.
    pub latest_ms: f64,
}

impl Missing {
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
        match told.clone().count() {
            1 => told.map(|(_, words)| (*words).to_owned()).collect(),
            _ => told.map(|(n, words)| format!("{n} {words}")).collect::<Vec<_>>().join(", "),
        }
    }
}

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
        /// What became of what was sent for them.
        fates: Missing,
    },
    /// The client passed over so many ticks.
    ClientSkipped(u64),
    /// The server passed over so many ticks.
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
        let inputs = &self.record.of(self.machine).own(self.actor)?.inputs;
        let rows: Vec<InputRow> =
            inputs.rows().span(self.times.0, self.times.1).filter(|row| self.covers(row.tick)).collect();
        let used = |row: &InputRow| row.used().filter(|(at, _)| *at <= self.times.1);
        let first_used = rows.iter().filter(|row| used(row).is_some()).map(|row| row.tick).min();
        // What was sent before anything arrived the server could not miss, yet it made those ticks without it.
        let authority = self.record.authority(self.actor);
        let unheard =
            |row: &InputRow| first_used.is_none_or(|used| row.tick < used) && authority.of_tick(row.tick).is_some();
        let missing = |row: &&InputRow| match used(row) {
            Some((_, provenance)) => provenance != Provenance::Fresh,
            None => row.sampled_at().is_some() && unheard(row),
        };
        let (mut made_up, mut fates) = (BTreeSet::new(), Missing::default());
        for row in rows.iter().filter(missing) {
            made_up.insert(row.tick);
            fates.note(fate(self.record, self.machine, self.actor, row, self.record.end));
        }
        let (first, last, count) = (*made_up.first()?, *made_up.last()?, made_up.len() as u32);
        Some(Cause::MadeUp { first, last, count, fates })
    }

    fn one_sided(&self) -> Option<Cause> {
        let (from, to) = self.ticks;
        let known_to = |id: SolidId, tick| {
            let server = self.record.knows(MachineId::SERVER, Part::Server, id, tick);
            KnownTo::of(server, self.record.knows(self.machine, Part::Client, id, tick))
        };
        let touched = |track: &Track, side: KnownTo| {
            let start = (from.0..=to.0).find_map(|tick| track.of_tick(RecordTick(tick)))?;
            (start..track.len())
                .map_while(|i| track.head(i).filter(|h| h.tick <= to))
                .flat_map(|h| h.touched().map(|id| (id, h.tick)).collect::<Vec<_>>())
                .find(|(id, tick)| known_to(*id, *tick) == side)
                .map(|(id, _)| Cause::OneSided(id, side))
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
                Happening::Teleported(entity, _)
                    if self.record.cast.actor(entity) == Some(self.actor) && self.covers(tick) =>
                {
                    found.push(Cause::Teleported(tick));
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
            Self::MadeUp { first, last, count, fates } => {
                let ticks = if first == last {
                    format!("tick {}", record.shown(first))
                } else {
                    format!("ticks {} to {}", record.shown(first), record.shown(last))
                };
                format!("{} made up, {ticks}: {}", plural(u64::from(count), "input"), fates.words())
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

    /// Every word that [`name`](Self::name) can give.
    pub const NAMES: [&'static str; 11] = [
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
        }]
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
