//! What stirred in a run, and what did not: where nothing happened, nothing was proven.
//!
//! Followed while a run goes on. Once all that a rule has has stirred it is not looked at any more, so following costs next to
//! nothing.

use velocitas_core::{Input, Shape, State, StateField};

use velocitas_record::ids::{ActorId, MachineId};
use velocitas_record::record::Record;
use velocitas_record::time::LabTime;

/// What moved less has not moved.
const MOVED_M: f32 = 0.01;
/// Who was there for less time is not expected to do anything.
const THERE: LabTime = LabTime(5_000_000_000);
/// In a shorter run nothing is expected of inputs and fields.
const LONG_ENOUGH: LabTime = LabTime(10_000_000_000);

/// What has stirred so far.
#[derive(Clone, Debug, Default)]
pub struct Stirs {
    to: LabTime,
    /// Of each entity, how it was first, and whether it has moved from there.
    moved: Vec<(Option<State>, bool)>,
    /// Of each rule, the lanes of a state that were ever otherwise than at first in the same entity.
    states: Vec<u32>,
    /// Of each rule, whether any input was given, and the lanes that were ever otherwise than at rest.
    inputs: Vec<(bool, u16)>,
}

impl Stirs {
    /// Follows a record on to a moment.
    pub fn follow(&mut self, record: &Record, to: LabTime) {
        if to <= self.to {
            return;
        }
        let kinds = record.cast.kinds().iter().count();
        self.moved.resize(record.cast.actors.len(), (None, false));
        self.states.resize(kinds, 0);
        self.inputs.resize(kinds, (false, 0));
        for actor in record.cast.actors() {
            self.follow_states(record, actor, to);
        }
        for machine in record.cast.players() {
            self.follow_inputs(record, machine, to);
        }
        self.to = to;
    }

    fn follow_states(&mut self, record: &Record, actor: ActorId, to: LabTime) {
        let track = record.authority(actor);
        let kind = usize::from(record.cast.actors[actor.index()].kind);
        let (first, moved) = &mut self.moved[actor.index()];
        let lanes = &mut self.states[kind];
        let wanted = lanes_of(record, kind);
        for i in track.between(self.to.plus(LabTime(1)), to) {
            if *moved && *lanes & wanted == wanted {
                return;
            }
            let state = track.state(i);
            let first = first.get_or_insert(state);
            *moved |= first.vec3(0).distance(state.vec3(0)) >= MOVED_M;
            for (lane, (a, b)) in first.bits().iter().zip(state.bits()).enumerate() {
                *lanes |= u32::from(a != b) << lane;
            }
        }
    }

    fn follow_inputs(&mut self, record: &Record, machine: MachineId, to: LabTime) {
        for own in &record.of(machine).own {
            let kind = record.cast.actors[own.actor.index()].kind;
            let (any, lanes) = &mut self.inputs[usize::from(kind)];
            let fields = &record.cast.kinds().motion(kind).schema().input;
            if fields.iter().all(|f| *lanes & 1 << f.lane != 0) {
                continue;
            }
            for row in own.inputs.rows().span(self.to.plus(LabTime(1)), to) {
                let Some(input) = own.inputs.sampled(&row) else { continue };
                *any = true;
                for (lane, (a, b)) in Input::default().bits().iter().zip(input.bits()).enumerate() {
                    *lanes |= u16::from(a != b) << lane;
                }
            }
        }
    }

    /// What has not stirred, in words.
    pub fn still(&self, record: &Record) -> Vec<String> {
        let mut still = Vec::new();
        for (actor, (first, moved)) in record.cast.actors().zip(&self.moved) {
            let it = &record.cast.actors[actor.index()];
            let until = it.gone.map_or(self.to, |(gone, _)| gone.min(self.to));
            if it.came_with.is_some() && first.is_some() && !moved && until.minus(it.born.0) >= THERE {
                still.push(format!("{} never moved", it.name));
            }
        }
        if self.to < LONG_ENOUGH {
            return still;
        }
        for ((kind, rule), ((given, lanes), changed)) in
            record.cast.kinds().iter().zip(self.inputs.iter().zip(&self.states))
        {
            let is_played = record.cast.actors.iter().any(|a| a.kind == kind && a.came_with.is_some());
            if !is_played {
                continue;
            }
            for f in rule.schema().input.iter().filter(|_| *given) {
                if (f.lane..f.lane + f.kind.lanes()).all(|lane| lanes & 1 << lane == 0) {
                    still.push(format!("input `{}` of {} was never given", f.name, rule.name()));
                }
            }
            // Whether it stands is kept for a rule by its slide: who never leaves the ground is told of by inputs.
            let kept = |f: &&StateField| f.shape == Shape::Flag && f.name == "grounded";
            for f in rule.schema().state.iter().filter(|f| !kept(f)) {
                if (f.lane..f.lane + f.shape.lanes()).all(|lane| changed & 1 << lane == 0) {
                    still.push(format!("field `{}` of {} never changed", f.name, rule.name()));
                }
            }
        }
        still
    }
}

/// The first lane of each field of a rule's states: when all of these have changed there is nothing more to see.
fn lanes_of(record: &Record, kind: usize) -> u32 {
    let rule = record.cast.kinds().motion(kind as u8);
    rule.schema().state.iter().fold(0, |lanes, f| lanes | 1 << f.lane)
}
