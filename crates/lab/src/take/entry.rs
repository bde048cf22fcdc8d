//! What a line of a take says.

use serde::{Deserialize, Serialize};

use super::told::Told;
use crate::absent::Absent;
use crate::course::NamedFile;

/// How the line of a row of the sealed record begins: the row and a closing brace follow. There may be millions of them, so that they are
/// told from other lines without being read.
pub(super) const ROW: &str = "{\"row\":";

/// How the line of a rule in Rust begins.
pub(super) const IN_RUST: &str = "{\"in_rust\":";

/// What a line says, but for rows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub(super) enum Entry {
    /// The first: what this is.
    Take {
        /// Of the file.
        format: u32,
        /// The version of the program that writes it.
        program: String,
        /// Where all luck comes from.
        seed: u64,
    },
    /// A course that was read.
    Course {
        /// 0: the one that the run began with; else which of those that were read while it ran.
        version: u16,
        /// Its file.
        file: String,
        /// What that said.
        text: String,
        /// The files that it names.
        files: Vec<NamedFile>,
    },
    /// A rule in Rust that the course names, as far as whoever does not have it can look at a record of the run.
    InRust(Box<Absent>),
    /// A rule that was read while the run went on.
    Rule {
        /// Which of them, from 1.
        version: u16,
        /// What its file said; `None` for one that has none.
        text: Option<String>,
    },
    /// Something was commanded.
    Do {
        /// When.
        at_ns: u64,
        /// What.
        what: Told,
    },
    /// The digest of the run at a checkpoint, before what was commanded at that moment.
    Digest {
        /// When.
        at_ns: u64,
        /// Sixteen hexadecimal digits.
        is: String,
    },
    /// The run went back: only the first of the commands so far still count, this number of them, and no digest of later than the moment.
    Back {
        /// To when.
        at_ns: u64,
        /// How many commands are left.
        commands: usize,
    },
    /// Who kept it looked at this, and later lines say otherwise.
    Look {
        /// When.
        at_ns: u64,
        /// At whom.
        who: String,
    },
    /// How far the run had come.
    Reached {
        /// When.
        at_ns: u64,
    },
}
