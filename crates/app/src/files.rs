//! Reading courses and writing results, whole or not at all.

use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use thiserror::Error;
use velocitas_core::Motion;
use velocitas_lab::{Course, CourseError, RunError, Sources};

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
}

/// The course in a file, or the demo. Gaits are read from beside it.
pub fn course(path: Option<&Path>, kinds: &[Arc<dyn Motion>]) -> Result<Course, OpenError> {
    let Some(path) = path else { return Ok(Course::demo()) };
    let text =
        read_text(path, "a course is a TOML file").map_err(|why| OpenError::Read { path: path.to_owned(), why })?;
    let gait = |name: &str| read_text(&beside(path, name), "a gait is a text file").map_err(|why| why.to_string());
    Ok(Course::parse_with(&path.display().to_string(), &text, Sources { own: kinds, gait: &gait })?)
}

/// A file that a course names, relative to the course.
pub fn beside(course: &Path, name: &str) -> PathBuf {
    course.parent().map_or_else(|| PathBuf::from(name), |folder| folder.join(name))
}

/// The largest text read: far more than any course or gait needs.
const MOST_BYTES: u64 = 4 << 20;

/// A text file as it is; `is` says what such a file is where it is none.
pub fn read_text(path: &Path, is: &str) -> io::Result<String> {
    let wrong = |why: String| io::Error::new(io::ErrorKind::InvalidData, why);
    let length = fs::metadata(path)?.len();
    if length > MOST_BYTES {
        return Err(wrong(format!("it has {length} bytes; {is} of at most {MOST_BYTES}")));
    }
    String::from_utf8(fs::read(path)?).map_err(|_| wrong(format!("it is not UTF-8 text; {is}")))
}

/// A result on its way to a file: it appears under its name only when it is whole.
pub struct Output {
    path: PathBuf,
    file: tempfile::NamedTempFile,
}

impl Output {
    /// Opens a place for the result, before long work is done for nothing.
    pub fn create(path: &Path) -> Result<Self, OpenError> {
        let folder = match path.parent() {
            Some(folder) if !folder.as_os_str().is_empty() => folder,
            _ => Path::new("."),
        };
        let wrong = |why| OpenError::Write { path: path.to_owned(), why };
        if path.is_dir() {
            return Err(wrong(io::Error::new(io::ErrorKind::IsADirectory, "it is a folder")));
        }
        let file = tempfile::NamedTempFile::new_in(folder).map_err(wrong)?;
        Ok(Self { path: path.to_owned(), file })
    }

    /// Writes all of it and gives it its name.
    pub fn finish(self, write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> Result<(), OpenError> {
        let Self { path, mut file } = self;
        let wrong = |why| OpenError::Write { path: path.clone(), why };
        let mut out = io::BufWriter::new(file.as_file_mut());
        write(&mut out).and_then(|()| out.flush()).map_err(wrong)?;
        drop(out);
        share_as_usual(file.path());
        file.persist(&path).map_err(|e| OpenError::Write { path: path.clone(), why: e.error })?;
        Ok(())
    }
}

/// A temporary file is private; a result is as readable as any other file its user makes.
fn share_as_usual(path: &Path) {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        // Failing to widen the mode leaves a private file, which is still the result.
        let _ = fs::set_permissions(path, fs::Permissions::from_mode(0o644));
    }
    #[cfg(not(unix))]
    let _ = path;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_result_appears_whole_or_not_at_all() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("result.txt");
        let good = Output::create(&path).expect("it can be made");
        assert!(!path.exists(), "not before it is whole");
        good.finish(|out| out.write_all(b"all of it")).expect("written");
        assert_eq!(fs::read(&path).expect("there"), b"all of it");

        let bad = Output::create(&path).expect("it can be made");
        let error = bad.finish(|out| {
            out.write_all(b"half")?;
            Err(io::Error::other("the pen broke"))
        });
        assert!(error.is_err_and(|e| e.to_string().contains("the pen broke")));
        assert_eq!(fs::read(&path).expect("there"), b"all of it", "what was there stays");
        assert_eq!(fs::read_dir(folder.path()).expect("a folder").count(), 1, "and nothing is left behind");
    }

    #[test]
    fn a_folder_is_no_place_for_a_result_and_bytes_are_no_course() {
        let folder = tempfile::tempdir().expect("a folder");
        assert!(Output::create(folder.path()).is_err_and(|e| e.to_string().contains("it is a folder")));
        let path = folder.path().join("x.course.toml");
        fs::write(&path, [0xff, 0xfe, 0x00]).expect("written");
        let error = course(Some(&path), &[]).map(|_| ()).unwrap_err().to_string();
        assert!(error.contains("it is not UTF-8 text; a course is a TOML file"), "{error}");
    }
}
