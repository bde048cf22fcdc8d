//! In which form a snapshot travels.

/// In which form states come down.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum StateDown {
    /// Everybody whole, each lane in the bits of its field.
    #[default]
    Whole,
    /// The same through a general-purpose compressor: the choice that is made first.
    Compressed,
    /// Everybody against the newest snapshot that is known to have come.
    Delta,
    /// The same through a range coder.
    Coded,
}

impl StateDown {
    /// All of them, in the order of their numbers on the wire.
    pub const ALL: [Self; 4] = [Self::Whole, Self::Compressed, Self::Delta, Self::Coded];

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Whole => "whole",
            Self::Compressed => "compressed",
            Self::Delta => "delta",
            Self::Coded => "coded",
        }
    }

    /// Whether it rests on what its receiver has.
    pub const fn has_baseline(self) -> bool {
        matches!(self, Self::Delta | Self::Coded)
    }
}
