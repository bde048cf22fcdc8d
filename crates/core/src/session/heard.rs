//! What was said before, which what is said now may rest on.

use std::fmt;

use crate::data::{Input, State};
use crate::ids::EntityId;
use crate::tick::Tick;

/// What one side has said, or the other has heard, of the entities whose inputs and accounts travel.
pub trait Heard: fmt::Debug {
    /// The input of an entity for a tick, as it travelled.
    fn input(&self, entity: EntityId, tick: Tick) -> Option<Input>;

    /// The state that was accounted for at a tick, exactly.
    fn state(&self, entity: EntityId, tick: Tick) -> Option<State>;

    /// How many seconds a tick takes.
    fn dt(&self) -> f32;
}
