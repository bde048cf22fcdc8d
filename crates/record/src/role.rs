//! How members of a cast behave, and how they come and go.

use serde::{Deserialize, Serialize};

/// How a member of the cast behaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// Meant for the keyboard; follows its route until somebody takes the helm.
    Helm,
    /// Follows its route.
    Bot,
    /// Follows its route and cheats.
    Rogue,
}

impl Role {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Helm, Self::Bot, Self::Rogue];

    /// Its name in courses and reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Helm => "helm",
            Self::Bot => "bot",
            Self::Rogue => "rogue",
        }
    }
}

/// How somebody comes or goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Coming {
    /// Its program is started.
    Join,
    /// It says goodbye.
    Leave,
    /// Its program ends without a word.
    Crash,
    /// Its program is started again.
    Return,
}

impl Coming {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Join, Self::Leave, Self::Crash, Self::Return];

    /// Its name in courses and reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Join => "join",
            Self::Leave => "leave",
            Self::Crash => "crash",
            Self::Return => "return",
        }
    }

    /// Whether its program runs afterwards.
    pub const fn comes(self) -> bool {
        matches!(self, Self::Join | Self::Return)
    }
}
