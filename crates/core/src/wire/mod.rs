//! From values to bytes and back.
//!
//! Three layers: [`bits`](BitWriter) knows nothing of meaning, [`Quantiser`] rounds one number, a [`Message`] knows
//! its fields. Reading any bytes gives a value or a [`WireError`]; it never panics and never allocates more than the
//! bytes at hand can fill. Left-over bits are an error. The layouts are in `docs/wire.md`.

mod bits;
mod datagram;
mod message;
mod quantiser;

pub use bits::{BitReader, BitWriter};
pub use datagram::{Ack, Acks, Header, MAX_DATAGRAM, PROTOCOL_VERSION};
pub use message::{
    Claim, EntityRecord, EntityRef, InputReport, Inputs, MAX_REPEATS, Message, MessageKind, Provenance, PullBack,
    Snapshot, TELEPORT_BITS, Welcome, snapshot_bytes, write_snapshot,
};
pub use quantiser::Quantiser;

use thiserror::Error;

use crate::tick::TickOutOfReach;

/// Why bytes are not a datagram of ours. Small and comparable; the sender's name is the caller's to add.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum WireError {
    /// The bytes ended inside a value.
    #[error("needs {wanted} more bits, {left} are left")]
    Short {
        /// Bits asked for.
        wanted: u32,
        /// Bits there were.
        left: u32,
    },
    /// The message ended before the bytes did.
    #[error("{bits} bits left over after a complete {kind:?} message")]
    LeftOver {
        /// What was read.
        kind: MessageKind,
        /// Bits after it, padding not counted.
        bits: u32,
    },
    /// Written by another version of the protocol.
    #[error("protocol version {found}, expected {PROTOCOL_VERSION}")]
    Version {
        /// The version found.
        found: u8,
    },
    /// No message has this number.
    #[error("message kind {0} does not exist")]
    Kind(u8),
    /// An entity of a kind that this session does not have.
    #[error("entity kind {0} is not part of this session")]
    EntityKind(u8),
    /// A count outside its range.
    #[error("{what} is {found}, expected {least} to {most}")]
    Count {
        /// What is counted.
        what: &'static str,
        /// The count found.
        found: u32,
        /// The least allowed.
        least: u32,
        /// The most allowed.
        most: u32,
    },
    /// An exact lane that is not a finite number.
    #[error("field `{0}` is not a finite number")]
    NotFinite(&'static str),
    /// More bytes than a datagram of ours ever has.
    #[error("{0} bytes, at most {MAX_DATAGRAM} are sent")]
    Long(usize),
    /// A tick too far from the expected one.
    #[error(transparent)]
    Tick(#[from] TickOutOfReach),
}

#[cfg(test)]
mod tests;
