//! What the run has to do with takes.

use std::path::PathBuf;
use std::sync::Arc;

use velocitas_core::Motion;
use velocitas_record::LabTime;

use crate::session::{Left, Session};
use crate::tui::job::Job;

/// A take that is being read.
pub(in crate::tui) struct Reading {
    /// Where it ends.
    pub(in crate::tui) to: LabTime,
    /// The moment to look at; `None` for its end.
    pub(in crate::tui) wanted: Option<LabTime>,
    /// The session that it was, which goes once it is read and kept anew.
    pub(in crate::tui) was: Option<Left>,
}

/// A record that is being written: its run goes beside the frames.
pub(in crate::tui) struct Writing {
    /// Its file.
    pub(in crate::tui) name: String,
    /// Tells how far it is, or what went wrong; at its end how much was written up to when.
    pub(in crate::tui) job: Job<Result<Wrote, String>>,
}

/// How far a record is that is being written.
pub(in crate::tui) enum Wrote {
    /// Up to a moment.
    Until(LabTime),
    /// All of it.
    All(LabTime),
}

/// What the run has to do with takes.
#[derive(Default)]
pub(in crate::tui) struct Kept {
    /// The file of its course, as a take names it.
    pub(in crate::tui) file: String,
    /// While a take is read.
    pub(in crate::tui) reading: Option<Reading>,
    /// What is wrong with the take that it came from.
    pub(in crate::tui) trouble: Option<String>,
    /// Where its session is written.
    pub(in crate::tui) session: Option<Session>,
    pub(in crate::tui) folder: Option<PathBuf>,
    /// While a record is written.
    pub(in crate::tui) writing: Option<Writing>,
    /// Rules of the user's own.
    pub(in crate::tui) own: Vec<Arc<dyn Motion>>,
}
