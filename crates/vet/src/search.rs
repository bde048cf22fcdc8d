//! What searches for inputs have in common: what is tried, and what comes of it.

use velocitas_core::{Ground, Input, Motion, Rate, State, vec3};
use velocitas_lab::track::Track;

use crate::Stepper;
use crate::grounds::GROUNDS;

/// How hard to search.
#[derive(Clone, Copy, Debug)]
pub struct Attack {
    /// All luck comes from it.
    pub seed: u64,
    /// Starts for each direction and window.
    pub restarts: u32,
    /// Changes tried after each start.
    pub climbs: u32,
}

impl Attack {
    /// About a second on an ordinary machine.
    pub const USUAL: Self = Self { seed: 1, restarts: 9, climbs: 60 };
}

/// Inputs tried, and where.
#[derive(Clone)]
pub(super) struct Attempt {
    pub(super) ground: usize,
    /// Metres above the floor.
    pub(super) height: f32,
    pub(super) rate: Rate,
    pub(super) inputs: Vec<Input>,
}

/// What is searched, and what came up on the way.
pub(super) struct Search<'a> {
    pub(super) rule: &'a dyn Motion,
    pub(super) tunables: &'a [f32],
    pub(super) grounds: &'a [Ground],
    /// Ticks simulated.
    pub(super) ticks: u64,
    /// Steps that came out non-finite.
    pub(super) faults: u64,
    /// Lanes that were ever otherwise than at the beginning.
    pub(super) changed: u32,
}

impl<'a> Search<'a> {
    pub(super) const fn new(rule: &'a dyn Motion, tunables: &'a [f32], grounds: &'a [Ground]) -> Self {
        Self { rule, tunables, grounds, ticks: 0, faults: 0, changed: 0 }
    }

    /// The states that inputs lead through, the first included.
    pub(super) fn states(&mut self, attempt: &Attempt) -> Vec<State> {
        let begin: State = self.rule.spawn(vec3(0.0, 0.0, attempt.height), 0.0);
        let mut trial = Stepper::new(self.rule, &self.grounds[attempt.ground], self.tunables, attempt.rate, begin);
        let path = std::iter::once(begin)
            .chain(attempt.inputs.iter().map(|input| {
                trial.step(input);
                trial.state
            }))
            .collect();
        self.ticks += attempt.inputs.len() as u64;
        self.faults += u64::from(trial.faults);
        self.changed |= trial.changed;
        path
    }

    /// Inputs as a track, with what is to be said of them.
    pub(super) fn track(&self, about: String, attempt: &Attempt) -> Track {
        Track {
            from: [0.0, 0.0, attempt.height],
            ground: GROUNDS[attempt.ground].name.to_owned(),
            about,
            ..Track::of_ticks(self.rule, attempt.rate, &attempt.inputs)
        }
    }
}
