//! Reading courses and writing results: never more than a limit, whole or not at all, and never over what is read.
//!
//! Read are regular files of at most 4 MB, and pipes that the command line names. A result is written beside its place and renamed over
//! what was there, or straight into what is no regular file; links are followed; a signal takes half a result away. What is read is
//! refused as a place to write to.

mod input;
mod ledger;
mod output;
mod outputs;
mod recording;
pub(crate) mod signals;
pub(crate) mod stream;

use std::io::{self, BufReader};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use thiserror::Error;
use velocitas_core::Motion;
use velocitas_lab::stored::{Stored, StoredError};
use velocitas_lab::take::{Journal, Take, TakeError, is_take};
use velocitas_lab::{Course, CourseError, DEMO_FILE, Keep, Run, RunError, Sources};
use velocitas_record::LabTime;

pub(crate) use input::RECORD;
use input::{Begun, Holds, as_text, read_course_or_take};
pub(crate) use input::{STANDARD, must_be_regular, read_named, read_regular, read_take};
pub(crate) use ledger::{Ledger, Results};
pub(crate) use output::{Output, same_file};
pub(crate) use outputs::Outputs;
pub(crate) use recording::Recording;

/// Why a course cannot be opened or a result not be written.
#[derive(Debug, Error)]
pub enum OpenError {
    /// The file cannot be read.
    #[error("cannot read the course {}: {why}", path.display())]
    Read {
        /// Which.
        path: PathBuf,
        /// What the system says.
        why: io::Error,
    },
    /// It is no course.
    #[error("{0}")]
    Course(#[from] CourseError),
    /// It cannot be run.
    #[error("cannot run the course: {0}")]
    Run(#[from] RunError),
    /// The terminal cannot be used.
    #[error("cannot use the terminal: {0}")]
    Terminal(io::Error),
    /// It is a take that gives none.
    #[error("cannot read the take {}: {why}", path.display())]
    Take {
        /// Which.
        path: PathBuf,
        /// What is wrong with it.
        why: TakeError,
    },
    /// It is a record that cannot be read.
    #[error("cannot read the record {}: {why}", path.display())]
    Record {
        /// Which.
        path: PathBuf,
        /// What is wrong with it.
        why: StoredError,
    },
    /// A signal ended the interface, or the terminal went away.
    #[error("ended by signal {0}")]
    Signal(u8),
    /// A file cannot be read.
    #[error("cannot read {}: {why}", path.display())]
    File {
        /// Which.
        path: PathBuf,
        /// What the system says, or what is wrong with it.
        why: String,
    },
    /// A result cannot be written.
    #[error("cannot write {}: {why}", path.display())]
    Write {
        /// Which.
        path: PathBuf,
        /// What the system says.
        why: io::Error,
    },
    /// What there is to say cannot be said.
    #[error("cannot write to {stream}: {why}")]
    Say {
        /// Standard output or error.
        stream: &'static str,
        /// What the system says.
        why: io::Error,
    },
    /// Something typed does not fit what was read.
    #[error("{0}")]
    Usage(String),
}

/// What can be run: a course from its beginning, or a run that was kept.
#[derive(Clone, Debug)]
pub enum Opened {
    /// A course.
    Course(Box<Course>),
    /// A take.
    Take(Box<Take>),
    /// The record of a run that is over.
    Record(Box<Stored>),
}

impl Opened {
    /// What a file holds, or standard input (`-`); the demo without one.
    ///
    /// # Errors
    /// When it cannot be read or is neither.
    pub fn read(path: Option<&Path>, kinds: &[Arc<dyn Motion>]) -> Result<Self, OpenError> {
        Self::read_keeping(path, kinds, Keep::All)
    }

    /// The same, of a record no more than is to be kept.
    ///
    /// # Errors
    /// When it cannot be read or is none of them.
    pub fn read_keeping(path: Option<&Path>, kinds: &[Arc<dyn Motion>], keep: Keep) -> Result<Self, OpenError> {
        let Some(path) = path else { return Ok(Self::Course(Box::new(Course::demo()))) };
        let is = "a course is a TOML file";
        match begin(path, (is, kinds, keep))? {
            Part::Record(stored) => Ok(Self::Record(stored)),
            Part::Text(bytes) => Self::of(path, bytes, is, kinds),
        }
    }

    fn of(path: &Path, bytes: Vec<u8>, is: &str, kinds: &[Arc<dyn Motion>]) -> Result<Self, OpenError> {
        if is_take(&bytes) || path.extension().is_some_and(|kind| kind == TAKE) {
            let take = Take::read(&bytes, kinds).map_err(|why| OpenError::Take { path: path.to_owned(), why })?;
            return Ok(Self::Take(Box::new(take)));
        }
        let text = as_text(bytes, is).map_err(|why| OpenError::Read { path: path.to_owned(), why })?;
        Ok(Self::Course(Box::new(parse_course(path, &text, kinds)?)))
    }

    /// Its course as it begins.
    pub fn course(&self) -> &Course {
        match self {
            Self::Course(course) => course,
            Self::Take(take) => &take.course,
            Self::Record(stored) => &stored.take.course,
        }
    }

    /// Every file that was read for it.
    pub(crate) fn inputs(&self, path: Option<&Path>) -> Vec<PathBuf> {
        match (path, self) {
            (None, _) => Vec::new(),
            (Some(path), Self::Course(course)) => inputs_of(path, course),
            // What its course names is in it.
            (Some(path), Self::Take(_) | Self::Record(_)) => vec![path.to_owned()],
        }
    }

    /// The take, if it is one.
    pub fn take(&self) -> Option<&Take> {
        match self {
            Self::Course(_) | Self::Record(_) => None,
            Self::Take(take) => Some(take),
        }
    }

    /// The record, if it is one.
    pub fn record(&self) -> Option<&Stored> {
        match self {
            Self::Course(_) | Self::Take(_) => None,
            Self::Record(stored) => Some(stored),
        }
    }

    /// Where it ends by itself, if it does.
    pub fn end(&self) -> Option<LabTime> {
        match self {
            Self::Course(_) => None,
            Self::Take(take) => Some(take.end),
            Self::Record(stored) => Some(stored.record.end),
        }
    }

    /// With another seed, if one is given.
    ///
    /// # Errors
    /// When it is a take: its luck is part of it.
    pub fn seeded(mut self, seed: Option<u64>) -> Result<Self, OpenError> {
        match (&mut self, seed) {
            (_, None) => {}
            (Self::Course(course), Some(seed)) => course.seed = seed,
            (Self::Take(take), Some(_)) => {
                let why =
                    format!("a take has its own seed ({}): name its course to run it with another", take.course.seed);
                return Err(OpenError::Usage(why));
            }
            (Self::Record(stored), Some(_)) => {
                let seed = stored.take.course.seed;
                let why =
                    format!("a record is of a run with its own seed ({seed}): name its course to run it with another");
                return Err(OpenError::Usage(why));
            }
        }
        Ok(self)
    }

    /// What can be run of it: of a record its take.
    #[must_use]
    pub fn rerun(self) -> Self {
        match self {
            Self::Record(stored) => Self::Take(Box::new(stored.take)),
            other => other,
        }
    }

    /// Its run, at the beginning; that of a record is over.
    ///
    /// # Errors
    /// When the cast does not fit a snapshot.
    pub fn run(&self) -> Result<Run, RunError> {
        match self {
            Self::Course(course) => Run::new((**course).clone()),
            Self::Take(take) => Run::of_take(take),
            Self::Record(stored) => stored.run(),
        }
    }
}

/// What a file named on the command line is.
enum Part {
    Record(Box<Stored>),
    /// A text of whatever kind.
    Text(Vec<u8>),
}

/// Reads what is named on the command line: `is` says what is expected, and of a record so much is kept.
fn begin(path: &Path, (is, kinds, keep): (&str, &[Arc<dyn Motion>], Keep)) -> Result<Part, OpenError> {
    let wrong = |why| OpenError::Read { path: path.to_owned(), why };
    let stored = match input::begin(path, is).map_err(wrong)? {
        Begun::Other(from) => return read_course_or_take(from, is).map(Part::Text).map_err(wrong),
        Begun::Record(file, Holds::Blocks) => Stored::read(BufReader::with_capacity(1 << 16, file), kinds, keep),
        Begun::Record(file, Holds::Lines) => Stored::read_lines(file, kinds, keep),
    };
    let stored = stored.map_err(|why| OpenError::Record { path: path.to_owned(), why })?;
    Ok(Part::Record(Box::new(stored)))
}

/// What can be held against something else.
pub(crate) enum Named {
    /// A course or a take.
    Opened(Opened),
    /// A report.
    Json(serde_json::Value),
}

impl Named {
    /// What a file holds, or standard input (`-`).
    pub(crate) fn read(path: &Path, kinds: &[Arc<dyn Motion>]) -> Result<Self, OpenError> {
        let is = "courses, takes and reports are texts";
        let bytes = match begin(path, (is, kinds, Keep::All))? {
            Part::Record(stored) => return Ok(Self::Opened(Opened::Record(stored))),
            Part::Text(bytes) => bytes,
        };
        // No course begins like that.
        if bytes.trim_ascii_start().first() != Some(&b'{') {
            return Ok(Self::Opened(Opened::of(path, bytes, is, kinds)?));
        }
        let why =
            |why: serde_json::Error| OpenError::File { path: path.to_owned(), why: format!("it is no JSON: {why}") };
        serde_json::from_slice(&bytes).map(Self::Json).map_err(why)
    }
}

/// The variable that names the file of the log.
pub(crate) const LOG: &str = "VELOCITAS_LOG";
/// How the name of a take's file ends.
pub(crate) const TAKE: &str = "take";

/// Says so where a take was written by another version of the program.
pub(crate) fn another_version(take: &Take) -> Option<String> {
    let this = env!("CARGO_PKG_VERSION");
    (take.program != this).then(|| {
        format!(
            "it was written by version {} of the program; this is {this}, and may make another run of it",
            take.program
        )
    })
}

/// The course in a file, from standard input (`-`), or the demo. Gaits are read from beside it.
pub fn course(path: Option<&Path>, kinds: &[Arc<dyn Motion>]) -> Result<Course, OpenError> {
    let Some(path) = path else { return Ok(Course::demo()) };
    let text =
        read_named(path, "a course is a TOML file").map_err(|why| OpenError::Read { path: path.to_owned(), why })?;
    parse_course(path, &text, kinds)
}

/// The course in a folder that holds just one.
pub(crate) fn only_course_in(folder: &Path) -> Option<PathBuf> {
    let entries = std::fs::read_dir(folder).ok()?.filter_map(Result::ok);
    let is_course = |path: &PathBuf| path.to_string_lossy().ends_with(".course.toml") && path.is_file();
    let mut courses = entries.map(|entry| entry.path()).filter(is_course);
    let first = courses.next()?;
    // As people call it.
    courses.next().is_none().then(|| first.strip_prefix("./").map(Path::to_owned).unwrap_or(first))
}

/// A course whose text was read already.
pub(crate) fn parse_course(path: &Path, text: &str, kinds: &[Arc<dyn Motion>]) -> Result<Course, OpenError> {
    no_take(path, text)?;
    let read = |name: &str| {
        let what = match name.rsplit_once('.') {
            Some((_, "json")) => "a track is a JSON file",
            Some((_, "csv")) => "a trace is a CSV file",
            Some((_, "gait")) => "a gait is a text file",
            _ => "gaits, tracks and traces are text files",
        };
        read_regular(&beside(path, name), what).map_err(|why| why.to_string())
    };
    Ok(Course::parse_with(&named(path), text, Sources { own: kinds, read: &read })?)
}

/// Tells where a take was given in the place of a gait or a course.
pub(crate) fn no_take(path: &Path, text: &str) -> Result<(), OpenError> {
    if is_take(text.as_bytes()) {
        let why = "expected a gait or a course; found a take: `velocitas run`, `diagnose`, `compare` and the interface open it";
        return Err(OpenError::File { path: path.to_owned(), why: why.to_owned() });
    }
    Ok(())
}

/// A path as people call it.
pub(crate) fn named(path: &Path) -> String {
    if path == Path::new(STANDARD) { "standard input".to_owned() } else { path.display().to_string() }
}

/// A file that a course names, relative to the course. What comes through a pipe or a descriptor lies nowhere: then it is
/// relative to the working folder.
pub fn beside(course: &Path, name: &str) -> PathBuf {
    let is_stream = course == Path::new(STANDARD) || ["/dev", "/proc"].iter().any(|p| course.starts_with(p));
    if is_stream || course.metadata().is_ok_and(|m| !m.is_file()) {
        return PathBuf::from(name);
    }
    course.parent().map_or_else(|| PathBuf::from(name), |folder| folder.join(name))
}

/// Every file that is read for a course: its own, its gaits, tracks and traces.
pub(crate) fn inputs_of(path: &Path, course: &Course) -> Vec<PathBuf> {
    std::iter::once(path.to_owned()).chain(course.files.iter().map(|file| beside(path, &file.path))).collect()
}

/// What is told of a run into a take, from its beginning; the run came from this file, or from the demo.
pub(crate) fn journal(opened: &Opened, path: Option<&Path>) -> Journal {
    Journal::new(&course_name(opened, path), env!("CARGO_PKG_VERSION"))
}

/// The name of a course's file, without its folder: of the one that a take is of, or of the demo's.
pub(crate) fn course_name(opened: &Opened, path: Option<&Path>) -> String {
    let name = |path: &Path| path.file_name().map_or_else(|| named(path), |name| name.to_string_lossy().into_owned());
    match opened {
        Opened::Take(take) => take.file.clone(),
        Opened::Record(stored) => stored.take.file.clone(),
        Opened::Course(_) => path.map_or_else(|| DEMO_FILE.to_owned(), name),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    #[test]
    fn a_course_that_is_alone_in_its_folder_is_found() {
        let folder = tempfile::tempdir().expect("a folder");
        assert_eq!(only_course_in(folder.path()), None);
        let path = folder.path().join("x.course.toml");
        fs::write(&path, "").expect("written");
        fs::write(folder.path().join("a.gait"), "").expect("written");
        assert_eq!(only_course_in(folder.path()), Some(path));
        fs::write(folder.path().join("y.course.toml"), "").expect("written");
        assert_eq!(only_course_in(folder.path()), None, "which of them?");
        assert_eq!(only_course_in(Path::new("/nowhere")), None);
    }

    #[test]
    fn bytes_are_no_course_and_a_gait_is_looked_for_beside_it() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("x.course.toml");
        fs::write(&path, [0xff, 0xfe, 0x00]).expect("written");
        let error = course(Some(&path), &[]).map(|_| ()).unwrap_err().to_string();
        assert!(error.contains("it is not UTF-8 text; a course is a TOML file"), "{error}");
        assert_eq!(beside(&path, "a.gait"), folder.path().join("a.gait"));
        assert_eq!(beside(Path::new(STANDARD), "a.gait"), Path::new("a.gait"));
    }
}
