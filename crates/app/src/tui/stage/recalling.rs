//! A stretch that the run let go, while it is run again.

use velocitas_lab::Run;
use velocitas_record::LabTime;

use crate::tui::job::Job;

/// A stretch that is run again.
pub(in crate::tui) struct Recalling {
    pub(in crate::tui) wanted: LabTime,
    pub(in crate::tui) job: Job<Option<Box<Run>>>,
}
