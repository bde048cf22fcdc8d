//! What a run is begun again from.

use velocitas_lab::Keep;

use crate::saved::CourseFile;

/// What a run is begun again from.
pub(in crate::tui) struct Origin {
    /// The file of its course, where it has one.
    pub(in crate::tui) file: Option<CourseFile>,
    /// Another seed than the course's.
    pub(in crate::tui) seed: Option<u64>,
    /// How much is kept.
    pub(in crate::tui) keep: Keep,
}

impl Default for Origin {
    fn default() -> Self {
        Self { file: None, seed: None, keep: Keep::USUAL }
    }
}
