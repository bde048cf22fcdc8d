//! Files that a course names, with what they said: a take and a record hold them.

use serde::{Deserialize, Serialize};

/// A file that a course names.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NamedFile {
    /// As the course names it.
    pub path: String,
    /// What it said.
    pub text: String,
}

/// A rule that was read from a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GaitFile {
    /// The number of the rule.
    pub kind: u8,
    /// Its file as the course names it.
    pub path: String,
    /// What the file said.
    pub text: String,
}
