//! What was found, kept beside the record for whoever asks again.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use velocitas_core::{Correction, EntityId, Tick};
use velocitas_record::ids::MachineId;
use velocitas_record::record::Record;
use velocitas_record::time::LabTime;

use super::mind::Minds;
use super::{Finding, find};

/// By when, where, of which entity, at which tick.
type Key = (LabTime, MachineId, EntityId, Tick);

/// What was found so far. Who takes a copy of the record looks for itself.
#[derive(Debug, Default)]
pub struct Findings {
    found: Mutex<BTreeMap<Key, Arc<Finding>>>,
    minds: Minds,
}

impl Clone for Findings {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl Findings {
    /// The same, for a copy of the record that stays what it is.
    pub fn same(&self) -> Self {
        let found = self.found.lock().unwrap_or_else(PoisonError::into_inner).clone();
        Self { found: Mutex::new(found), minds: Minds::default() }
    }

    /// What lies behind a correction, looked for unless it was.
    pub fn of(&self, record: &Record, machine: MachineId, at: LabTime, c: &Correction) -> Arc<Finding> {
        let key = (at, machine, c.entity, c.tick);
        // Whoever panicked while holding it left whole entries.
        if let Some(found) = self.found.lock().unwrap_or_else(PoisonError::into_inner).get(&key) {
            return found.clone();
        }
        let found = Arc::new(find(record, &self.minds, (machine, at), c));
        self.found.lock().unwrap_or_else(PoisonError::into_inner).insert(key, found.clone());
        found
    }

    /// What came after a moment is no more.
    pub fn truncate(&mut self, at: LabTime) {
        let found = self.found.get_mut().unwrap_or_else(PoisonError::into_inner);
        found.retain(|(when, ..), _| *when <= at);
    }

    /// What came before a moment is no longer asked for.
    pub fn forget(&mut self, before: LabTime) {
        let found = self.found.get_mut().unwrap_or_else(PoisonError::into_inner);
        found.retain(|(when, ..), _| *when >= before);
    }
}

/// A record, with what was found behind its corrections.
#[derive(Clone, Copy, Debug)]
pub struct Found<'a> {
    /// The record.
    pub record: &'a Record,
    /// What was found so far.
    pub findings: &'a Findings,
}

impl Found<'_> {
    /// What lies behind a correction that a machine made at a moment, found by trying. It is looked for once.
    pub fn finding(&self, machine: MachineId, at: LabTime, correction: &Correction) -> Arc<Finding> {
        self.findings.of(self.record, machine, at, correction)
    }
}
