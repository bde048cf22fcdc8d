//! Whether the accused did nothing but what its own ground and its own rule make of what it pressed, and these are not the server's.
//!
//! From the server's side an outdated ground and a cheat look the same; in the record they do not. The owner's ticks are stepped again,
//! one by one, with what its machine knew and what its hands pressed. If each comes to the very bits that it had, it made nothing of it
//! up. If with what the server knew some come out otherwise, that difference is what it was accused for: the one thing in which the
//! two differ that alone makes all of them come out as they did. What a rogue's machine makes of the truth is no excuse: the record
//! knows what it was told.

use velocitas_core::{Fact, Ground, Input, Scene, SolidId, State, checked_step};
use velocitas_record::ids::{MachineId, Part, RecordTick};
use velocitas_record::record::{OwnRows, Record};
use velocitas_record::watch::Happening;

use super::mind::Mind;
use crate::nearness::Accusation;

/// What an accusation comes from, where it does not come from its owner.
#[derive(Clone, Debug, PartialEq)]
pub enum Excuse {
    /// A solid that only one of both knows.
    Solid {
        /// Which.
        solid: SolidId,
        /// Whether the owner knows it; otherwise the server does.
        owner_knows: bool,
    },
    /// A tunable that is another at both.
    Tunable {
        /// Its name.
        name: &'static str,
        /// What it is at the owner.
        owner: f32,
        /// What it is at the server.
        server: f32,
    },
    /// Another rule.
    Rule,
    /// More than one of these at once.
    Several,
}

impl Excuse {
    /// In words.
    pub fn words(&self, record: &Record) -> String {
        match self {
            Self::Solid { solid, owner_knows } => {
                let name = record.cast.solid(*solid).map_or("something", |s| s.name.as_str());
                let whom = if *owner_knows {
                    "it knows, and the server does not"
                } else {
                    "the server knows, and it does not"
                };
                format!("lawful by what it knew: {name} {whom}")
            }
            Self::Tunable { name, owner, server } => {
                format!("lawful by what it knew: {name} is {owner} there, {server} at the server")
            }
            Self::Rule => "lawful by what it knew: its rule is another than the server's".to_owned(),
            Self::Several => {
                "lawful by what it knew, which differs from what the server knows in several things".to_owned()
            }
        }
    }
}

/// A tick of the owner: from where, with what, to where.
struct Step {
    tick: RecordTick,
    from: State,
    input: Input,
    to: State,
}

/// The excuse of the accused, if the record can prove one.
pub fn excuse(record: &Record, it: &Accusation) -> Option<Excuse> {
    let actor = record.cast.actor(it.verdict.entity)?;
    let kind = record.cast.actors[actor.index()].kind;
    let evidence = &it.verdict.evidence;
    let (from, to) = (record.cast.tick(evidence.from), record.cast.tick(evidence.to));
    let mind = |machine, part| Mind::of(&record.known(machine, part, to), kind);
    let (owner, server) = (mind(it.machine, Part::Client)?, mind(MachineId::SERVER, Part::Server)?);
    let candidates = differences(&owner, &server);
    if candidates.is_empty() {
        return None;
    }
    let at_owner = World::of(record, owner.clone());
    let steps = steps(record.of(it.machine).own(actor)?, &at_owner, (from, to), last_put(record, it));
    // The accused tick itself must be among them, and each must be its own.
    if steps.last().is_none_or(|last| last.tick != to) || !steps.iter().all(|step| at_owner.comes_out(step)) {
        return None;
    }
    let at_server = World::of(record, server.clone());
    let matter: Vec<&Step> = steps.iter().filter(|step| !at_server.comes_out(step)).collect();
    if matter.is_empty() {
        return None;
    }
    let explains = |candidate: &&Excuse| {
        let mut mind = server.clone();
        exchange(&mut mind, &owner, candidate);
        let world = World::of(record, mind);
        matter.iter().all(|step| world.comes_out(step))
    };
    Some(candidates.iter().find(explains).cloned().unwrap_or(Excuse::Several))
}

/// Where its owner was last put back before a verdict: what the server made of it then.
fn last_put(record: &Record, it: &Accusation) -> Option<State> {
    let rows = &record.of(it.machine).happenings;
    let mut puts = rows.range(0, rows.before(it.at)).filter_map(|row| match row.what {
        Happening::Fact(Fact::PulledBack { entity, tick, .. }) if entity == it.verdict.entity => Some(tick),
        _ => None,
    });
    let track = record.authority(record.cast.actor(it.verdict.entity)?);
    Some(track.state(track.of_tick(record.cast.tick(puts.next_back()?))?))
}

/// All in which two machines differ.
fn differences(owner: &Mind, server: &Mind) -> Vec<Excuse> {
    let solids = owner.solids.iter().zip(&server.solids).enumerate().filter(|(_, (a, b))| a != b);
    let mut all: Vec<Excuse> =
        solids.map(|(i, (knows, _))| Excuse::Solid { solid: SolidId(i as u16), owner_knows: *knows }).collect();
    if owner.version != server.version {
        all.push(Excuse::Rule);
    }
    let tunables = server.rule.tunables().iter().filter_map(|t| {
        let (a, b) = (owner.tunable(t.name)?, server.tunable(t.name)?);
        (a != b).then_some(Excuse::Tunable { name: t.name, owner: a, server: b })
    });
    all.extend(tunables);
    all
}

fn exchange(mind: &mut Mind, owner: &Mind, candidate: &Excuse) {
    match candidate {
        Excuse::Solid { solid, owner_knows } => mind.solids[usize::from(solid.0)] = *owner_knows,
        Excuse::Tunable { name, owner, .. } => mind.tune(name, *owner),
        Excuse::Rule => mind.take_rule(owner),
        Excuse::Several => {}
    }
}

/// The ticks that it played in a stretch: those that followed on the one before.
fn steps(own: &OwnRows, owner: &World<'_>, (first, to): (RecordTick, RecordTick), put: Option<State>) -> Vec<Step> {
    let state = |tick: RecordTick| own.predicted.of_tick(tick).map(|at| own.predicted.state(at));
    let sampled = |tick: RecordTick| own.inputs.of_tick(tick).and_then(|row| own.inputs.sampled(&row));
    let mut steps: Vec<Step> = Vec::new();
    for tick in (first.0 + 1..=to.0).map(RecordTick) {
        let before = RecordTick(tick.0 - 1);
        let (Some(from), Some(to)) = (state(before), state(tick)) else { continue };
        let (Some(was), Some(now)) = (sampled(before), sampled(tick)) else { continue };
        let mut step = Step { tick, from, input: owner.mind.rule.schema().presses_since(&now, &was), to };
        if !owner.comes_out(&step)
            && let Some(put) = put
        {
            // Where it was put back meanwhile, it went on from there.
            step.from = put;
        }
        steps.push(step);
    }
    steps
}

/// What a machine knows, ready to step in.
struct World<'a> {
    record: &'a Record,
    mind: Mind,
    ground: Ground,
}

impl<'a> World<'a> {
    fn of(record: &'a Record, mind: Mind) -> Self {
        let ground = record.cast.world.ground_of(&mind.solids);
        Self { record, mind, ground }
    }

    /// Whether a tick comes to the very bits that it had.
    fn comes_out(&self, step: &Step) -> bool {
        let cast = &self.record.cast;
        let tick = step.tick.tick(cast.first);
        let scene = Scene { tick, dt: cast.rate.dt(), ground: &self.ground, tunables: &self.mind.tunables };
        checked_step(&*self.mind.rule, &scene, &step.from, &step.input).is_ok_and(|made| made.state == step.to)
    }
}
