//! A tick of an entity, as some machine made it.

use crate::data::{Input, State};
use crate::ground::Contacts;
use crate::ids::EntityId;
use crate::tick::Tick;

/// How a state came about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Made {
    /// By the authority.
    Authority,
    /// By an owner, for the first time.
    Predicted,
    /// By an owner, again.
    Rewritten,
    /// By the authority for others, after what it has itself: told where the two differ.
    Echo,
}

/// A tick of an entity.
#[derive(Clone, Copy, Debug)]
pub struct StateEvent<'a> {
    /// Which.
    pub entity: EntityId,
    /// The tick.
    pub tick: Tick,
    /// The newest of its owner's ticks that the state includes; `None` where nobody owns it or nothing was heard yet.
    pub used: Option<Tick>,
    /// How it came about.
    pub made: Made,
    /// The state at the end of the tick.
    pub state: &'a State,
    /// With which input, where one was read.
    pub input: Option<&'a Input>,
    /// What it touched.
    pub contacts: &'a Contacts,
    /// Whether it was put there otherwise than by its rule.
    pub teleported: bool,
}
