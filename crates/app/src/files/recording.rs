//! A record that is written while its run goes on, so that little of it is kept in memory.

use std::fs::File;
use std::io::{self, BufWriter, Seek};
use std::path::PathBuf;

use velocitas_lab::Run;
use velocitas_lab::export::{Ending, Lines, first_row, last_row};

use super::{OpenError, Output};

/// Rows on their way out. The first row tells of all that ever was: until that is known the others wait in a file without a name.
pub(crate) struct Recording {
    output: Output,
    aside: BufWriter<File>,
    /// The folder of that file.
    folder: PathBuf,
    lines: Lines,
}

impl Recording {
    /// Begins one.
    pub(crate) fn new(output: Output) -> Result<Self, OpenError> {
        let (file, folder) = output.aside()?;
        Ok(Self { output, aside: BufWriter::with_capacity(1 << 16, file), folder, lines: Lines::default() })
    }

    /// Writes what is settled; to be called every second of the run.
    pub(crate) fn follow(&mut self, run: &mut Run) -> Result<(), OpenError> {
        self.lines.follow(run, &mut self.aside).map_err(|why| self.output.waiting(&self.folder, &why))
    }

    /// Writes the rest and gives the whole its name.
    pub(crate) fn finish(self, run: &Run) -> Result<(), OpenError> {
        let Self { output, mut aside, folder, mut lines } = self;
        let wrong = |why: io::Error| output.waiting(&folder, &why);
        lines.rest(run.record(), &mut aside).map_err(wrong)?;
        let mut rows = aside.into_inner().map_err(|why| wrong(why.into_error()))?;
        rows.rewind().map_err(wrong)?;
        let ending = Ending { digest: run.digest(), refused_datagrams: run.lab().refused() };
        output.finish(|mut out| {
            first_row(run.record(), &mut out)?;
            io::copy(&mut rows, &mut out)?;
            last_row(run.record(), &ending, &mut out)
        })
    }
}
