//! The budgets as they were held against the run.

use velocitas_analysis::budget::Held;
use velocitas_record::LabTime;

/// What came of them when it was looked at.
pub(in crate::tui) struct Budget {
    /// The end of what was looked at.
    pub(in crate::tui) to: LabTime,
    pub(in crate::tui) held: Vec<Held>,
}
