//! From values to bytes and back.
//!
//! Three layers: [bits](BitWriter) know nothing of meaning, lanes are written by schema, a [`Message`] knows its rows, and says each once for writing, reading and showing. Reading any bytes gives a value or a [`WireError`]; it never panics and never allocates more than the
//! bytes at hand can fill. Left-over bits are an error. The layouts are in `docs/wire.md`.

mod account;
mod acks;
mod bits;
mod carried;
mod carry;
mod claim;
mod clock;
mod compressed;
mod datagram;
mod differing;
mod ended;
mod error;
mod exact;
mod fields;
mod folded;
mod form;
mod hello;
mod inputs;
mod kind;
mod lanes;
mod message;
mod newest;
mod news;
mod noting;
mod packed;
mod refusal;
mod rests;
mod rows;
mod segment;
mod snapshot;
mod welcome;

pub use account::Account;
pub use acks::Acks;
pub(crate) use acks::Load;
pub use bits::{BitReader, BitRow, BitWriter};
pub use carried::Carried;
pub(crate) use carry::Span;
pub use claim::{Claim, PullBack, PullReason};
pub use clock::ClockTold;
pub use datagram::{Ack, Header};
pub(crate) use differing::{Codes, codes_of, decoded, differing, differing_bits, fields as lane_fields, foresee};
pub use ended::{Ended, EndedBy};
pub use error::WireError;
pub(crate) use error::ranged;
pub(crate) use exact::against;
pub(crate) use fields::fields;
pub use form::StateDown;
pub use hello::{Challenge, Hello};
pub use inputs::Inputs;
pub use kind::MessageKind;
pub use message::Message;
pub(crate) use newest::{KEPT, Newest, OfTick};
pub use news::{MOST_OWNERS, NEWS_BITS, News};
pub(crate) use noting::Noting;
pub use noting::{FieldValue, WireField};
pub(crate) use packed::{LaneCoder, Packed};
pub use refusal::{Denied, Difference, ForeignLayout, Refusal, RefusedFor};
pub(crate) use rests::{Against, Rests, Spoken};
pub(crate) use rows::{Passed, Short, Way, number};
pub use segment::{Segment, SegmentHead};
pub use snapshot::{
    Body, EntityRecord, EntityRef, Snapshot, SnapshotHead, TELEPORT_BITS, Used, snapshot_bytes, write_snapshot,
};
pub(crate) use snapshot::{RULE, input_rows, seen_record, write_compressed, write_shared, write_told};
pub use welcome::Welcome;

/// Bits of an entity's name, at least and at most.
const LEAST_ID_BITS: u32 = 5 + 1;
const ID_BITS: u32 = 5 + 16 + 1 + 8;

/// The most ticks an input or claim message covers.
pub const MAX_REPEATS: usize = 16;

/// The most bytes a datagram ever has: under the usual path MTU with room for IPv6, UDP and encryption.
pub const MAX_DATAGRAM: usize = 1200;

/// Changes whenever a layout does.
pub const PROTOCOL_VERSION: u16 = 9;

#[cfg(test)]
mod tests;
