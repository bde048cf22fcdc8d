//! The parts of the netcode, in whose order knobs stand.

/// A part.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Group {
    /// What the way does to datagrams.
    Link,
    /// How a client knows which tick it is at the server.
    Clock,
    /// How inputs travel.
    Inputs,
    /// What the server does for a player.
    Server,
    /// How others are shown.
    Remotes,
    /// How the own character is shown.
    Own,
}

impl Group {
    /// All of them, in order.
    pub const ALL: [Self; 6] = [Self::Link, Self::Clock, Self::Inputs, Self::Server, Self::Remotes, Self::Own];

    /// As it is called on screens.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Link => "link",
            Self::Clock => "clock",
            Self::Inputs => "inputs up",
            Self::Server => "server",
            Self::Remotes => "remotes",
            Self::Own => "self",
        }
    }

    /// What it is about, in a line.
    pub const fn help(self) -> &'static str {
        match self {
            Self::Link => "what the way does to datagrams, up and down",
            Self::Clock => "how far ahead of the server a client runs, and how it keeps that",
            Self::Inputs => "how inputs travel up: how often, how much again, how soon they count",
            Self::Server => "what the server does for this player",
            Self::Remotes => "how others are shown",
            Self::Own => "how the own character is moved and shown",
        }
    }
}
