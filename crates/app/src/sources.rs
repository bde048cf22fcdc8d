//! The gait files behind a course: read again when an editor has saved them.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::SystemTime;

use velocitas_core::{Motion, Schema};
use velocitas_gait::{Diagnostic, compile_after};
use velocitas_lab::Course;

use crate::files::{beside, read_text};

/// One gait file.
#[derive(Debug)]
pub struct Source {
    /// The number of its rule.
    pub kind: u8,
    /// The file as the course names it.
    pub name: String,
    /// Where it lies; `None` for a rule that came with the program.
    pub path: Option<PathBuf>,
    /// What it said last, good or not.
    pub text: String,
    /// What there is to say about that.
    pub diagnostics: Vec<Diagnostic>,
    /// Why it cannot be run as it is, in a few words.
    pub trouble: Option<String>,
    /// A rule that is good and not yet in force.
    pub waiting: Option<Arc<dyn Motion>>,
    /// Whether the trouble is that it could not be put into force.
    refused: bool,
    /// Time and length of the file when it was read.
    stamp: Option<(SystemTime, u64)>,
}

impl Source {
    /// The gaits of a course, in the order of their rules. `file` is the course's own file; without one the gaits came
    /// with the program and never change.
    pub fn of(course: &Course, file: Option<&Path>) -> Vec<Self> {
        let source = |g: &velocitas_lab::GaitFile| {
            let path = file.map(|f| beside(f, &g.path));
            Self {
                kind: g.kind,
                name: g.path.clone(),
                stamp: path.as_deref().and_then(stamp),
                path,
                text: g.text.clone(),
                diagnostics: velocitas_gait::compile(&g.text).diagnostics,
                trouble: None,
                waiting: None,
                refused: false,
            }
        };
        course.gaits.iter().map(source).collect()
    }

    /// Looks whether the file was saved since, and if so reads and checks it. `before` is the layout in force: what
    /// keeps its name keeps its place. Says whether there is news.
    pub fn look(&mut self, before: &Schema) -> bool {
        let Some(path) = &self.path else { return false };
        let now = stamp(path);
        if now == self.stamp {
            return false;
        }
        self.stamp = now;
        self.refused = false;
        let text = match read_text(path, "a gait is a text file") {
            Ok(text) => text,
            Err(why) => {
                // Editors may take a file away for a moment while they save it.
                self.trouble = Some(format!("cannot read it: {why}"));
                return true;
            }
        };
        if text == self.text && self.trouble.is_none() {
            return false;
        }
        self.take(text, before);
        true
    }

    /// Notes that a sound rule could not be put into force.
    pub fn refuse(&mut self, why: String) {
        self.trouble = Some(why);
        self.refused = true;
    }

    /// Whether it is sound by itself and could not be put into force.
    pub const fn is_refused(&self) -> bool {
        self.refused
    }

    /// Checks a text and keeps it, with the rule if it is one.
    pub fn take(&mut self, text: String, before: &Schema) {
        let compiled = compile_after(&text, Some(before));
        let errors = compiled.diagnostics.iter().filter(|d| d.severity == velocitas_gait::Severity::Error).count();
        self.text = text;
        self.refused = false;
        self.diagnostics = compiled.diagnostics;
        match compiled.gait {
            Some(gait) => {
                self.trouble = None;
                self.waiting = Some(Arc::new(gait));
            }
            None => {
                self.trouble = Some(format!("{errors} mistake{}", if errors == 1 { "" } else { "s" }));
                self.waiting = None;
            }
        }
    }
}

fn stamp(path: &Path) -> Option<(SystemTime, u64)> {
    let metadata = fs::metadata(path).ok()?;
    Some((metadata.modified().ok()?, metadata.len()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_lab::Sources;

    #[test]
    fn a_saved_edit_is_seen_once_and_a_broken_one_says_so() {
        let folder = tempfile::tempdir().expect("a folder");
        let gait = folder.path().join("a.gait");
        let text = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
        fs::write(&gait, &text).expect("written");
        let file = folder.path().join("x.course.toml");
        let course = "format = 1\nname = \"x\"\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n\
                      [[cast]]\nname = \"teal\"\nrole = \"bot\"\ngait = \"a.gait\"\nspawn = [0, 0]\n";
        let read = |name: &str| read_text(&beside(&file, name), "a gait").map_err(|e| e.to_string());
        let course = Course::parse_with("x", course, Sources { own: &[], gait: &read }).expect("sound");
        let before = course.kinds.motion(1).schema().clone();
        let mut source = Source::of(&course, Some(&file)).remove(0);
        assert!(!source.look(&before), "nothing new");
        fs::write(&gait, text.replace("4.2 m/s", "5.25 m/s")).expect("written");
        assert!(source.look(&before) && !source.look(&before));
        assert!(source.waiting.take().is_some_and(|rule| rule.tunables()[0].default == 5.25));
        fs::write(&gait, text.replace("grip * ", "")).expect("written");
        assert!(source.look(&before) && source.waiting.is_none());
        assert_eq!(source.trouble.as_deref(), Some("1 mistake"), "{:?}", source.diagnostics);
        fs::remove_file(&gait).expect("removed");
        assert!(source.look(&before) && source.trouble.as_deref().is_some_and(|t| t.contains("cannot read it")));
        fs::write(&gait, &text).expect("written");
        assert!(source.look(&before) && source.trouble.is_none());
    }
}
