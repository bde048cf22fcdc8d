//! The end of a connection. A client says goodbye with a message that holds nothing, until this answers it.

use serde::{Deserialize, Serialize};

use super::bits::{BitReader, BitWriter};
use super::error::{WireError, ranged};
use crate::verdict::{RULES, Rule};

/// Says that the connection named in the envelope is no more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ended {
    /// Why.
    pub why: EndedBy,
}

/// Why a connection is no more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum EndedBy {
    /// Its player left.
    Leave,
    /// Nothing was heard of its player for too long.
    Silence,
    /// Its player came by another one.
    Return,
    /// The server's owner wanted so.
    Dismissal,
    /// The server knows of none.
    Unknown,
    /// Its guard does not let its player play on: by this rule.
    Verdict(Rule),
}

impl EndedBy {
    /// Those that say all there is to say, in the order of their numbers.
    const PLAIN: [Self; 5] = [Self::Leave, Self::Silence, Self::Return, Self::Dismissal, Self::Unknown];

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Leave => "leave",
            Self::Silence => "silence",
            Self::Return => "return",
            Self::Dismissal => "dismissal",
            Self::Unknown => "unknown",
            Self::Verdict(_) => "verdict",
        }
    }

    /// The rule by which it ended, where it did by a verdict.
    pub const fn rule(self) -> Option<Rule> {
        match self {
            Self::Verdict(rule) => Some(rule),
            _ => None,
        }
    }
}

impl Ended {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter) {
        let plain = EndedBy::PLAIN.iter().position(|why| *why == self.why);
        out.put(plain.unwrap_or(EndedBy::PLAIN.len()) as u32, 8);
        if let EndedBy::Verdict(rule) = self.why {
            out.put(rule as u32, 8);
        }
    }

    pub(super) fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        let number = ranged("reason of an end", from.take(8)?, 0, EndedBy::PLAIN.len() as u32)?;
        if let Some(why) = EndedBy::PLAIN.get(number as usize) {
            return Ok(Self { why: *why });
        }
        let rule = ranged("rule of a verdict", from.take(8)?, 0, RULES.len() as u32 - 1)?;
        Ok(Self { why: EndedBy::Verdict(RULES[rule as usize].rule) })
    }
}
