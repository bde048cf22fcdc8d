//! What a verdict means for who it is of.

use crate::policy::Response;
use crate::server::guard::Ruling;
use crate::verdict::Rule;

/// What a verdict means for the player, beside what becomes of its entity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::server) enum Sentence {
    /// It counts.
    Strike(Rule),
    /// It ends here.
    Disconnect(Rule),
}

impl Sentence {
    pub(in crate::server) const fn of(rule: Rule, response: Response) -> Option<Self> {
        match response {
            Response::Strike => Some(Self::Strike(rule)),
            Response::Disconnect => Some(Self::Disconnect(rule)),
            Response::Note | Response::Clamp | Response::PullBack => None,
        }
    }

    /// That of a ruling.
    pub(in crate::server) const fn of_ruling(ruling: &Ruling) -> Option<Self> {
        match ruling {
            Ruling::Guilty(offence, response) => Self::of(offence.evidence.rule, *response),
            Ruling::Lawful | Ruling::Resync(_) => None,
        }
    }
}
