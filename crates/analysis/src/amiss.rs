//! What is amiss with who is there, with what is drawn of them and with what hands pressed: whether every machine that plays knows exactly what there is, each
//! once, whether only its owner moves it, and whether others are drawn where it was told that they are.
//!
//! Everything here is read from the record alone, whoever made the mistake.

use std::collections::{BTreeMap, BTreeSet};

use velocitas_core::{Drawn, Fact, Presence, Vec3};
use velocitas_record::command::Command;
use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::knob::KnobValue;
use velocitas_record::record::{OtherwiseRow, Record};
use velocitas_record::settings::Knob;
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, HappeningRow};

use crate::beat::out_of_step;
use crate::fault::{Fault, FaultSpec};
use crate::reconciling::{apart, untimely};

/// The longest that news may take to reach a client, over any link that a game is played over.
const GRACE: LabTime = LabTime(2_000_000_000);
/// A prediction older than this says nothing about now.
const LATELY: LabTime = LabTime(500_000_000);

/// What is drawn further than this from where it should be is amiss, in metres: rounding is less.
pub(crate) const OFF_M: f32 = 0.02;
/// Presses are looked at for so long, and are sampled within this.
const PRESSED_LATELY: LabTime = LabTime(4_000_000_000);
const SAMPLED_WITHIN: LabTime = LabTime(250_000_000);
/// Reconciliation is looked at for so long, and this many snapshots must have gone wrong.
const RECONCILED_LATELY: LabTime = LabTime(2_000_000_000);
const ENOUGH: u32 = 3;
/// How much a constant offset may vary and still count as constant, in metres.
const STEADY_M: f32 = 0.02;

/// Something amiss.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Amiss {
    /// A machine that plays does not know of something that is there.
    Unseen {
        /// The machine.
        viewer: MachineId,
        /// What.
        actor: ActorId,
        /// For how long both have been there.
        lasts: LabTime,
    },
    /// A machine knows of something that is there no longer.
    Lingers {
        /// The machine.
        viewer: MachineId,
        /// What.
        actor: ActorId,
        /// For how long it has been gone.
        lasts: LabTime,
    },
    /// A player is there twice.
    Twin {
        /// Where the player sits.
        machine: MachineId,
        /// What came earlier, and later.
        actors: (ActorId, ActorId),
        /// For how long both have been there.
        lasts: LabTime,
    },
    /// A machine moves something that it does not own.
    TwoMovers {
        /// The machine.
        machine: MachineId,
        /// What.
        actor: ActorId,
        /// For how long it has not owned it.
        lasts: LabTime,
    },
    /// A machine draws something elsewhere than what it was sent puts it.
    Misdrawn {
        /// The machine.
        viewer: MachineId,
        /// What.
        actor: ActorId,
        /// How far off at most, lately, in metres.
        off_m: f32,
        /// Whether always by the same.
        steady: bool,
    },
    /// Hands that had rested pressed something, and no input says so.
    Vanished {
        /// The machine.
        machine: MachineId,
        /// Of which entity.
        actor: ActorId,
        /// How many presses, lately.
        presses: u32,
    },
    /// Physics is stepped at another rate than ticks, and not a whole number of times in each: what moves evenly goes further in some than in others.
    OutOfStep {
        /// Of what it shows.
        actor: ActorId,
        /// How many steps there are in a second.
        hz: f64,
    },
    /// A machine took the server's state of an older tick for that of a tick which the server had not made yet.
    Untimely {
        /// The machine.
        machine: MachineId,
        /// Of which entity.
        actor: ActorId,
        /// How often, lately.
        snapshots: u32,
    },
    /// A machine was told that something is otherwise than it has it itself, by more than that may differ, and left it so.
    Kept {
        /// The machine.
        machine: MachineId,
        /// What.
        actor: ActorId,
        /// By how many snapshots, lately.
        snapshots: u32,
        /// How far apart the two were at most, in metres.
        off_m: f32,
    },
}

/// Everything amiss at a moment.
pub fn amiss(record: &Record, at: LabTime) -> Vec<Amiss> {
    let mut found = Vec::new();
    found.extend(twins(record, at));
    let mut there = record.cast.actors().filter(|actor| record.cast.actors[actor.index()].is_there(at));
    found.extend(there.find_map(|actor| Some(Amiss::OutOfStep { actor, hz: out_of_step(record, actor, at)? })));
    for machine in record.cast.players() {
        if record.of(machine).presence_at(at) == Presence::Playing {
            found.extend(unknown(record, machine, at));
            found.extend(two_movers(record, machine, at));
            found.extend(misdrawn(record, machine, at));
            found.extend(vanished(record, machine, at));
            found.extend(reconciled(record, machine, at));
        }
    }
    found
}

/// How long ago a moment is, if that is longer than telling may take.
fn overdue(at: LabTime, since: LabTime) -> Option<LabTime> {
    Some(at.minus(since)).filter(|lasts| *lasts > GRACE)
}

fn twins(record: &Record, at: LabTime) -> impl Iterator<Item = Amiss> {
    let there = move |actor: &ActorId| record.cast.actors[actor.index()].is_there(at);
    let later = record.cast.actors().filter(there);
    later.filter_map(move |second| {
        let of = |actor: ActorId| &record.cast.actors[actor.index()];
        let machine = of(second).came_with?;
        let same = |first: &ActorId| first.index() < second.index() && of(*first).came_with == Some(machine);
        let first = record.cast.actors().filter(there).find(same)?;
        Some(Amiss::Twin { machine, actors: (first, second), lasts: at.minus(of(second).born.0) })
    })
}

/// What a machine does not know and should, or knows and should not.
fn unknown(record: &Record, viewer: MachineId, at: LabTime) -> impl Iterator<Item = Amiss> {
    let rows = record.of(viewer);
    let joined = rows.joined_by(at);
    record.cast.actors().filter_map(move |actor| {
        let it = &record.cast.actors[actor.index()];
        let knows = rows.knows(actor, at);
        match it.gone.filter(|(gone, _)| *gone <= at) {
            None if knows || !it.is_there(at) => None,
            None => overdue(at, joined.max(it.born.0)).map(|lasts| Amiss::Unseen { viewer, actor, lasts }),
            Some((gone, _)) if knows => overdue(at, gone).map(|lasts| Amiss::Lingers { viewer, actor, lasts }),
            Some(_) => None,
        }
    })
}

/// What a machine predicts and does not own.
fn two_movers(record: &Record, machine: MachineId, at: LabTime) -> impl Iterator<Item = Amiss> {
    record.of(machine).own.iter().filter_map(move |own| {
        let it = &record.cast.actors[own.actor.index()];
        let predicted = own.predicted.at(at).and_then(|i| own.predicted.head(i))?;
        if !it.is_there(at) || it.is_owned_by(machine, at) || at.minus(predicted.at) > LATELY {
            return None;
        }
        let lost = it.owners.iter().rev().find(|row| row.machine == machine && row.at <= at)?;
        overdue(at, lost.at).map(|lasts| Amiss::TwoMovers { machine, actor: own.actor, lasts })
    })
}

/// What a machine lately drew elsewhere than follows from what it was sent.
fn misdrawn(record: &Record, viewer: MachineId, at: LabTime) -> Vec<Amiss> {
    let rows = record.of(viewer);
    let mut all: BTreeMap<ActorId, Vec<Vec3>> = BTreeMap::new();
    let returns = |how| matches!(how, Some(Drawn::Returning | Drawn::ByRule));
    let drawn = |row: &OtherwiseRow| row.drawn().map(|drawn| drawn.how);
    let span = || rows.otherwise.span(at.minus(LATELY), at);
    // Who runs on by its rule, or is coming back from where it ran on to, is drawn beside what was sent on purpose, also where it then stands, or
    // runs dry again meanwhile.
    let back: BTreeSet<ActorId> = span().filter(|row| returns(drawn(row))).map(|row| row.actor).collect();
    let is_on_purpose = |row: &OtherwiseRow| {
        let is_past = matches!(drawn(row), Some(Drawn::Extrapolated | Drawn::Held));
        returns(drawn(row)) || is_past && back.contains(&row.actor)
    };
    for row in span().filter(|row| !is_on_purpose(row)) {
        if let Some(off) = record.off(viewer, row.actor, row.at) {
            all.entry(row.actor).or_default().push(off);
        }
    }
    let told = all.into_iter().filter_map(|(actor, offs)| {
        let most = offs.iter().copied().max_by(|a, b| a.dot(*a).total_cmp(&b.dot(*b)))?;
        let off_m = most.distance(Vec3::ZERO);
        let steady = offs.iter().all(|off| off.distance(most) < STEADY_M);
        (off_m > OFF_M).then_some(Amiss::Misdrawn { viewer, actor, off_m, steady })
    });
    told.collect()
}

/// What hands at rest lately pressed, of which no input says anything.
fn vanished(record: &Record, machine: MachineId, at: LabTime) -> Option<Amiss> {
    let rows = record.of(machine);
    let own = rows.own.iter().find(|own| record.cast.actors[own.actor.index()].is_owned_by(machine, at))?;
    let inputs = &own.inputs;
    let (from, joined) = (at.minus(PRESSED_LATELY), rows.joined_by(at));
    let pressed = rows.happenings.span(from, at.minus(SAMPLED_WITHIN)).filter(|row| match row.what {
        Happening::Pressed(_) => row.at.minus(SAMPLED_WITHIN) >= joined,
        _ => false,
    });
    let is_lost = |row: &HappeningRow| {
        let sampled = |from, to| inputs.rows().span(from, to).filter_map(|row| inputs.sampled(&row));
        // What was given before it: hands that rest say the same in each tick.
        let before = sampled(row.at.minus(SAMPLED_WITHIN), LabTime(row.at.0 - 1)).last();
        let mut since = sampled(row.at, row.at.plus(SAMPLED_WITHIN)).peekable();
        since.peek().is_some() && before.is_some_and(|before| since.all(|input| input == before))
    };
    let presses = pressed.filter(|row| is_lost(row)).count() as u32;
    (presses > 0).then_some(Amiss::Vanished { machine, actor: own.actor, presses })
}

/// How a machine lately took what it was told of its own, if that was wrong.
fn reconciled(record: &Record, machine: MachineId, at: LabTime) -> Option<Amiss> {
    if !record.cast.sends_inputs(machine) || !reconciles(record, machine, at) {
        return None;
    }
    let rows = record.of(machine);
    let own = rows.own.iter().find(|own| record.cast.actors[own.actor.index()].is_owned_by(machine, at))?;
    let (actor, from) = (own.actor, at.minus(RECONCILED_LATELY).max(rows.joined_by(at)));
    let corrections = rows.happenings.span(from, at).filter_map(|row| match row.what {
        Happening::Fact(Fact::Corrected(c)) if record.cast.actor(c.entity) == Some(actor) => Some((row.at, c)),
        _ => None,
    });
    let corrections: Vec<_> = corrections.collect();
    let early = corrections.iter().filter(|(at, c)| untimely(record, machine, *at, c).is_some()).count() as u32;
    if early >= ENOUGH {
        return Some(Amiss::Untimely { machine, actor, snapshots: early });
    }
    let (mut snapshots, mut off_m, mut newest) = (0, 0.0f32, RecordTick(0));
    let layout = record.layout(actor, RecordTick(u32::MAX));
    for received in rows.received.span(from, at) {
        // Of what was overtaken nothing is taken.
        if received.tick <= newest {
            continue;
        }
        newest = received.tick;
        let is_taken = corrections.iter().any(|(at, _)| *at == received.at);
        let authority = record.authority(actor);
        let Some(made) = authority.of_tick(received.tick) else { continue };
        let Some(used) = authority.head(made).and_then(|head| head.used()) else { continue };
        let off = apart((record, own), (used, made), received.at, layout.schema());
        if let Some(off) = off.filter(|_| !is_taken) {
            snapshots += 1;
            off_m = if off > off_m { off } else { off_m };
        }
    }
    (snapshots >= ENOUGH).then_some(Amiss::Kept { machine, actor, snapshots, off_m })
}

/// Whether a machine holds its predictions against snapshots, as it is set at a moment.
fn reconciles(record: &Record, machine: MachineId, at: LabTime) -> bool {
    let Some(player) = &record.cast.machines[machine.index()].player else { return false };
    let happenings = &record.of(machine).happenings;
    let turned = happenings.range(0, happenings.until(at)).rev().find_map(|row| match row.what {
        Happening::Command(Command::Set { knob: Knob::Reconciliation, value: KnobValue::Switch(on), .. }) => Some(on),
        _ => None,
    });
    turned.unwrap_or(player.knobs.settings.reconcile)
}

impl Amiss {
    /// What helps.
    pub fn remedy(&self) -> &'static str {
        self.fault().map_or("step physics a whole number of times in each tick", |fault| fault.remedy)
    }

    /// The fault of a machine that shows so; `None` where it is no machine's.
    pub fn fault(&self) -> Option<&'static FaultSpec> {
        let fault = match self {
            Self::OutOfStep { .. } => return None,
            Self::Unseen { .. } => Fault::Untold,
            Self::Lingers { .. } => Fault::Lingering,
            Self::Twin { .. } => Fault::Stranger,
            Self::TwoMovers { .. } => Fault::Clinging,
            Self::Misdrawn { steady: true, .. } => Fault::Misread,
            Self::Misdrawn { steady: false, .. } => Fault::Stale,
            Self::Vanished { .. } => Fault::Unlatched,
            Self::Untimely { .. } => Fault::Present,
            Self::Kept { .. } => Fault::OneDistance,
        };
        Some(fault.spec())
    }

    /// At which machine it shows.
    pub const fn machine(&self) -> MachineId {
        match self {
            Self::Unseen { viewer, .. } | Self::Lingers { viewer, .. } | Self::Misdrawn { viewer, .. } => *viewer,
            Self::Twin { machine, .. }
            | Self::TwoMovers { machine, .. }
            | Self::Vanished { machine, .. }
            | Self::Untimely { machine, .. }
            | Self::Kept { machine, .. } => *machine,
            Self::OutOfStep { .. } => MachineId::SERVER,
        }
    }

    /// What it is about.
    pub const fn actor(&self) -> ActorId {
        match self {
            Self::Unseen { actor, .. }
            | Self::Lingers { actor, .. }
            | Self::OutOfStep { actor, .. }
            | Self::TwoMovers { actor, .. }
            | Self::Misdrawn { actor, .. }
            | Self::Vanished { actor, .. }
            | Self::Untimely { actor, .. }
            | Self::Kept { actor, .. } => *actor,
            Self::Twin { actors, .. } => actors.1,
        }
    }

    /// In words.
    pub fn words(&self, record: &Record) -> String {
        let name = |actor: ActorId| record.cast.actors[actor.index()].name.as_str();
        let machine = |machine: MachineId| record.cast.name(machine);
        let seconds = |lasts: LabTime| format!("{:.0} s", lasts.secs());
        match *self {
            Self::Unseen { viewer, actor, lasts } => {
                format!(
                    "{} does not know of {}, though both are there for {}",
                    machine(viewer),
                    name(actor),
                    seconds(lasts)
                )
            }
            Self::Lingers { viewer, actor, lasts } => {
                format!("{} still sees {}, who is gone for {}", machine(viewer), name(actor), seconds(lasts))
            }
            Self::Twin { actors: (first, _), lasts, .. } => {
                format!("{} is there twice for {}: it came back as somebody else", name(first), seconds(lasts))
            }
            Self::TwoMovers { machine: m, actor, lasts } => {
                format!("{} moves {}, which it owns no longer for {}", machine(m), name(actor), seconds(lasts))
            }
            Self::Vanished { machine: m, presses, .. } => {
                let plural = if presses == 1 { "" } else { "es" };
                format!(
                    "{} pressed what no input says: {presses} press{plural} in {}",
                    machine(m),
                    seconds(PRESSED_LATELY)
                )
            }
            Self::OutOfStep { actor, hz } => format!(
                "{} moves unevenly: {hz:.0} steps of physics beat with {} ticks a second",
                name(actor),
                record.cast.rate.hz()
            ),
            Self::Untimely { machine: m, snapshots, .. } => format!(
                "{} took older states for ticks that the server had not made yet: {snapshots} times in {}",
                machine(m),
                seconds(RECONCILED_LATELY)
            ),
            Self::Kept { machine: m, snapshots, off_m, .. } => format!(
                "{} is up to {:.0} cm off what it was told of itself, and leaves it so: {snapshots} snapshots in {}",
                machine(m),
                off_m * 100.0,
                seconds(RECONCILED_LATELY)
            ),
            Self::Misdrawn { viewer, actor, off_m, steady } => {
                let off = if steady { "" } else { "up to " };
                let (viewer, actor) = (machine(viewer), name(actor));
                format!("{viewer} draws {actor} {off}{:.0} cm off from where what it was sent has it", off_m * 100.0)
            }
        }
    }
}
