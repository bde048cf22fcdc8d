//! The gait files behind a course: read again when an editor has saved them.
//!
//! Files are looked at and checked on a thread of their own: a disk that does not answer, or a text that takes long to
//! check, stops no frame.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::SystemTime;

use velocitas_core::{Motion, Schema};
use velocitas_gait::{Class, Compiled, Diagnostic, Severity, SourcePosition, Span, classes, compile_after};
use velocitas_lab::Course;

use crate::files::{beside, read_regular};

/// Time and length of a file.
pub type Stamp = Option<(SystemTime, u64)>;

/// A text with what there is to say about it and how it is shown.
#[derive(Clone, Debug, Default)]
pub struct Said {
    /// The text, good or not.
    pub text: String,
    /// What there is to say about it.
    pub diagnostics: Vec<Diagnostic>,
    /// The line of each of them, from 1.
    pub lines: Vec<usize>,
    /// Its pieces, in order.
    pub pieces: Vec<(Span, Class)>,
}

impl Said {
    fn new(text: String, diagnostics: Vec<Diagnostic>) -> Self {
        let lines = diagnostics.iter().map(|d| SourcePosition::of(&text, d.span).line).collect();
        Self { lines, pieces: classes(&text), text, diagnostics }
    }
}

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
    pub said: Said,
    /// Why it cannot be run as it is, in a few words.
    pub trouble: Option<String>,
    /// A rule that is good and not yet in force.
    pub waiting: Option<Arc<dyn Motion>>,
    /// What it said when it was good last: shown again when the file is gone.
    good: Said,
    /// Whether the trouble is that it could not be put into force.
    refused: bool,
    stamp: Stamp,
}

/// What is asked of the thread that looks.
#[derive(Debug)]
pub struct Look {
    kind: u8,
    path: PathBuf,
    stamp: Stamp,
    /// The layout in force: what keeps its name keeps its place.
    before: Schema,
}

/// What it saw.
#[derive(Debug)]
pub struct Seen {
    kind: u8,
    stamp: Stamp,
    what: Result<(Said, Compiled, Schema), String>,
}

impl Seen {
    /// Whether it is of this rule.
    pub const fn is_of(&self, kind: u8) -> bool {
        self.kind == kind
    }
}

impl Look {
    /// Looks at the file. `None` when it was not saved since.
    fn done(self) -> Option<Seen> {
        let now = stamp(&self.path);
        if now == self.stamp {
            return None;
        }
        let what = read_regular(&self.path, "a gait is a text file").map_err(|why| why.to_string()).map(|text| {
            let mut compiled = compile_after(&text, Some(&self.before));
            let said = Said::new(text, std::mem::take(&mut compiled.diagnostics));
            (said, compiled, self.before)
        });
        Some(Seen { kind: self.kind, stamp: now, what })
    }
}

/// A thread that looks at files: what it is asked, and what it says.
#[derive(Debug)]
pub struct Watcher<L, S> {
    ask: Sender<Vec<L>>,
    answer: Receiver<Vec<S>>,
    asked: bool,
}

/// The one that looks at gaits.
pub type GaitWatcher = Watcher<Look, Seen>;

impl GaitWatcher {
    /// Starts it.
    pub fn of_gaits() -> Self {
        Self::start(Look::done)
    }
}

impl<L: Send + 'static, S: Send + 'static> Watcher<L, S> {
    /// Starts it; `done` looks at a file and says something if there is news.
    pub fn start(done: fn(L) -> Option<S>) -> Self {
        let (ask, asked) = channel::<Vec<L>>();
        let (say, answer) = channel();
        // It ends when nobody asks or listens any more.
        std::thread::spawn(move || {
            for looks in asked {
                let seen = looks.into_iter().filter_map(done).collect();
                if say.send(seen).is_err() {
                    return;
                }
            }
        });
        Self { ask, answer, asked: false }
    }

    /// Asks it to look, unless it still does.
    pub fn look(&mut self, looks: Vec<L>) {
        if !self.asked && !looks.is_empty() {
            self.asked = self.ask.send(looks).is_ok();
        }
    }

    /// What it has seen since. Does not wait.
    pub fn news(&mut self) -> Vec<S> {
        match self.answer.try_recv() {
            Ok(seen) => {
                self.asked = false;
                seen
            }
            Err(_) => Vec::new(),
        }
    }
}

impl Source {
    /// The gaits of a course, in the order of their rules. `file` is the course's own file; without one the gaits came
    /// with the program and never change.
    pub fn of(course: &Course, file: Option<&Path>) -> Vec<Self> {
        let source = |g: &velocitas_record::GaitFile| {
            let path = file.map(|f| beside(f, &g.path));
            let said = Said::new(g.text.clone(), velocitas_gait::compile(&g.text).diagnostics);
            Self {
                kind: g.kind,
                name: g.path.clone(),
                stamp: path.as_deref().and_then(stamp),
                path,
                good: said.clone(),
                said,
                trouble: None,
                waiting: None,
                refused: false,
            }
        };
        course.gaits.iter().map(source).collect()
    }

    /// What to ask of the thread that looks; `before` is the layout in force.
    pub fn to_look(&self, before: &Schema) -> Option<Look> {
        let path = self.path.clone()?;
        Some(Look { kind: self.kind, path, stamp: self.stamp, before: before.clone() })
    }

    /// Takes what was seen of it; `before` is the layout in force now. Says whether there is news.
    pub fn take_seen(&mut self, seen: Seen, before: &Schema) -> bool {
        self.stamp = seen.stamp;
        self.refused = false;
        match seen.what {
            Ok((said, _, _)) if said.text == self.said.text && self.trouble.is_none() => false,
            Ok((said, compiled, asked)) if asked.fingerprint() == before.fingerprint() => {
                self.keep(said, compiled);
                true
            }
            // The layout changed while it was looked at.
            Ok((said, ..)) => {
                self.take(said.text, before);
                true
            }
            Err(why) => {
                // Editors may take a file away for a moment while they save it.
                self.trouble = Some(format!("cannot read it: {why}"));
                self.waiting = None;
                self.said = self.good.clone();
                true
            }
        }
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
        let mut compiled = compile_after(&text, Some(before));
        let said = Said::new(text, std::mem::take(&mut compiled.diagnostics));
        self.keep(said, compiled);
    }

    /// Checks what it says once more: the layout in force may be another.
    pub fn take_again(&mut self, before: &Schema) {
        let text = std::mem::take(&mut self.said.text);
        self.take(text, before);
    }

    fn keep(&mut self, said: Said, compiled: Compiled) {
        self.refused = false;
        match compiled.gait {
            Some(gait) => {
                self.trouble = None;
                self.good = said.clone();
                self.waiting = Some(Arc::new(gait));
            }
            None => {
                let errors = said.diagnostics.iter().filter(|d| d.severity == Severity::Error).count();
                self.trouble = Some(format!("{errors} mistake{}", if errors == 1 { "" } else { "s" }));
                self.waiting = None;
            }
        }
        self.said = said;
    }
}

/// Time and length of a file, if it is there.
pub fn stamp(path: &Path) -> Stamp {
    let metadata = fs::metadata(path).ok()?;
    Some((metadata.modified().ok()?, metadata.len()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_lab::Sources;

    impl Source {
        /// Looks at once, on this thread.
        fn look(&mut self, before: &Schema) -> bool {
            let seen = self.to_look(before).and_then(Look::done);
            seen.is_some_and(|seen| self.take_seen(seen, before))
        }
    }

    #[test]
    fn a_saved_edit_is_seen_once_and_a_broken_one_says_so() {
        let folder = tempfile::tempdir().expect("a folder");
        let gait = folder.path().join("a.gait");
        let text = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
        fs::write(&gait, &text).expect("written");
        let file = folder.path().join("x.course.toml");
        let course = "format = 1\nname = \"x\"\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n\
                      [[cast]]\nname = \"teal\"\nrole = \"bot\"\ngait = \"a.gait\"\nspawn = [0, 0]\n";
        let read = |name: &str| read_regular(&beside(&file, name), "a gait").map_err(|e| e.to_string());
        let course = Course::parse_with("x", course, Sources { own: &[], read: &read }).expect("sound");
        let before = course.kinds.motion(1).schema().clone();
        let mut source = Source::of(&course, Some(&file)).remove(0);
        assert!(!source.look(&before), "nothing new");
        fs::write(&gait, text.replace("4.2 m/s", "5.25 m/s")).expect("written");
        assert!(source.look(&before) && !source.look(&before));
        assert!(source.waiting.take().is_some_and(|rule| rule.tunables()[0].default == 5.25));
        fs::write(&gait, text.replace("grip * ", "")).expect("written");
        assert!(source.look(&before) && source.waiting.is_none());
        assert_eq!(source.trouble.as_deref(), Some("1 mistake"), "{:?}", source.said.diagnostics);
        fs::remove_file(&gait).expect("removed");
        assert!(source.look(&before) && source.trouble.as_deref().is_some_and(|t| t.contains("cannot read it")));
        assert!(source.said.diagnostics.is_empty(), "the mistakes of a file that is gone are gone");
        assert!(source.said.text.contains("5.25 m/s"), "the rule that runs on is shown");
        fs::write(&gait, &text).expect("written");
        assert!(source.look(&before) && source.trouble.is_none());
    }
}
