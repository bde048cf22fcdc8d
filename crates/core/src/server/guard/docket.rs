//! What a guard measured and wrote down since it was last asked.

use crate::tick::{Rate, Tick};
use crate::verdict::{Evidence, RULES};

/// Of one owner.
#[derive(Clone, Debug, Default)]
pub(super) struct Docket {
    measures: Vec<Evidence>,
    notes: Vec<Evidence>,
    /// Of each rule the tick in which it was last noted: once a second is enough.
    noted: [Option<Tick>; RULES.len()],
}

impl Docket {
    /// Something was measured, lawful or not.
    pub(super) fn measured(&mut self, evidence: Evidence) {
        self.measures.push(evidence);
    }

    /// Something is written down and no more, unless it was within the last second.
    pub(super) fn note(&mut self, evidence: Evidence, rate: Rate) {
        let last = &mut self.noted[evidence.rule as usize];
        if last.is_none_or(|last| evidence.to.since(last) >= i64::from(rate.hz())) {
            *last = Some(evidence.to);
            self.notes.push(evidence);
        }
    }

    /// What was measured; each is handed out once.
    pub(super) fn measures(&mut self) -> std::vec::Drain<'_, Evidence> {
        self.measures.drain(..)
    }

    /// What was noted; each is handed out once.
    pub(super) fn notes(&mut self) -> std::vec::Drain<'_, Evidence> {
        self.notes.drain(..)
    }
}
