//! The rules of a session by number.

use std::fmt;
use std::sync::Arc;

use super::print::{KindPrint, prints};
use crate::motion::Motion;
use crate::plan::Plan;
use crate::schema::{MOST_KINDS, SchemaError};

/// The kinds of entity in a session, by number. Cheap to clone.
#[derive(Clone)]
pub struct Kinds {
    rules: Arc<[Arc<dyn Motion>]>,
    plans: Arc<[Plan]>,
    prints: Arc<[KindPrint]>,
}

impl fmt::Debug for Kinds {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.rules.iter().map(|m| m.name())).finish()
    }
}

impl Kinds {
    /// A table of at most [`MOST_KINDS`] rules.
    ///
    /// # Errors
    /// When a rule's schema cannot be used, or it is one too many; the name says whose.
    pub fn new(motions: Vec<Arc<dyn Motion>>) -> Result<Self, (&'static str, SchemaError)> {
        if let Some(motion) = motions.get(MOST_KINDS) {
            return Err((motion.name(), SchemaError::TooManyKinds));
        }
        for motion in &motions {
            motion.schema().check().map_err(|e| (motion.name(), e))?;
        }
        let prints = prints(&motions);
        let plans = motions.iter().map(|motion| Plan::of(motion.schema())).collect();
        Ok(Self { rules: motions.into(), plans, prints })
    }

    /// For each rule its fingerprint.
    pub fn prints(&self) -> &[KindPrint] {
        &self.prints
    }

    /// The rule of a kind, if there is one.
    pub fn get(&self, kind: u8) -> Option<&dyn Motion> {
        self.rules.get(usize::from(kind)).map(|m| &**m)
    }

    /// The rule of a kind known to exist.
    ///
    /// # Panics
    /// When it does not: entities are only ever made with a kind of this table.
    pub fn motion(&self, kind: u8) -> &dyn Motion {
        &*self.rules[usize::from(kind)]
    }

    /// How the lanes of a kind known to exist travel and are drawn.
    ///
    /// # Panics
    /// As [`motion`](Self::motion).
    pub fn plan(&self, kind: u8) -> &Plan {
        &self.plans[usize::from(kind)]
    }

    /// The same, if there is such a kind.
    pub fn plan_of(&self, kind: u8) -> Option<&Plan> {
        self.plans.get(usize::from(kind))
    }

    /// The rule of a kind, to be shared.
    pub fn shared(&self, kind: u8) -> Option<&Arc<dyn Motion>> {
        self.rules.get(usize::from(kind))
    }

    /// This table with another rule of a kind.
    ///
    /// # Errors
    /// When there is no such kind or the rule's schema cannot be used.
    pub fn with(&self, kind: u8, rule: Arc<dyn Motion>) -> Result<Self, (&'static str, SchemaError)> {
        let mut all = self.rules.to_vec();
        if let Some(place) = all.get_mut(usize::from(kind)) {
            *place = rule;
        }
        Self::new(all)
    }

    /// For each kind its default tunables.
    pub fn defaults(&self) -> Vec<Vec<f32>> {
        self.iter().map(|(_, m)| m.tunables().iter().map(|t| t.default).collect()).collect()
    }

    /// All rules with their numbers.
    pub fn iter(&self) -> impl Iterator<Item = (u8, &dyn Motion)> {
        self.rules.iter().enumerate().map(|(i, m)| (i as u8, &**m))
    }
}
