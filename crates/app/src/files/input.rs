//! Reading text files: regular ones, or a pipe that was named on the command line; never more than a limit.

use std::fs::{File, FileType, OpenOptions};
use std::io::{self, Read, Seek, Write};
use std::os::unix::fs::{FileTypeExt, OpenOptionsExt};
use std::path::Path;

use rustix::fs::OFlags;
use velocitas_lab::stored::{is_lines, is_record};
use velocitas_lab::take::{MOST_BYTES as MOST_TAKE_BYTES, is_take};

/// The largest text read: far more than any course or gait needs.
const MOST_BYTES: u64 = 4 << 20;

/// How the name of a record's file in blocks ends.
pub(crate) const RECORD: &str = "record";
/// The same of one in JSON Lines.
const LINES: &str = "jsonl";

/// Stands for standard input or output on the command line.
pub(crate) const STANDARD: &str = "-";

fn wrong(why: String) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, why)
}

/// A text named on the command line: a regular file, a pipe, or `-` for standard input. `is` says what such a text is
/// where it is none. Waits for whoever writes into a pipe.
pub(crate) fn read_named(path: &Path, is: &str) -> io::Result<String> {
    read_text(named(path, is)?, is)
}

/// A file named on the command line that may be long, as far as is needed to tell what it is.
pub(super) enum Begun {
    /// The record of a run, in blocks or in JSON Lines, from its beginning.
    Record(File, Holds),
    /// Something else.
    Other(Box<dyn Read>),
}

/// How a record is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Holds {
    Blocks,
    Lines,
}

/// Opens what is named on the command line. The record of a run that comes through a pipe waits in a file without a name: it is read twice.
pub(super) fn begin(path: &Path, is: &str) -> io::Result<Begun> {
    let mut from = named(path, is)?;
    let mut begin = Vec::new();
    from.by_ref().take(64).read_to_end(&mut begin)?;
    let is_called = |kind| path.extension().is_some_and(|ends| ends == kind);
    let holds = match () {
        () if is_record(&begin) || is_called(RECORD) => Holds::Blocks,
        () if is_lines(&begin) || is_called(LINES) => Holds::Lines,
        () => return Ok(Begun::Other(Box::new(io::Cursor::new(begin).chain(from)))),
    };
    if path.metadata().is_ok_and(|there| there.is_file()) {
        return Ok(Begun::Record(File::open(path)?, holds));
    }
    let waits = |why: io::Error| {
        let folder = std::env::temp_dir();
        wrong(format!("it waits in {} until it is read (TMPDIR says where): {}", folder.display(), why))
    };
    let mut file = tempfile::tempfile().map_err(waits)?;
    file.write_all(&begin).map_err(waits)?;
    io::copy(&mut from, &mut file).map_err(waits)?;
    file.rewind()?;
    Ok(Begun::Record(file, holds))
}

/// The bytes of what may be a course or a take.
pub(super) fn read_course_or_take(mut from: impl Read, is: &str) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    from.by_ref().take(MOST_BYTES + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 <= MOST_BYTES {
        return Ok(bytes);
    }
    if !is_take(&bytes) {
        return Err(too_long(MOST_BYTES, is));
    }
    rest_of_take(from, bytes)
}

/// The bytes of a take.
pub(crate) fn read_take(from: impl Read) -> io::Result<Vec<u8>> {
    rest_of_take(from, Vec::new())
}

fn rest_of_take(from: impl Read, mut bytes: Vec<u8>) -> io::Result<Vec<u8>> {
    from.take(MOST_TAKE_BYTES + 1 - bytes.len() as u64).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > MOST_TAKE_BYTES { Err(too_long(MOST_TAKE_BYTES, "a take is a text")) } else { Ok(bytes) }
}

fn named(path: &Path, is: &str) -> io::Result<Box<dyn Read>> {
    if path == Path::new(STANDARD) {
        return Ok(Box::new(io::stdin().lock()));
    }
    let kind = path.metadata()?.file_type();
    if !kind.is_file() && !kind.is_fifo() {
        return Err(wrong(format!("it is {}; {is}", name_of(kind))));
    }
    Ok(Box::new(File::open(path)?))
}

fn too_long(most: u64, is: &str) -> io::Error {
    wrong(format!("it has more than {most} bytes; {is} of at most that many"))
}

/// A text that a course names: a regular file and nothing else, so that reading it ends. Never waits for a writer, not
/// even when the path becomes a pipe between two looks.
pub(crate) fn read_regular(path: &Path, is: &str) -> io::Result<String> {
    let at_once = (OFlags::NONBLOCK | OFlags::NOCTTY).bits() as i32;
    let file = OpenOptions::new().read(true).custom_flags(at_once).open(path)?;
    let kind = file.metadata()?.file_type();
    if !kind.is_file() {
        return Err(wrong(format!("it is {}; {is}", name_of(kind))));
    }
    read_text(file, is)
}

/// What was found in a folder and not named itself has to be a regular file: nobody may ever write into a pipe.
pub(crate) fn must_be_regular(path: &Path, is: &str) -> io::Result<()> {
    let kind = path.metadata()?.file_type();
    if kind.is_file() { Ok(()) } else { Err(wrong(format!("it is {}; {is}", name_of(kind)))) }
}

/// Reads to the end or one byte beyond the limit, whatever length the file says it has.
fn read_text(from: impl Read, is: &str) -> io::Result<String> {
    let mut bytes = Vec::new();
    from.take(MOST_BYTES + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > MOST_BYTES {
        return Err(too_long(MOST_BYTES, is));
    }
    as_text(bytes, is)
}

/// Bytes that are a text.
pub(super) fn as_text(bytes: Vec<u8>, is: &str) -> io::Result<String> {
    if is_record(&bytes) || is_lines(&bytes) {
        let opened_by = "`velocitas run`, `chart`, `compare`, `diagnose` and the interface open it, by its file's name";
        return Err(wrong(format!("it is the record of a run; {is}; {opened_by}")));
    }
    String::from_utf8(bytes).map_err(|_| wrong(format!("it is not UTF-8 text; {is}")))
}

/// What it is, when it is no regular file.
pub(super) fn name_of(kind: FileType) -> &'static str {
    if kind.is_char_device() || kind.is_block_device() {
        "a device"
    } else if kind.is_fifo() {
        "a pipe"
    } else if kind.is_socket() {
        "a socket"
    } else if kind.is_dir() {
        "a folder"
    } else {
        "no regular file"
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_of_the_limit_is_read_and_one_byte_more_is_refused() {
        let limit = MOST_BYTES as usize;
        assert_eq!(read_text(io::repeat(b'a').take(MOST_BYTES), "x").map(|t| t.len()).ok(), Some(limit));
        let endless = read_text(io::repeat(b'a'), "a gait is a text file").unwrap_err().to_string();
        assert!(endless.contains("more than 4194304 bytes; a gait is a text file"), "{endless}");
    }

    #[test]
    fn a_pipe_that_nobody_writes_into_is_refused_at_once_where_a_course_names_it() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("a.gait");
        let made = std::process::Command::new("mkfifo").arg(&path).status().expect("mkfifo");
        assert!(made.success());
        let why = read_regular(&path, "a gait is a text file").unwrap_err().to_string();
        assert_eq!(why, "it is a pipe; a gait is a text file");
        let why = read_regular(Path::new("/dev/zero"), "a gait is a text file").unwrap_err().to_string();
        assert_eq!(why, "it is a device; a gait is a text file");
    }
}
