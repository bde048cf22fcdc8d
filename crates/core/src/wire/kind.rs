//! The number that names a message.

/// The number that names a message in the envelope.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MessageKind {
    /// Asks to join.
    Hello = 0,
    /// Lets somebody join.
    Welcome = 1,
    /// Inputs going up.
    Inputs = 2,
    /// A snapshot coming down.
    Snapshot = 3,
    /// Positions going up.
    Claim = 4,
    /// The guard's answer.
    PullBack = 5,
}

impl MessageKind {
    /// All kinds, in the order of their numbers.
    pub const ALL: [Self; 6] = [Self::Hello, Self::Welcome, Self::Inputs, Self::Snapshot, Self::Claim, Self::PullBack];

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Hello => "hello",
            Self::Welcome => "welcome",
            Self::Inputs => "inputs",
            Self::Snapshot => "snapshot",
            Self::Claim => "claim",
            Self::PullBack => "pullback",
        }
    }

    /// Whether it goes from a client to the server.
    pub const fn is_up(self) -> bool {
        matches!(self, Self::Hello | Self::Inputs | Self::Claim)
    }

    /// Whether the message is about a tick, which it then begins with.
    pub const fn has_tick(self) -> bool {
        !matches!(self, Self::Hello | Self::Welcome)
    }

    pub(super) fn from_number(number: u8) -> Option<Self> {
        Self::ALL.get(usize::from(number)).copied()
    }
}
