//! Results of a matrix in a file that grows while it is run, so that a run that was killed goes on where it was.
//!
//! The file is text, sealed line by line as a take is ([`crate::seal`]). Its first line says what was asked; every other
//! line is one cell with one seed. Lines are in the order of the matrix, whatever ends first: the file of a run that was killed and went
//! on is that of one that was not. A line that is torn, and all behind it, are left out.

use std::io::{self, BufRead};

use serde::{Deserialize, Serialize};
use thiserror::Error;
use velocitas_core::Digest;

use super::grid::{Grid, GridAxis, MOST_CELLS};
use crate::course::Course;
use crate::seal::Seal;

/// More seeds than this are refused.
const MOST_SEEDS: u32 = 100_000;
/// The format of these files.
pub const VARY_FORMAT: u32 = 1;
/// The longest line that is read.
const MOST_LINE: u64 = 4 << 20;

/// What was asked: all that results depend on.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Asked {
    /// The format of the file.
    pub vary: u32,
    /// The version of the program.
    pub program: String,
    /// The course, as it is named.
    pub course: String,
    /// A digest of what it and the files that it names say.
    pub digest: String,
    /// The settings that are varied, and their values.
    pub grid: Grid,
    /// What is measured, by key.
    pub measures: Vec<String>,
    /// For each measure its bound, if it has one.
    pub limits: Vec<Option<f64>>,
    /// Over whom.
    pub whose: String,
    /// The first seed.
    pub first_seed: u64,
    /// How many seeds.
    pub seeds: u32,
    /// How long each run is, in nanoseconds of lab time.
    pub lasts_ns: u64,
    /// Which part of the matrix.
    pub part: Part,
}

/// A share of the cells: of each `of` cells in a row the one at `number`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    /// From 1.
    pub number: u32,
    /// How many parts there are.
    pub of: u32,
}

/// What one cell came to with one seed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Outcome {
    /// The cell.
    pub cell: usize,
    /// The seed.
    pub seed: u64,
    /// For each measure its value of each member who is meant and had any.
    pub values: Vec<Vec<f64>>,
}

/// Why a file of results cannot be used.
#[derive(Debug, Error)]
pub enum KeptError {
    /// It cannot be read.
    #[error("{0}")]
    Read(#[from] io::Error),
    /// It is something else.
    #[error("expected results of `velocitas vary --into`, which begin with a checksum and {{\"vary\": …}}; found {0}")]
    NoResults(String),
    /// It is of another format.
    #[error(
        "expected results of format {VARY_FORMAT}; found format {0}: use the version of the program that wrote them"
    )]
    Format(u64),
    /// A sound line says what it cannot.
    #[error("line {line}: expected {expected}; found {found}")]
    Line {
        /// Which, from 1.
        line: usize,
        /// What should be there.
        expected: String,
        /// What is there.
        found: String,
    },
}

impl Part {
    /// All of it.
    pub const WHOLE: Self = Self { number: 1, of: 1 };

    /// Reads `3/16`.
    ///
    /// # Errors
    /// When it is none.
    pub fn read(text: &str) -> Result<Self, String> {
        let (number, of) = text.split_once('/').unwrap_or((text, ""));
        match (number.trim().parse(), of.trim().parse()) {
            (Ok(number), Ok(of)) if (1..=of).contains(&number) && of <= 100_000 => Ok(Self { number, of }),
            _ => Err(format!("expected a part such as 3/16, of at most 100000; found `{text}`")),
        }
    }

    /// How many of so many cells are in it.
    pub const fn cells(self, of_all: usize) -> usize {
        of_all.saturating_sub(self.number as usize - 1).div_ceil(self.of as usize)
    }

    /// The cell at a place among those that are in it.
    const fn cell(self, place: usize) -> usize {
        place * self.of as usize + self.number as usize - 1
    }
}

/// What stands for a course and all files that it names.
pub fn digest_of(course: &Course) -> String {
    let mut digest = Digest::default();
    let mut text = |text: &str| {
        digest.word(text.len() as u64);
        text.bytes().for_each(|byte| digest.word(byte.into()));
    };
    text(&course.text);
    for file in course.files.iter() {
        text(&file.path);
        text(&file.text);
    }
    format!("{:016x}", digest.value())
}

impl Asked {
    /// How many runs there are.
    pub fn runs(&self) -> usize {
        self.part.cells(self.grid.cells()) * self.seeds as usize
    }

    /// The cell and the seed of a run.
    pub fn run(&self, place: usize) -> (usize, u64) {
        let seeds = self.seeds as usize;
        (self.part.cell(place / seeds), self.first_seed.wrapping_add((place % seeds) as u64))
    }

    /// What of another was asked otherwise, if anything was, the part left out: what this one says, and what that one.
    pub fn differs_from(&self, other: &Self) -> Option<String> {
        let axes = |asked: &Self| {
            let axes: Vec<String> =
                asked.grid.axes.iter().map(|axis| format!("{}={}", axis.key, axis.values.join(","))).collect();
            axes.join(" ") + if asked.grid.in_step { " in step" } else { "" }
        };
        let rows = |asked: &Self| {
            [
                ("the course", asked.course.clone()),
                ("the program's version", asked.program.clone()),
                ("what the course and its files say, as a digest,", asked.digest.clone()),
                ("the settings", axes(asked)),
                ("the measures", asked.measures.join(",")),
                ("whose", asked.whose.clone()),
                ("the seeds", format!("{} from {} on", asked.seeds, asked.first_seed)),
                ("the length of a run", format!("{} s", asked.lasts_ns as f64 / 1e9)),
                ("the bounds", format!("{:?}", asked.limits)),
            ]
        };
        let mut told = rows(self).into_iter().zip(rows(other));
        told.find(|((_, here), (_, there))| here != there).map(|((what, here), (_, there))| {
            let short = |text: String| match text.char_indices().nth(200) {
                Some((end, _)) => format!("{}…", &text[..end]),
                None => text,
            };
            format!("expected {what} to be `{}`; found `{}`", short(here), short(there))
        })
    }
}

/// The lines of a file of results.
#[derive(Clone, Debug, Default)]
pub struct Kept {
    seal: Seal,
    /// Lines that are there: the first, and one for each run.
    lines: usize,
    /// Bytes of them.
    bytes: u64,
}

impl Kept {
    /// The first line of a new file.
    pub fn begin(&mut self, asked: &Asked) -> String {
        self.sealed(&serde_json::to_string(asked).unwrap_or_default())
    }

    /// The line of what a run came to: the next in order.
    pub fn line(&mut self, outcome: &Outcome) -> String {
        self.sealed(&serde_json::to_string(outcome).unwrap_or_default())
    }

    fn sealed(&mut self, text: &str) -> String {
        let line = self.seal.line(text);
        self.lines += 1;
        self.bytes += line.len() as u64;
        line
    }

    /// Runs whose results are there.
    pub const fn runs(&self) -> usize {
        self.lines.saturating_sub(1)
    }

    /// Bytes of sound lines.
    pub const fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Reads the first line: what was asked.
    ///
    /// # Errors
    /// When it cannot be read, is no such file, or is of another format.
    pub fn open(from: &mut impl BufRead) -> Result<(Asked, Self), KeptError> {
        let (mut kept, mut line) = (Self::default(), Vec::new());
        next_line(from, &mut line)?;
        let asked = kept.first(&line)?;
        Ok((asked, kept))
    }

    /// Reads the results that are there and sound; `each` is told every one, in order.
    ///
    /// # Errors
    /// When it cannot be read, or a sound line says what it cannot.
    pub fn results(
        &mut self,
        asked: &Asked,
        from: &mut impl BufRead,
        mut each: impl FnMut(Outcome),
    ) -> Result<(), KeptError> {
        let mut line = Vec::new();
        loop {
            next_line(from, &mut line)?;
            // A line that is torn was being written when it ended.
            let mut seal = self.seal.clone();
            let Ok(text) = seal.open(&line) else { return Ok(()) };
            let number = self.lines + 1;
            let outcome = asked.outcome(self.runs(), number, text)?;
            *self = Self { seal, lines: number, bytes: self.bytes + line.len() as u64 };
            each(outcome);
        }
    }

    fn first(&mut self, line: &[u8]) -> Result<Asked, KeptError> {
        let shown = || match line.is_empty() {
            true => "an empty file".to_owned(),
            false => format!("`{}`", String::from_utf8_lossy(&line[..line.len().min(60)]).trim_end()),
        };
        let text = self.seal.open(line).map_err(|_| KeptError::NoResults(shown()))?;
        let format = serde_json::from_str::<serde_json::Value>(text).ok().and_then(|all| all["vary"].as_u64());
        match format {
            None => return Err(KeptError::NoResults(shown())),
            Some(format) if format != u64::from(VARY_FORMAT) => return Err(KeptError::Format(format)),
            Some(_) => {}
        }
        let asked: Asked = serde_json::from_str(text).map_err(|why| KeptError::Line {
            line: 1,
            expected: "what was asked".to_owned(),
            found: why.to_string(),
        })?;
        (self.lines, self.bytes) = (1, line.len() as u64);
        asked.sound()
    }
}

impl Asked {
    /// Itself, if it can be: whoever seals a file by hand may say anything.
    fn sound(self) -> Result<Self, KeptError> {
        let grid = &self.grid;
        let even = |axis: &GridAxis| {
            !axis.values.is_empty() && axis.numbers.as_ref().is_none_or(|numbers| numbers.len() == axis.values.len())
        };
        let first = grid.axes.first().map_or(0, |axis| axis.values.len());
        let good = !grid.axes.is_empty()
            && grid.axes.iter().all(even)
            && (!grid.in_step || grid.axes.iter().all(|axis| axis.values.len() == first))
            && grid.count().is_some_and(|cells| cells <= MOST_CELLS)
            && (1..=MOST_SEEDS).contains(&self.seeds)
            && (1..=self.part.of).contains(&self.part.number)
            && self.limits.len() == self.measures.len();
        let found = || format!("{} settings, {} seeds, part {:?}", grid.axes.len(), self.seeds, self.part);
        match good {
            true => Ok(self),
            false => Err(KeptError::Line { line: 1, expected: "a matrix that can be run".to_owned(), found: found() }),
        }
    }

    /// What a line says of the run at a place.
    fn outcome(&self, place: usize, line: usize, text: &str) -> Result<Outcome, KeptError> {
        let wrong = |expected: String, found: String| Err(KeptError::Line { line, expected, found });
        let outcome: Outcome = match serde_json::from_str(text) {
            Ok(outcome) => outcome,
            Err(why) => return wrong("what a run came to".to_owned(), why.to_string()),
        };
        if place >= self.runs() {
            return wrong(format!("{} runs", self.runs()), "one more".to_owned());
        }
        let (cell, seed) = self.run(place);
        if (outcome.cell, outcome.seed) != (cell, seed) {
            let found = format!("cell {} and seed {}", outcome.cell, outcome.seed);
            return wrong(format!("cell {cell} and seed {seed}"), found);
        }
        if outcome.values.len() != self.measures.len() {
            return wrong(format!("{} measures", self.measures.len()), outcome.values.len().to_string());
        }
        Ok(outcome)
    }
}

/// The next line with its line break, or what there is of it.
fn next_line(from: &mut impl BufRead, line: &mut Vec<u8>) -> io::Result<()> {
    line.clear();
    io::Read::take(from, MOST_LINE).read_until(b'\n', line).map(drop)
}
