//! What a server is made with, and why an entity cannot be.

use thiserror::Error;

use crate::ids::EntityId;
use crate::policy::Policy;
use crate::session::Ingredients;
use crate::tick::{HostNanos, Rate, Tick};
use crate::wire::{MAX_DATAGRAM, MOST_OWNERS};

/// What a server is made with.
#[derive(Clone, Debug)]
pub struct ServerConfig {
    /// Ticks a second.
    pub rate: Rate,
    /// The number of the tick that counts as run when the clock reads `start`.
    pub base: Tick,
    /// When the session starts, on the server's clock.
    pub start: HostNanos,
    /// What it knows of the world.
    pub ingredients: Ingredients,
    /// How long it waits for silent players.
    pub patience: Patience,
    /// What its guard looks at and answers.
    pub policy: Policy,
    /// A secret number. With it the server checks that a stranger receives what is sent to its address.
    pub secret: u64,
}

/// How long a server waits for a silent player, in milliseconds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Patience {
    /// How long made-up input holds keys down; then it rests.
    pub hold_ms: u32,
    /// When the player is gone, and what came with it.
    pub gone_ms: u32,
    /// How long after that it may come back to where it stood.
    pub keep_ms: u32,
}

impl Patience {
    /// The default times.
    pub const DEFAULT: Self = Self { hold_ms: 500, gone_ms: 10_000, keep_ms: 60_000 };
}

impl Default for Patience {
    fn default() -> Self {
        Self::DEFAULT
    }
}

/// Why an entity cannot be added.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum SpawnError {
    /// A snapshot of everybody would not fit a datagram any more.
    #[error("a snapshot of {entities} entities takes {bytes} bytes; a datagram holds {MAX_DATAGRAM}")]
    SnapshotTooLong {
        /// How many entities there would be.
        entities: usize,
        /// Bytes it would take.
        bytes: usize,
    },
    /// No rule has this number.
    #[error("entity kind {0} is not part of this session")]
    Kind(u8),
    /// It is not there, or no longer.
    #[error("there is no entity {0}")]
    Gone(EntityId),
    /// More owners than can be told of.
    #[error("an entity has at most {MOST_OWNERS} owners, not {0}")]
    Owners(usize),
    /// This player was not invited, or nothing comes with it.
    #[error("no such player is invited with a body")]
    Uninvited,
}
