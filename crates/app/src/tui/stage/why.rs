//! What was found so far of why a stretch is bad.

use std::sync::Arc;

use velocitas_analysis::trouble::Trouble;
use velocitas_lab::Run;
use velocitas_lab::diagnose::{Case, HELPS, Remedy, Tried};
use velocitas_record::{LabTime, MemberId};

use crate::tui::job::Job;

/// What was found so far.
pub(in crate::tui) struct Why {
    pub(in crate::tui) member: MemberId,
    pub(in crate::tui) stretch: (LabTime, LabTime),
    /// The run, gone on to the end of the stretch, where that lies ahead.
    pub(in crate::tui) ahead: Option<Box<Run>>,
    pub(in crate::tui) troubles: Vec<Trouble>,
    /// Which of them.
    pub(in crate::tui) chosen: usize,
    pub(in crate::tui) case: Option<Arc<Case>>,
    pub(in crate::tui) tried: Vec<Tried>,
    /// The row that keys act on.
    pub(in crate::tui) row: usize,
    pub(in crate::tui) job: Option<Job<Box<Tried>>>,
    /// How many are to be tried, and whether two at a time were.
    pub(in crate::tui) all: usize,
    pub(in crate::tui) paired: bool,
    pub(in crate::tui) wrong: Option<String>,
}

impl Why {
    /// What is worth a row.
    pub(in crate::tui) fn rows(&self) -> Vec<&Tried> {
        self.tried.iter().filter(|t| t.left < HELPS).collect()
    }

    /// Tries the best of what was tried two at a time.
    pub(in crate::tui) fn try_pairs(&mut self) {
        let pairs = self.case.as_ref().map_or_else(Vec::new, |case| case.pairs(&self.tried));
        self.paired = true;
        self.try_all(pairs);
    }

    pub(in crate::tui) fn is_over(&self) -> bool {
        self.job.as_ref().is_none_or(Job::is_over)
    }

    pub(in crate::tui) fn try_all(&mut self, remedies: Vec<Remedy>) {
        let Some(case) = self.case.clone() else { return };
        self.all += remedies.len();
        self.job = Some(Job::begin(move |teller| {
            for remedy in remedies {
                if !teller.tell(Box::new(case.try_out(&remedy))) {
                    return;
                }
            }
        }));
    }
}
