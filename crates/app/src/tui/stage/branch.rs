//! A branch: another present that left the run at a moment with something otherwise in it.

use velocitas_analysis::moment::{Figures, Moment};
use velocitas_lab::Run;
use velocitas_lab::diagnose::Remedy;
use velocitas_record::{LabTime, MemberId};

use crate::tui::job::Job;

/// What there is of branches.
#[derive(Default)]
pub(in crate::tui) struct Branching {
    /// A change that Enter would begin one with.
    pub(in crate::tui) offered: Option<Offer>,
    /// The one there is.
    pub(in crate::tui) branch: Option<Branch>,
}

/// A change that was asked for while looking back, until Enter begins a branch with it.
pub(in crate::tui) struct Offer {
    pub(in crate::tui) change: Remedy,
}

/// What a branch tells while it runs.
pub(in crate::tui) enum Told {
    To(LabTime),
    Done(Box<Run>),
}

/// A branch.
pub(in crate::tui) struct Branch {
    /// Where it left the run, and how far it goes.
    pub(in crate::tui) from: LabTime,
    pub(in crate::tui) to: LabTime,
    /// What is otherwise in it.
    pub(in crate::tui) words: String,
    /// How far it is.
    pub(in crate::tui) reached: LabTime,
    pub(in crate::tui) run: Option<Box<Run>>,
    pub(in crate::tui) job: Job<Told>,
    /// The figures of the selected member in it at the moment looked at.
    pub(in crate::tui) figures: Option<(LabTime, MemberId, Figures)>,
}

impl Branch {
    /// Its run, once it is there, where it differs at a moment from the one it left.
    pub(in crate::tui) fn at(&self, at: LabTime) -> Option<Moment<'_>> {
        let run = self.run.as_ref()?;
        (at >= self.from && at <= run.now()).then(|| run.moment(at))
    }

    /// Its run, once it is there.
    pub(in crate::tui) fn run(&self) -> Option<&Run> {
        self.run.as_deref()
    }
}
