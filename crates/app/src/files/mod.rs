//! Reading courses and writing results: never more than a limit, whole or not at all, and never over what is read.

mod input;
mod output;
pub(crate) mod signals;
pub(crate) mod stream;

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use thiserror::Error;
use velocitas_core::Motion;
use velocitas_lab::{Course, CourseError, RunError, Sources};

pub(crate) use input::{STANDARD, read_named, read_regular};
pub(crate) use output::{Output, is_standard_output, same_file};

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
    let read = |name: &str| {
        let what = match name.rsplit_once('.') {
            Some((_, "json")) => "a track is a JSON file",
            Some((_, "csv")) => "a trace is a CSV file",
            _ => "a gait is a text file",
        };
        read_regular(&beside(path, name), what).map_err(|why| why.to_string())
    };
    Ok(Course::parse_with(&named(path), text, Sources { own: kinds, read: &read })?)
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
pub(crate) fn inputs_of(path: Option<&Path>, course: &Course) -> Vec<PathBuf> {
    let Some(path) = path else { return Vec::new() };
    let gaits = course.gaits.iter().map(|g| &g.path);
    let tracks = course.cast.iter().filter_map(|member| member.script.track.as_ref());
    let traces = course.traces.iter().map(|trace| &trace.name);
    std::iter::once(path.to_owned()).chain(gaits.chain(tracks).chain(traces).map(|name| beside(path, name))).collect()
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
