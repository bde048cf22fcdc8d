//! What a server's guard looks at, and what it answers: a row for each rule.

use std::fmt;
use std::sync::Arc;

use crate::server::guard::case::Check;
use crate::server::guard::checks::checks;
use crate::verdict::{RULES, Rule};

/// The answer to a verdict.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Response {
    /// It is written down, at most once a second, and the claim holds.
    Note,
    /// The owner is put where it could lawfully have come to, and told.
    Clamp,
    /// The owner is put back to its last lawful place, and told until it has acknowledged it.
    PullBack,
    /// As a pull back; too many within a time end its connection.
    Strike,
    /// Its connection ends.
    Disconnect,
}

impl Response {
    /// All of them, from the mildest.
    pub const ALL: [Self; 5] = [Self::Note, Self::Clamp, Self::PullBack, Self::Strike, Self::Disconnect];

    /// Its name, as courses write it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Note => "note",
            Self::Clamp => "clamp",
            Self::PullBack => "pull back",
            Self::Strike => "strike",
            Self::Disconnect => "disconnect",
        }
    }
}

/// How many strikes within a time are too many.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Strikes {
    /// The number that ends a connection; at least 1.
    pub most: u32,
    /// The time in which they count, in milliseconds.
    pub within_ms: u32,
}

/// What a guard checks, allows and answers.
#[derive(Clone)]
pub struct Policy {
    /// The checks of claims, in their order, in their initial state.
    pub checks: Arc<[Box<dyn Check>]>,
    /// The answers, in the order of [`RULES`]. An input that breaks a rule is not used, whatever the answer.
    pub responses: [Response; RULES.len()],
    /// The multiple of what the rules and their slack allow, in the order of [`RULES`]: 1 for what they say. Only of those
    /// that are [adjustable](Rule::is_adjustable) does it say anything.
    pub allowed: [f32; RULES.len()],
    /// When strikes are too many.
    pub strikes: Strikes,
}

/// As much as the rules say.
pub const AS_SAID: [f32; RULES.len()] = [1.0; RULES.len()];

impl Policy {
    /// What is answered to a rule's verdict.
    pub const fn response(&self, rule: Rule) -> Response {
        if rule.is_of_hands() { Response::Note } else { self.responses[rule as usize] }
    }
}

impl Default for Policy {
    fn default() -> Self {
        Self {
            checks: checks().into(),
            responses: [Response::PullBack; RULES.len()],
            allowed: AS_SAID,
            strikes: Strikes { most: 5, within_ms: 60_000 },
        }
    }
}

impl fmt::Debug for Policy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Policy")
            .field("responses", &self.responses)
            .field("allowed", &self.allowed)
            .field("strikes", &self.strikes)
            .finish_non_exhaustive()
    }
}
