//! A record that is written while its run goes on, so that little of it is kept in memory.

use std::fs::File;
use std::io::{self, BufWriter, Seek};
use std::path::{Path, PathBuf};

use velocitas_lab::Run;
use velocitas_lab::export::{Lines, first_row, last_row};
use velocitas_lab::stored::Store;
use velocitas_lab::take::Journal;
use velocitas_record::LabTime;

use super::input::RECORD;
use super::output::Growing;
use super::{OpenError, Output};

/// A record on its way out: in blocks where its name ends with `.record`, else as JSON Lines.
pub(crate) enum Recording {
    Rows(Box<Rows>),
    Blocks(Box<Blocks>),
}

/// Rows on their way out. The first row tells of all that ever was: until that is known the others wait in a file without a name.
pub(crate) struct Rows {
    output: Output,
    aside: BufWriter<File>,
    /// The folder of that file.
    folder: PathBuf,
    lines: Lines,
    journal: Journal,
}

/// Blocks on their way out, each as soon as it is full: what is there is sound, whenever that ends.
pub(crate) struct Blocks {
    growing: Growing,
    store: Store<BufWriter<File>>,
    journal: Journal,
}

impl Recording {
    /// Whether a record of that name is in blocks.
    pub(crate) fn is_in_blocks(path: &Path) -> bool {
        path.extension().is_some_and(|kind| kind == RECORD)
    }

    /// Begins one, of a run at its beginning whose take this journal tells.
    pub(crate) fn new(output: Output, path: &Path, run: &Run, journal: Journal) -> Result<Self, OpenError> {
        if Self::is_in_blocks(path) {
            let growing = output.grow()?;
            let store =
                growing.file().and_then(|file| Store::new(BufWriter::with_capacity(1 << 16, file), run.record()));
            let store = store.map_err(|why| growing.wrong(why))?;
            return Ok(Self::Blocks(Box::new(Blocks { growing, store, journal })));
        }
        let (file, folder) = output.aside()?;
        let aside = BufWriter::with_capacity(1 << 16, file);
        Ok(Self::Rows(Box::new(Rows { output, aside, folder, lines: Lines::default(), journal })))
    }

    /// Runs on to a moment a second further at most, and writes what is settled.
    pub(crate) fn advance(&mut self, run: &mut Run, to: LabTime) -> Result<(), OpenError> {
        match self {
            Self::Rows(rows) => {
                run.advance(to);
                rows.lines.follow(run, &mut rows.aside).map_err(|why| rows.output.waiting(&rows.folder, &why))
            }
            Self::Blocks(blocks) => {
                let Blocks { growing, store, journal } = &mut **blocks;
                let news = journal.news(run);
                let written = store.text(&news).and_then(|()| {
                    run.advance_with(to, store);
                    store.flush()
                });
                written.map_err(|why| growing.wrong(why))
            }
        }
    }

    /// Writes the rest and gives the whole its name.
    pub(crate) fn finish(self, run: &Run) -> Result<(), OpenError> {
        match self {
            Self::Rows(rows) => rows.finish(run),
            Self::Blocks(blocks) => {
                let Blocks { growing, mut store, mut journal } = *blocks;
                let written = store
                    .text(&journal.news(run))
                    .and_then(|()| store.finish(run.now(), &run.ending().unwrap_or_default()));
                written.map(drop).map_err(|why| growing.wrong(why))
            }
        }
    }
}

impl Rows {
    fn finish(self, run: &Run) -> Result<(), OpenError> {
        let Self { output, mut aside, folder, mut lines, mut journal } = self;
        let wrong = |why: io::Error| output.waiting(&folder, &why);
        lines.rest(run.found(), &mut aside).map_err(wrong)?;
        let mut rows = aside.into_inner().map_err(|why| wrong(why.into_error()))?;
        rows.rewind().map_err(wrong)?;
        let (ending, take) = (run.ending(), journal.news(run));
        output.finish(|mut out| {
            first_row(run.record(), Some(&take), &mut out)?;
            io::copy(&mut rows, &mut out)?;
            // Of a record that was cut short the end is not known.
            ending.map_or(Ok(()), |ending| last_row(run.record(), &ending, &mut out))
        })
    }
}
