//! Saying things on standard output and standard error.
//!
//! A closed pipe is no error: whoever reads has seen enough. Anything else that goes wrong with standard output is told
//! and ends with exit code 2; a standard error that cannot be written to leaves nobody to tell.

use std::fmt::Display;
use std::io::{self, Write};

use super::OpenError;

/// Writes a text to standard output, all of it.
pub(crate) fn say(text: impl Display) -> Result<(), OpenError> {
    let mut out = io::stdout().lock();
    said(write!(out, "{text}").and_then(|()| out.flush()))
}

/// What came of saying something on standard output.
pub(crate) fn said(done: io::Result<()>) -> Result<(), OpenError> {
    forgiving(done).map_err(|why| OpenError::Say { stream: "standard output", why })
}

/// What came of writing to a stream, a closed pipe forgiven.
pub(super) fn forgiving(done: io::Result<()>) -> io::Result<()> {
    match done {
        Err(why) if why.kind() == io::ErrorKind::BrokenPipe => Ok(()),
        done => done,
    }
}

/// Writes a text to standard error, as far as that can be done.
pub(crate) fn complain(text: impl Display) {
    let _ = write!(io::stderr().lock(), "{text}");
}
