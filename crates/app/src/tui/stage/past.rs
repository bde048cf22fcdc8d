//! What the run let go and is looked at all the same.

use velocitas_lab::Run;
use velocitas_record::LabTime;

use crate::tui::job::Job;

/// A stretch that the run let go, while it is looked at or run again.
#[derive(Default)]
pub(in crate::tui) struct Past {
    /// The run in its present, while the stretch stands in its place.
    pub(in crate::tui) present: Option<Box<Run>>,
    pub(in crate::tui) recalling: Option<Recalling>,
}

/// A stretch that is run again.
pub(in crate::tui) struct Recalling {
    pub(in crate::tui) wanted: LabTime,
    pub(in crate::tui) job: Job<Option<Box<Run>>>,
}
