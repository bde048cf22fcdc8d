//! Why an owner was put back without an accusation.

use serde::{Deserialize, Serialize};

/// What the guard cannot know, and nobody is accused of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Gap {
    /// Nothing was said for longer than any time could pay for.
    Silence,
    /// Ticks were lost that could tell, and more than now and then.
    Lost,
    /// Something solid came to be around it, and moved it, or may have in ticks that were lost.
    Around,
    /// It had just become its owner's own, who had not heard how it stood.
    Handover,
    /// A push that its owner did not answer had its effect.
    Push,
    /// Ticks were lost in which rule, tunables or ground changed.
    Change,
}

impl Gap {
    /// Its name in records and reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Silence => "silence",
            Self::Lost => "lost",
            Self::Around => "around",
            Self::Handover => "handover",
            Self::Push => "push",
            Self::Change => "change",
        }
    }
}
