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
mod missing;
mod trial;
mod words;

use std::fmt::Write as _;

use case::{Case, NoCase};
use mind::Minds;
use velocitas_core::{Correction, Restored, SolidId};
use velocitas_record::command::Command;
use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::knob::KnobValue;
use velocitas_record::record::Record;
use velocitas_record::settings::Knob;
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;
use velocitas_record::world::KnownTo;

use crate::reconciling::{left_so, untimely};

pub use found::{Findings, Found};

pub use excuse::{Excuse, excuse};

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
    /// The server's state of an older tick was taken for that of this one, which it had not made yet.
    Untimely(RecordTick),
    /// At this tick the two were apart already by more than they may be, and it was left so.
    LeftSo(RecordTick),
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
    if let Some(tick) = untimely(record, machine, at, c) {
        return Finding { causes: vec![Cause::Untimely(tick)], ..Finding::default() };
    }
    if record.cast.actor(c.entity).is_some_and(|actor| !record.has_rule(actor)) {
        return Finding { rule_absent: true, ..Finding::default() };
    }
    let case = match Case::of(record, (machine, at), c) {
        Ok(case) => case,
        Err(NoCase::Parted(tick)) => {
            let causes = left_so(record, machine, at, c).map(Cause::LeftSo).into_iter().collect();
            return Finding { causes, parted_before: Some(tick), ..Finding::default() };
        }
        Err(NoCase::Unknown) => return Finding::default(),
    };
    let tried = trial::tried(&case, minds);
    let mut causes: Vec<Cause> = tried.proven.iter().map(|one| one.cause(&case)).collect();
    if causes.is_empty() {
        causes.extend(put(record, machine, c).map(Cause::Teleported));
    }
    if causes.is_empty() {
        causes.extend(left_so(record, machine, at, c).map(Cause::LeftSo));
    } else {
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

/// The tick before which the server put it elsewhere, since both sides were last the same, where its owner was told of that: ticks that waited and were used
/// together are not told apart by trying.
fn put(record: &Record, machine: MachineId, c: &Correction) -> Option<RecordTick> {
    let actor = record.cast.actor(c.entity).filter(|_| c.why == Restored::Teleported)?;
    let answer = |tick| record.answer(machine, actor, record.cast.tick(tick));
    let (track, compared) = (record.authority(actor), answer(c.tick)?);
    let since = answer(c.agreed).map_or(compared, |agreed| agreed + 1);
    (since..=compared).filter_map(|i| track.head(i)).find(|head| head.teleported).map(|head| head.tick)
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
