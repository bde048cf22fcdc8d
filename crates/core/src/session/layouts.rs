//! How the lanes of a tick travel.

use super::heard::Heard;
use super::kinds::Kinds;
use super::timeline::Timeline;
use crate::data::{Input, State};
use crate::ids::EntityId;
use crate::plan::Plan;
use crate::schema::Schema;
use crate::tick::{Tick, WireTick};
use crate::wire::{Rests, WireError};

/// An entity with an owner, and its rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Owned {
    /// Which.
    pub entity: EntityId,
    /// The number of its rule.
    pub kind: u8,
}

/// How the lanes of a tick travel, on a machine whose rules may change between two ticks.
///
/// Both ends change their rules at the same tick, so a message is read with the layout of the tick it is about,
/// whenever it arrives.
#[derive(Clone, Copy, Debug)]
pub struct Layouts<'a> {
    timeline: &'a Timeline,
    near: Option<Tick>,
    owned: &'a [Owned],
    heard: Option<&'a dyn Heard>,
}

impl<'a> Layouts<'a> {
    /// Layouts of ticks around `near`, or the latest whatever the tick; `owned` are the entities whose inputs and claims
    /// travel on this connection.
    pub const fn new(timeline: &'a Timeline, near: Option<Tick>, owned: &'a [Owned]) -> Self {
        Self { timeline, near, owned, heard: None }
    }

    /// With what was said before.
    #[must_use]
    pub const fn hearing(self, heard: &'a dyn Heard) -> Self {
        Self { heard: Some(heard), ..self }
    }

    /// The tick that is meant by one as it travels.
    ///
    /// # Errors
    /// Where it is too far from now.
    pub(crate) fn tick(&self, tick: WireTick) -> Result<Tick, WireError> {
        Ok(tick.unwrap_near(self.near.unwrap_or_default())?)
    }

    /// The rules in force at a tick.
    pub fn kinds(&self, tick: WireTick) -> &'a Kinds {
        let tick = self.near.and_then(|near| tick.unwrap_near(near).ok());
        &tick.map_or_else(|| self.timeline.latest(), |tick| self.timeline.at(tick)).kinds
    }

    /// The kind of an entity whose inputs and claims travel; `None` for any other.
    pub fn kind(&self, entity: EntityId) -> Option<u8> {
        self.owned.iter().find(|o| o.entity == entity).map(|o| o.kind)
    }

    /// How the lanes of an entity travel at a tick whose inputs and claims travel.
    ///
    /// # Errors
    /// Where they do not.
    pub(crate) fn plan_for(&self, entity: EntityId, tick: WireTick) -> Result<&'a Plan, WireError> {
        self.kind(entity).map(|kind| self.plan(kind, tick)).ok_or(WireError::NotOwned(entity))
    }

    /// How the lanes of a kind travel at a tick.
    pub fn plan(&self, kind: u8, tick: WireTick) -> &'a Plan {
        self.kinds(tick).plan(kind)
    }

    /// The schema of a kind at a tick.
    pub fn schema(&self, kind: u8, tick: WireTick) -> &'a Schema {
        self.kinds(tick).motion(kind).schema()
    }
}

impl<'a> Rests<'a> for Layouts<'a> {
    fn plan(&self, entity: EntityId, tick: WireTick) -> Result<&'a Plan, WireError> {
        self.plan_for(entity, tick)
    }

    fn input(&self, entity: EntityId, tick: WireTick) -> Result<Input, WireError> {
        let tick = self.tick(tick)?;
        self.heard.and_then(|heard| heard.input(entity, tick)).ok_or(WireError::Baseline(entity.index))
    }

    fn state(&self, entity: EntityId, tick: WireTick) -> Result<State, WireError> {
        let tick = self.tick(tick)?;
        self.heard.and_then(|heard| heard.state(entity, tick)).ok_or(WireError::Baseline(entity.index))
    }

    fn dt(&self) -> f32 {
        self.heard.map_or(0.0, Heard::dt)
    }
}
