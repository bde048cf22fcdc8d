//! The file of the course that runs: read again when an editor has saved it, on a thread of its own.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use velocitas_core::Motion;
use velocitas_lab::Course;

use crate::files;
use crate::sources::{Stamp, Watcher, stamp};

/// What is asked of the thread that looks.
#[derive(Debug)]
struct Look {
    path: PathBuf,
    own: Arc<[Arc<dyn Motion>]>,
    stamp: Stamp,
}

/// What it saw: the course, or what is wrong with it.
struct Seen {
    stamp: Stamp,
    what: Result<Box<Course>, String>,
}

impl Look {
    /// Looks at the file. `None` when it was not saved since.
    fn done(self) -> Option<Seen> {
        let now = stamp(&self.path);
        if now == self.stamp {
            return None;
        }
        let what = read(&self.path, &self.own).map(Box::new);
        Some(Seen { stamp: now, what })
    }
}

/// The file of a course.
pub(crate) struct CourseFile {
    path: PathBuf,
    own: Arc<[Arc<dyn Motion>]>,
    stamp: Stamp,
    watcher: Watcher<Look, Seen>,
    /// A course that is good and not yet taken over.
    pub(crate) waiting: Option<Box<Course>>,
    /// What stands against what was saved, in a line: a mistake, or what needs a new beginning.
    pub(crate) trouble: Option<String>,
}

impl CourseFile {
    /// The file that a course was read from just now, with rules of its user's own. `None` where it is no file that can be saved.
    pub(crate) fn of(path: &Path, own: &[Arc<dyn Motion>]) -> Option<Self> {
        let is_file = path != Path::new(files::STANDARD) && path.metadata().is_ok_and(|there| there.is_file());
        is_file.then(|| Self {
            stamp: stamp(path),
            path: path.to_owned(),
            own: own.into(),
            watcher: Watcher::start(Look::done),
            waiting: None,
            trouble: None,
        })
    }

    /// Has it looked at.
    pub(crate) fn look(&mut self) {
        let look = Look { path: self.path.clone(), own: self.own.clone(), stamp: self.stamp };
        self.watcher.look(vec![look]);
    }

    /// What was read again since, if it was. Does not wait.
    pub(crate) fn take_news(&mut self) -> bool {
        let news = self.watcher.news();
        let any = !news.is_empty();
        for seen in news {
            self.stamp = seen.stamp;
            match seen.what {
                Ok(course) => (self.waiting, self.trouble) = (Some(course), None),
                Err(why) => (self.waiting, self.trouble) = (None, Some(first_line(&why))),
            }
        }
        any
    }

    /// Reads it once more at the next look, whether it was saved since or not.
    pub(crate) fn forget(&mut self) {
        self.stamp = None;
    }

    /// Reads it now.
    pub(crate) fn read(&self) -> Result<Course, String> {
        read(&self.path, &self.own)
    }

    /// Its path, and its name.
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    pub(crate) fn name(&self) -> String {
        self.path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned())
    }
}

/// Reads a course from a regular file: what has taken its place may never end.
fn read(path: &Path, own: &[Arc<dyn Motion>]) -> Result<Course, String> {
    let text =
        files::read_regular(path, "a course is a TOML file").map_err(|why| format!("cannot read the course: {why}"))?;
    files::parse_course(path, &text, own).map_err(|why| why.to_string())
}

fn first_line(text: &str) -> String {
    text.lines().next().unwrap_or("").to_owned()
}
