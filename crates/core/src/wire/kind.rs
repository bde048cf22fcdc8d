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
    /// Asks a stranger something back.
    Challenge = 6,
    /// Does not let somebody join.
    Refusal = 7,
    /// Leaves.
    Goodbye = 8,
    /// The connection is no more.
    Ended = 9,
    /// Inputs going up, with where they took their owner.
    Account = 10,
    /// The server's time coming down.
    Clock = 11,
    /// A piece of the ordered stream going up.
    StreamUp = 12,
    /// A piece of the ordered stream coming down.
    StreamDown = 13,
}

impl MessageKind {
    /// All kinds, in the order of their numbers.
    pub const ALL: [Self; 14] = [
        Self::Hello,
        Self::Welcome,
        Self::Inputs,
        Self::Snapshot,
        Self::Claim,
        Self::PullBack,
        Self::Challenge,
        Self::Refusal,
        Self::Goodbye,
        Self::Ended,
        Self::Account,
        Self::Clock,
        Self::StreamUp,
        Self::StreamDown,
    ];

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Hello => "hello",
            Self::Welcome => "welcome",
            Self::Inputs => "inputs",
            Self::Snapshot => "snapshot",
            Self::Claim => "claim",
            Self::PullBack => "pullback",
            Self::Challenge => "challenge",
            Self::Refusal => "refusal",
            Self::Goodbye => "goodbye",
            Self::Ended => "ended",
            Self::Account => "account",
            Self::Clock => "clock",
            Self::StreamUp => "stream_up",
            Self::StreamDown => "stream_down",
        }
    }

    /// Whether it may travel in a piece of an ordered stream.
    pub const fn may_be_streamed(self) -> bool {
        self.is_word() || matches!(self, Self::Snapshot)
    }

    /// Whether it goes from a client to the server.
    pub const fn is_up(self) -> bool {
        matches!(self, Self::Hello | Self::Inputs | Self::Claim | Self::Account | Self::Goodbye | Self::StreamUp)
    }

    /// Whether it is a piece of an ordered stream.
    pub const fn is_piece(self) -> bool {
        matches!(self, Self::StreamUp | Self::StreamDown)
    }

    /// Whether it is an owner's word of what its entity does.
    pub const fn is_word(self) -> bool {
        matches!(self, Self::Inputs | Self::Claim | Self::Account)
    }

    /// Whether it is about coming and going rather than about what moves.
    pub const fn is_joining(self) -> bool {
        matches!(self, Self::Hello | Self::Challenge | Self::Welcome | Self::Refusal)
    }

    /// Whether the message is about a tick, which it then begins with.
    pub const fn has_tick(self) -> bool {
        matches!(self, Self::Inputs | Self::Snapshot | Self::Claim | Self::Account | Self::PullBack | Self::Clock)
    }

    /// The kind of a number on the wire.
    pub fn from_number(number: u16) -> Option<Self> {
        Self::ALL.get(usize::from(number)).copied()
    }
}
