//! The end of a connection. A client says goodbye with a message that holds nothing, until this answers it.

use serde::{Deserialize, Serialize};

use super::error::ranged;
use super::noting::FieldValue;
use super::rows::{Passed, Way, number};
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
    /// All of it.
    pub(super) fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        way.one(self, Self::reason, |it| {
            let rule = it.why.rule().map_or(String::new(), |rule| format!(" by {}", rule.name()));
            ("reason".to_owned(), FieldValue::Words(format!("{}{rule}", it.why.name())))
        })
    }

    fn reason<W: Way>(way: &mut W, it: &mut Self) -> Passed {
        let plain = EndedBy::PLAIN.iter().position(|why| *why == it.why);
        let mut code = plain.unwrap_or(EndedBy::PLAIN.len()) as u32;
        way.bits("reason", &mut code, 8, number)?;
        let code = ranged("reason of an end", code, 0, EndedBy::PLAIN.len() as u32)?;
        if let Some(why) = EndedBy::PLAIN.get(code as usize) {
            it.why = *why;
            return Ok(());
        }
        let mut rule = it.why.rule().map_or(0, |rule| rule as u32);
        way.bits("rule", &mut rule, 8, number)?;
        let rule = ranged("rule of a verdict", rule, 0, RULES.len() as u32 - 1)?;
        it.why = EndedBy::Verdict(RULES[rule as usize].rule);
        Ok(())
    }
}
