//! What a guard measured and wrote down since it was last asked.

use crate::tick::{Rate, Tick};
use crate::verdict::{Evidence, Path, RULES};

/// What was found not to be lawful, and where.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(in crate::server) struct Offence {
    pub(in crate::server) evidence: Evidence,
    /// What was claimed; empty where it is not of places.
    pub(in crate::server) path: Path,
}

impl From<Evidence> for Offence {
    fn from(evidence: Evidence) -> Self {
        Self { evidence, path: Path::default() }
    }
}

/// Of one owner.
#[derive(Clone, Debug, Default)]
pub(super) struct Docket {
    measures: Vec<Evidence>,
    notes: Vec<Offence>,
    /// Of each rule the tick in which it was last noted: once a second is enough.
    noted: [Option<Tick>; RULES.len()],
}

impl Docket {
    /// Something was measured, lawful or not: kept beside what the rule says, however much of that is allowed.
    pub(super) fn measured(&mut self, evidence: Evidence) {
        self.measures.push(evidence.allowing(1.0));
    }

    /// Something is written down and no more, unless it was within the last second.
    pub(super) fn note(&mut self, offence: Offence, rate: Rate) {
        let evidence = &offence.evidence;
        let last = &mut self.noted[evidence.rule as usize];
        if last.is_none_or(|last| evidence.to.since(last) >= i64::from(rate.hz())) {
            *last = Some(evidence.to);
            self.notes.push(offence);
        }
    }

    /// What was measured; each is handed out once.
    pub(super) fn measures(&mut self) -> std::vec::Drain<'_, Evidence> {
        self.measures.drain(..)
    }

    /// What was noted; each is handed out once.
    pub(super) fn notes(&mut self) -> std::vec::Drain<'_, Offence> {
        self.notes.drain(..)
    }
}
