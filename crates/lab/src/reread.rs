//! Rules and courses that are read again while a run goes on.

use std::sync::Arc;

use thiserror::Error;
use velocitas_core::{Motion, SpawnError};

use crate::course::Course;

/// A rule that was read while a run went on.
#[derive(Clone, Debug)]
pub struct ReadRule {
    /// The rule.
    pub rule: Arc<dyn Motion>,
    /// What its file said; `None` where it has none.
    pub text: Option<Arc<str>>,
}

/// Why a rule cannot take the place of another while it runs.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ReloadError {
    /// A snapshot of everybody would no longer fit a datagram.
    #[error("the new rule is too large: {0}")]
    Size(#[from] SpawnError),
    /// One machine alone would read and write other bits than the rest.
    #[error(
        "the new rule has another layout; on one machine alone only step and tunables may differ while its program runs"
    )]
    Layout,
}

/// What was read while a run went on, for commands that speak of it by number.
#[derive(Clone, Copy, Debug, Default)]
pub struct ReadLater<'a> {
    /// Rules, in the order in which they were read.
    pub rules: &'a [ReadRule],
    /// Courses, the same.
    pub courses: &'a [Arc<Course>],
}
