//! How far a client is in or out.

/// How far a client is in or out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Presence {
    /// It asks to join.
    Joining,
    /// It was refused, and asks again from time to time.
    Refused,
    /// It plays.
    Playing,
    /// It says goodbye.
    Leaving,
    /// It is out, and stays so.
    Left,
}

impl Presence {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Joining, Self::Refused, Self::Playing, Self::Leaving, Self::Left];

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Joining => "joining",
            Self::Refused => "refused",
            Self::Playing => "playing",
            Self::Leaving => "leaving",
            Self::Left => "left",
        }
    }
}
