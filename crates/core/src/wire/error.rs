//! Why bytes are not a datagram of ours.

use thiserror::Error;

use super::kind::MessageKind;
use super::{MAX_DATAGRAM, PROTOCOL_VERSION};
use crate::ids::EntityId;
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
        found: u16,
    },
    /// No message has this number.
    #[error("message kind {0} does not exist")]
    Kind(u16),
    /// An entity of a kind that this session does not have.
    #[error("entity kind {0} is not part of this session")]
    EntityKind(u8),
    /// An entity whose inputs or claims do not travel on this connection.
    #[error("entity {0} is not owned on this connection")]
    NotOwned(EntityId),
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
    /// It rests on what was not received, or is not kept any more.
    #[error("told against a snapshot that is not there, in slot {0}")]
    Baseline(u16),
    /// A compressor made nothing of it, or too much.
    #[error("what is compressed cannot be unpacked")]
    Compressed,
    /// A tick too far from the expected one.
    #[error(transparent)]
    Tick(#[from] TickOutOfReach),
}

/// A number held against its range.
pub(crate) fn ranged(what: &'static str, found: u32, least: u32, most: u32) -> Result<u32, WireError> {
    if (least..=most).contains(&found) { Ok(found) } else { Err(WireError::Count { what, found, least, most }) }
}
