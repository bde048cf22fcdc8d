//! Trying a rule by itself: how it feels at several tick rates, and whether anybody can make it exceed its limits.
//!
//! - [`feel`] gives the figures a player notices: time to top speed, stopping distance, height of a jump.
//! - [`attack`] searches for inputs that lead beyond the declared limits. It is a search with a seed and a bound: what
//!   it does not find may still be there.
//! - [`walk`] runs a [`Track`](velocitas_lab::track::Track).
//! - [`breach`] tries a course's guard: how far each cheat gets. [`crafty`] searches for mixtures of them that get further.

mod attack;
pub mod breach;
pub mod crafty;
mod feel;
#[doc(hidden)]
pub mod fuzz;
mod grounds;
mod missing;
mod pressed;
mod search;
mod walk;

pub use attack::{Direction, Envelope, Found, WINDOWS, attack};
pub use feel::{Feel, RATES, feel};
pub use grounds::{GROUNDS, TestGround};
pub use missing::{Missing, missing};
pub use pressed::{Guarded, nearest_of};
pub use search::Attack;
pub use walk::{Walked, walk};

use velocitas_core::{Ground, Input, Motion, Rate, Scene, State, Tick, checked_step};

/// One entity of a rule on a ground, stepped by hand.
pub(crate) struct Stepper<'a> {
    rule: &'a dyn Motion,
    ground: &'a Ground,
    tunables: &'a [f32],
    dt: f32,
    tick: Tick,
    pub(crate) state: State,
    /// Steps that came out non-finite.
    pub(crate) faults: u32,
    /// Lanes that were ever otherwise than at the beginning.
    pub(crate) changed: u32,
}

impl<'a> Stepper<'a> {
    pub(crate) fn new(rule: &'a dyn Motion, ground: &'a Ground, tunables: &'a [f32], rate: Rate, state: State) -> Self {
        Self { rule, ground, tunables, dt: rate.dt(), tick: Tick(0), state, faults: 0, changed: 0 }
    }

    /// One tick with an input as the wire would carry it.
    pub(crate) fn step(&mut self, input: &Input) {
        self.tick = self.tick.next();
        let scene = Scene { tick: self.tick, dt: self.dt, ground: self.ground, tunables: self.tunables };
        match checked_step(self.rule, &scene, &self.state, &self.rule.schema().round_input(input)) {
            Ok(step) => {
                for (lane, (a, b)) in self.state.bits().iter().zip(step.state.bits()).enumerate() {
                    self.changed |= u32::from(a != b) << lane;
                }
                self.state = step.state;
            }
            Err(_) => self.faults += 1,
        }
    }
}

/// A rule's tunables as it declares them.
pub fn defaults(rule: &dyn Motion) -> Vec<f32> {
    rule.tunables().iter().map(|t| t.default).collect()
}
