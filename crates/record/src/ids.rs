//! Who is who in the lab: computers, and members of the cast. Which entity is whose, the record says.

use serde::{Deserialize, Serialize};
use velocitas_core::Tick;

/// A computer of the lab, with a clock and frames.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct MachineId(u16);

impl MachineId {
    /// The one that decides: a computer of its own, or that of the member who hosts.
    pub const SERVER: Self = Self(0);

    /// The first `count` machines, the one that decides in front.
    pub fn first(count: usize) -> impl DoubleEndedIterator<Item = Self> + ExactSizeIterator + Clone {
        (0..count as u16).map(Self)
    }

    /// The one after this number of others: a course has no more than fit.
    pub const fn after(others: usize) -> Self {
        Self(others as u16)
    }

    /// Its place among all machines.
    pub const fn index(self) -> usize {
        self.0 as usize
    }

    /// Its number in the book of luck.
    pub const fn place(self) -> u32 {
        self.0 as u32
    }
}

/// What on a machine: it may hold a server, a client, or both.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub enum Part {
    /// What decides.
    Server,
    /// What plays.
    Client,
}

/// A member of a course's cast: a name in the file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct MemberId(u16);

impl MemberId {
    /// By its place in the file.
    pub const fn new(place: u16) -> Self {
        Self(place)
    }

    /// Its place in the cast.
    pub const fn index(self) -> usize {
        self.0 as usize
    }

    /// All members of a cast of `count`.
    pub fn all(count: usize) -> impl DoubleEndedIterator<Item = Self> + ExactSizeIterator + Clone {
        (0..count as u16).map(Self)
    }
}

/// A tick as a record counts it: from the first of its session. Never a [`Tick`] of the core, which counts from anywhere.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct RecordTick(pub u32);

impl RecordTick {
    /// A tick of a session that begins with `first`. What lies before that is its beginning.
    pub const fn of(first: Tick, tick: Tick) -> Self {
        let since = tick.0.saturating_sub(first.0);
        Self(if since > u32::MAX as u64 { u32::MAX } else { since as u32 })
    }

    /// The tick itself.
    pub const fn tick(self, first: Tick) -> Tick {
        Tick(first.0 + self.0 as u64)
    }

    /// So many ticks later.
    pub const fn plus(self, ticks: u32) -> Self {
        Self(self.0.saturating_add(ticks))
    }
}

/// An entity of a record, in the order of birth: where slots of the world are used again, each tenant is another.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ActorId(u16);

impl ActorId {
    /// The first `count` entities.
    pub fn first(count: usize) -> impl DoubleEndedIterator<Item = Self> + ExactSizeIterator + Clone {
        (0..count as u16).map(Self)
    }

    /// The one in this place among `count`.
    pub fn at(place: usize, count: usize) -> Option<Self> {
        (place < count).then_some(Self(place as u16))
    }

    /// As part of a row.
    pub fn code(&mut self, before: Self, coder: &mut impl crate::coder::Coder) {
        coder.small(&mut self.0, before.0);
    }

    /// Its place among all that ever were.
    pub const fn index(self) -> usize {
        self.0 as usize
    }
}
