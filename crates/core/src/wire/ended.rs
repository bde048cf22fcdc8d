//! The end of a connection. A client says goodbye with a message that holds nothing, until this answers it.

use super::bits::{BitReader, BitWriter};
use super::error::{WireError, ranged};

/// Says that the connection named in the envelope is no more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ended {
    /// Why.
    pub why: EndedBy,
}

/// Why a connection is no more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum EndedBy {
    /// Its player left.
    Leave = 0,
    /// Nothing was heard of its player for too long.
    Silence = 1,
    /// Its player came by another one.
    Return = 2,
    /// The server's owner wanted so.
    Dismissal = 3,
    /// The server knows of none.
    Unknown = 4,
}

impl EndedBy {
    /// All of them, in the order of their numbers.
    pub const ALL: [Self; 5] = [Self::Leave, Self::Silence, Self::Return, Self::Dismissal, Self::Unknown];

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Leave => "leave",
            Self::Silence => "silence",
            Self::Return => "return",
            Self::Dismissal => "dismissal",
            Self::Unknown => "unknown",
        }
    }
}

impl Ended {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter) {
        out.put(self.why as u32, 8);
    }

    pub(super) fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        let number = ranged("reason of an end", from.take(8)?, 0, EndedBy::ALL.len() as u32 - 1)?;
        Ok(Self { why: EndedBy::ALL[number as usize] })
    }
}
