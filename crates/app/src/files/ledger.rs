//! A file of results that grows line by line: whoever is killed and started again goes on where the file ends.

use std::fs::{File, OpenOptions};
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use rustix::fs::{FlockOperation, OFlags, flock};
use velocitas_lab::vary::{Asked, Kept, KeptError, Outcome};

use super::input::{STANDARD, must_be_regular, name_of};
use super::output::same_file;
use super::{OpenError, Outputs};

/// A file of results that this process alone writes.
pub(crate) struct Ledger {
    path: PathBuf,
    file: File,
    kept: Kept,
}

impl Ledger {
    /// Opens or makes the file of what is asked. `each` is told every result that is there. What is torn at its end is cut off.
    ///
    /// # Errors
    /// When it cannot be read and written, somebody else writes it, or it is of something else.
    pub(crate) fn open(
        path: &Path,
        asked: &Asked,
        (inputs, outputs): (&[PathBuf], &mut Outputs<'_>),
        each: impl FnMut(Outcome),
    ) -> Result<Self, OpenError> {
        let wrong = |why| OpenError::Write { path: path.to_owned(), why };
        let other = |why: String| wrong(io::Error::new(io::ErrorKind::InvalidInput, why));
        if path == Path::new(STANDARD) {
            return Err(other("expected a file, which can be gone on with; found standard output".to_owned()));
        }
        if let Some(input) = inputs.iter().find(|input| same_file(path, input)) {
            return Err(other(format!("it is {}, which is read; name another file", input.display())));
        }
        // Nobody waits for the other end of a pipe.
        let flags = OFlags::NONBLOCK.bits() as i32;
        let file =
            OpenOptions::new().read(true).write(true).create(true).truncate(false).custom_flags(flags).open(path);
        let mut file = file.map_err(wrong)?;
        let there = file.metadata().map_err(wrong)?;
        if !there.is_file() {
            return Err(other(format!(
                "it is {}; expected a file, which can be gone on with",
                name_of(there.file_type())
            )));
        }
        outputs.taken(path)?;
        flock(&file, FlockOperation::NonBlockingLockExclusive)
            .map_err(|_| other("another process is writing it; wait for it, or name another file".to_owned()))?;
        let mut fresh = Kept::default();
        let first = fresh.begin(asked);
        let kept = if is_begun(&mut file, &first).map_err(wrong)? {
            let mut from = BufReader::with_capacity(1 << 16, &file);
            let (was, mut kept) = Kept::open(&mut from).map_err(|why| told(path, &why))?;
            if let Some(why) = asked.differs_from(&was).or_else(|| part(asked, &was)) {
                return Err(other(format!("it is of something else: {why}; name another file, or ask the same")));
            }
            kept.results(&was, &mut from, each).map_err(|why| told(path, &why))?;
            file.set_len(kept.bytes()).map_err(wrong)?;
            file.seek(SeekFrom::End(0)).map_err(wrong)?;
            kept
        } else {
            file.set_len(0).map_err(wrong)?;
            file.rewind().map_err(wrong)?;
            file.write_all(first.as_bytes()).map_err(wrong)?;
            fresh
        };
        Ok(Self { path: path.to_owned(), file, kept })
    }

    /// Runs whose results are there.
    pub(crate) const fn runs(&self) -> usize {
        self.kept.runs()
    }

    /// Writes the next result.
    ///
    /// # Errors
    /// When it cannot be written: all before it stays.
    pub(crate) fn put(&mut self, outcome: &Outcome) -> Result<(), OpenError> {
        let line = self.kept.line(outcome);
        self.file.write_all(line.as_bytes()).map_err(|why| {
            let why = format!("{why}; started again, it goes on behind the results that are there");
            OpenError::Write { path: self.path.clone(), why: io::Error::other(why) }
        })
    }
}

/// A file of results that is read.
pub(crate) struct Results {
    /// What was asked.
    pub(crate) asked: Asked,
    path: PathBuf,
    from: BufReader<File>,
    kept: Kept,
}

impl Results {
    /// Opens it.
    ///
    /// # Errors
    /// When it is none.
    pub(crate) fn open(path: &Path) -> Result<Self, OpenError> {
        let file = must_be_regular(path, "results are a file that `velocitas vary --into` wrote");
        let file = file.and_then(|()| File::open(path)).map_err(|why| told(path, &why.into()))?;
        let mut from = BufReader::with_capacity(1 << 16, file);
        let (asked, kept) = Kept::open(&mut from).map_err(|why| told(path, &why))?;
        Ok(Self { asked, path: path.to_owned(), from, kept })
    }

    /// Reads it to the end of what is sound; `each` is told every result, in order. Tells how many there are.
    ///
    /// # Errors
    /// When it says what it cannot.
    pub(crate) fn each(mut self, each: impl FnMut(Outcome)) -> Result<usize, OpenError> {
        self.kept.results(&self.asked, &mut self.from, each).map_err(|why| told(&self.path, &why))?;
        Ok(self.kept.runs())
    }
}

fn told(path: &Path, why: &KeptError) -> OpenError {
    OpenError::File { path: path.to_owned(), why: why.to_string() }
}

fn part(asked: &Asked, was: &Asked) -> Option<String> {
    let shown = |asked: &Asked| format!("{}/{}", asked.part.number, asked.part.of);
    (asked.part != was.part).then(|| format!("expected part {}; found {}", shown(asked), shown(was)))
}

/// Whether more is there than a begin of the first line, which was torn.
fn is_begun(file: &mut File, first: &str) -> io::Result<bool> {
    let mut begin = Vec::new();
    file.take(first.len() as u64).read_to_end(&mut begin)?;
    file.rewind()?;
    Ok(begin.len() >= first.len() || !first.as_bytes().starts_with(&begin))
}
