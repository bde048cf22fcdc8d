//! Who is who: things in the world, connections, players, and where and how often they come.
//!
//! Types that nothing turns into one another. Which machine a player sits at is not the core's to know.

use std::fmt;

use serde::{Deserialize, Serialize};

/// Something in the world: a slot, and which of its tenants.
///
/// A slot is used again once its tenant is gone; generations, modulo 256, tell the two apart. A slot that becomes free
/// waits behind all that were free before it, so a generation comes again only after every free slot has had 255 others.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct EntityId {
    /// The slot.
    pub index: u16,
    /// Which of its tenants.
    pub generation: u8,
}

impl EntityId {
    /// The first tenant of a slot.
    pub const fn first(index: u16) -> Self {
        Self { index, generation: 0 }
    }
}

impl fmt::Display for EntityId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.index, self.generation)
    }
}

/// A connection at a server, which issues both numbers.
///
/// Epochs count modulo 256: a datagram of the connection 256 returns ago is taken for one of this only if it was under way
/// all the while, and what it says is still held against the ticks and sequence numbers expected now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct PeerId {
    /// The place at the server.
    pub slot: u16,
    /// Which of those that had the place.
    pub epoch: u8,
}

impl fmt::Display for PeerId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.slot, self.epoch)
    }
}

/// Where datagrams come from and go to: the caller's number for a place on its network.
///
/// What it stands for only the caller knows; two places have two numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Address(pub u64);

/// A player, whatever connection it comes by: who comes back with the same token owns the same entities.
///
/// Handed in by the caller, who sees to it that nobody can guess another's: the core has no chance of its own.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Token(pub u64);

/// One start of a client's program: another number each time, handed in by the caller.
///
/// It tells a player who comes back after a crash from a hello of its that was long under way. It is no secret and need not
/// grow: a clock read at the start will do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Life(pub u64);

impl Life {
    /// The next one of a program that begins anew without being started again.
    #[must_use]
    pub const fn next(self) -> Self {
        Self(self.0.wrapping_add(1))
    }
}
