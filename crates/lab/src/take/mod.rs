//! Takes: a run as a file, so that it can be had again elsewhere and later.
//!
//! A take holds what a run was made of (its course with all files that this names, the seed, what was commanded and when, the
//! rules and courses that were read meanwhile) and its digest at every checkpoint. Running that again gives the same run to the
//! bit; where another version of the program gives another, the digests say from which checkpoint on.
//!
//! The file is text: a line for each entry, JSON behind a checksum over all lines so far. It is only ever appended to, so that a
//! program that is killed leaves all that it had written, and damage is found at the line where it begins; what stands before it
//! is good. docs/take.md describes it for other programs.

mod entry;
mod journal;
mod read;
mod told;

pub use crate::seal::is_take;
pub use journal::Journal;
pub use read::{Damage, sealed_rows, without_rows};

use std::sync::Arc;

use thiserror::Error;
use velocitas_record::command::Command;
use velocitas_record::ids::MemberId;
use velocitas_record::time::LabTime;

use crate::course::{Course, CourseError};
use crate::reread::ReadRule;

/// The format that this program writes, and the only one that it reads.
pub const TAKE_FORMAT: u32 = 1;

/// No larger take is written or read: days of a run at whose helm somebody sits, or minutes of a sealed record.
pub const MOST_BYTES: u64 = 256 << 20;

/// A run that was kept.
#[derive(Clone, Debug)]
pub struct Take {
    /// The version of the program that wrote it.
    pub program: String,
    /// The name of the course's file.
    pub file: String,
    /// The course as the run began with it, its seed included.
    pub course: Course,
    /// What was commanded, in order.
    pub commands: Vec<(LabTime, Command)>,
    /// The digests at its checkpoints, in order.
    pub digests: Vec<(LabTime, u64)>,
    /// Rules that were read meanwhile, in that order.
    pub rules: Vec<ReadRule>,
    /// Courses that were taken over meanwhile, in that order.
    pub courses: Vec<Arc<Course>>,
    /// The moment and the member of the cast that who kept it looked at, if that is told.
    pub look: Option<(LabTime, MemberId)>,
    /// How many rows of its record it was sealed with.
    pub rows: usize,
    /// How far the run had come.
    pub end: LabTime,
    /// Where the file is no longer sound, if so: all that stands before it is in the take.
    pub damage: Option<Damage>,
}

/// Why a file gives no take.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum TakeError {
    /// Its first line is none of a take.
    #[error("expected a take, which begins with a checksum and {{\"take\": …}}; found {0}")]
    NoTake(String),
    /// Its format is another.
    #[error("expected a take of format {TAKE_FORMAT}; found format {0}: another version of the program wrote it")]
    Format(u32),
    /// A line is sound and says what this program does not understand.
    #[error("line {line}: {why}")]
    Line {
        /// Which, from 1.
        line: usize,
        /// What was expected and what was found.
        why: String,
    },
    /// A course in it cannot be read.
    #[error("line {line}: the course in it cannot be read: {why}")]
    Course {
        /// Of the line, from 1.
        line: usize,
        /// What is wrong.
        why: Box<CourseError>,
    },
    /// There is nothing to run.
    #[error("expected a course on line 2; the file ends before it{0}")]
    NoCourse(String),
}
