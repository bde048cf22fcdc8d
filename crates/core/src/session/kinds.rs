//! The rules of a session by number.

use std::fmt;
use std::sync::Arc;

use crate::motion::Motion;
use crate::schema::SchemaError;

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

    /// This table with another rule of a kind.
    ///
    /// # Errors
    /// When there is no such kind or the rule's schema cannot be used.
    pub fn with(&self, kind: u8, rule: Arc<dyn Motion>) -> Result<Self, (&'static str, SchemaError)> {
        let mut all = self.0.to_vec();
        if let Some(place) = all.get_mut(usize::from(kind)) {
            *place = rule;
        }
        Self::new(all)
    }

    /// For each kind the tunables it has unless told otherwise.
    pub fn defaults(&self) -> Vec<Vec<f32>> {
        self.iter().map(|(_, m)| m.tunables().iter().map(|t| t.default).collect()).collect()
    }

    /// All rules with their numbers.
    pub fn iter(&self) -> impl Iterator<Item = (u8, &dyn Motion)> {
        self.0.iter().enumerate().map(|(i, m)| (i as u8, &**m))
    }
}
