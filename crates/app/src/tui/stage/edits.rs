//! The files of the rules, and who looks at them.

use std::path::Path;
use std::time::Duration;

use velocitas_lab::Course;

use crate::sources::{GaitWatcher, Source};

/// The files, and who looks at them.
pub(in crate::tui) struct Edits {
    pub(in crate::tui) sources: Vec<Source>,
    /// The thread that looks whether they were saved, where there are files.
    pub(in crate::tui) watcher: Option<GaitWatcher>,
    /// Real time since they were looked at.
    pub(in crate::tui) unlooked: Duration,
    /// Whether saved edits reach the selected machine only.
    pub(in crate::tui) one_only: bool,
    /// The rule in which a mistake was found last, and how many were found so far: who shows it goes there.
    pub(in crate::tui) mistake: (u8, u32),
}

impl Edits {
    /// Those of a course, which lie beside its file.
    pub(in crate::tui) fn of(course: &Course, file: Option<&Path>) -> Self {
        let sources = Source::of(course, file);
        let watcher = sources.iter().any(|s| s.path.is_some()).then(GaitWatcher::of_gaits);
        Self { sources, watcher, unlooked: Duration::ZERO, one_only: false, mistake: (0, 0) }
    }

    /// The file behind a rule.
    pub(in crate::tui) fn source(&self, kind: u8) -> Option<&Source> {
        self.sources.iter().find(|s| s.kind == kind)
    }
}
