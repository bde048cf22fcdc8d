//! What both ends of a session have agreed on before the first datagram, and what each machine knows of the world.

use std::fmt;
use std::sync::Arc;

use crate::ground::Ground;
use crate::motion::{Motion, Scene};
use crate::schema::SchemaError;
use crate::tick::Tick;

/// The kinds of entity in a session, by number. Cheap to clone.
#[derive(Clone)]
pub struct Kinds(Arc<[Arc<dyn Motion>]>);

impl fmt::Debug for Kinds {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.0.iter().map(|m| m.name())).finish()
    }
}

impl Kinds {
    /// A table of at most 255 rules.
    ///
    /// # Errors
    /// When a rule's schema cannot be used; the name says whose.
    pub fn new(motions: Vec<Arc<dyn Motion>>) -> Result<Self, (&'static str, SchemaError)> {
        debug_assert!(motions.len() <= 255);
        for motion in &motions {
            motion.schema().check().map_err(|e| (motion.name(), e))?;
        }
        Ok(Self(motions.into()))
    }

    /// The rule of a kind, if there is one.
    pub fn get(&self, kind: u8) -> Option<&dyn Motion> {
        self.0.get(usize::from(kind)).map(|m| &**m)
    }

    /// The rule of a kind known to exist.
    ///
    /// # Panics
    /// When it does not: entities are only ever made with a kind of this table.
    pub fn motion(&self, kind: u8) -> &dyn Motion {
        &*self.0[usize::from(kind)]
    }

    /// All rules with their numbers.
    pub fn iter(&self) -> impl Iterator<Item = (u8, &dyn Motion)> {
        self.0.iter().enumerate().map(|(i, m)| (i as u8, &**m))
    }
}

/// The ground and the tunables of each kind, as one machine knows them.
#[derive(Clone, Debug)]
pub struct Ingredients {
    /// The world.
    pub ground: Arc<Ground>,
    /// For each kind its tunables.
    pub tunables: Arc<[Vec<f32>]>,
}

impl Ingredients {
    /// This ground and every kind's default tunables.
    pub fn new(ground: Arc<Ground>, kinds: &Kinds) -> Self {
        let tunables = kinds.iter().map(|(_, m)| m.tunables().iter().map(|t| t.default).collect()).collect();
        Self { ground, tunables }
    }

    /// What a step of `kind` looks at.
    pub fn scene(&self, tick: Tick, dt: f32, kind: u8) -> Scene<'_> {
        Scene { tick, dt, ground: &self.ground, tunables: &self.tunables[usize::from(kind)] }
    }
}

/// What a machine knew, from which tick on: a replay of tick t uses what held at t.
#[derive(Clone, Debug)]
pub struct Timeline {
    changes: Vec<(Tick, Ingredients)>,
}

/// Changes remembered; older ones are merged into the first. Replays reach back a few seconds at most.
const MOST_CHANGES: usize = 64;

impl Timeline {
    /// The same since ever.
    pub fn new(ingredients: Ingredients) -> Self {
        Self { changes: vec![(Tick(0), ingredients)] }
    }

    /// From `tick` on, this holds instead. What was to change at or after `tick` is forgotten.
    pub fn change(&mut self, tick: Tick, ingredients: Ingredients) {
        self.changes.retain(|(from, _)| *from < tick || *from == Tick(0) && tick > Tick(0));
        self.changes.push((tick, ingredients));
        if self.changes.len() > MOST_CHANGES {
            self.changes.remove(0);
            self.changes[0].0 = Tick(0);
        }
    }

    /// What holds at `tick`.
    pub fn at(&self, tick: Tick) -> &Ingredients {
        let index = self.changes.iter().rposition(|(from, _)| *from <= tick).unwrap_or(0);
        &self.changes[index].1
    }

    /// What holds last.
    pub fn latest(&self) -> &Ingredients {
        &self.changes[self.changes.len() - 1].1
    }
}
