//! The envelope of every message: who, which, and what has been understood.
//!
//! 16 bytes: version and kind, connection epoch, sequence number, the newest sequence *decoded* and the 32 before it,
//! the sender's clock, and how long the newest one waited for this answer.

use super::PROTOCOL_VERSION;
use super::bits::{BitReader, BitWriter};
use super::error::WireError;
use super::fields::FieldValue;
use super::kind::MessageKind;
use super::rows::{Passed, Short, Way, micros, number, written};

/// What the other side has decoded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Ack {
    /// The newest sequence number.
    pub newest: u16,
    /// Bit i set: `newest - 1 - i` too.
    pub mask: u32,
    /// How long the newest waited before this was sent, in units of 0.1 ms.
    pub hold: u16,
}

impl Ack {
    /// Whether it covers a sequence number.
    pub const fn has(&self, sequence: u16) -> bool {
        let back = self.newest.wrapping_sub(sequence);
        back == 0 || back <= 32 && self.mask & 1 << (back - 1) != 0
    }
}

/// The version. Those before the least travelled in three bits as well, and are no more.
pub(super) const VERSION: Short = Short { least: 8, bits: 3 };
/// The kind of a message.
pub(super) const KIND: Short = Short { least: 0, bits: 4 };

/// The envelope.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Header {
    /// What follows.
    pub kind: MessageKind,
    /// Which connection: issued by the server in its welcome; a hello has none yet and carries 0.
    pub epoch: u8,
    /// Counts the datagrams of one sender, modulo 2^16.
    pub sequence: u16,
    /// What the sender has decoded, if anything yet.
    pub ack: Option<Ack>,
    /// The sender's clock in microseconds, modulo 2^32.
    pub sent_us: u32,
}

impl Header {
    /// Bits of every envelope; eight more for a version or a kind beyond what its own bits hold.
    pub(crate) const BITS: u32 = 3 + 1 + 4 + 8 + 16 + (16 + 32 + 16) + 32;

    /// All of it.
    fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        let mut version = u32::from(PROTOCOL_VERSION);
        way.short("version", &mut version, &VERSION, number)?;
        if version != u32::from(PROTOCOL_VERSION) {
            return Err(WireError::Version { found: version as u16 });
        }
        let mut has_ack = self.ack.is_some();
        way.flag("acknowledges", &mut has_ack)?;
        let mut kind = self.kind as u32;
        let named = |kind| MessageKind::from_number(kind as u16).map_or("unknown", MessageKind::name);
        way.short("kind", &mut kind, &KIND, |kind| FieldValue::Words(named(kind).to_owned()))?;
        self.kind = MessageKind::from_number(kind as u16).ok_or(WireError::Kind(kind as u16))?;
        way.byte("connection's epoch", &mut self.epoch, 8, number)?;
        way.word("sequence", &mut self.sequence, number)?;
        let mut ack = self.ack.unwrap_or_default();
        let known = |value: FieldValue| if has_ack { value } else { FieldValue::Nothing };
        way.word("newest decoded", &mut ack.newest, |newest| known(number(newest)))?;
        let before = |mask: u32| known(FieldValue::Words(format!("{} of 32", mask.count_ones())));
        way.bits("decoded before", &mut ack.mask, 32, before)?;
        way.word("it waited", &mut ack.hold, |hold| known(FieldValue::Real(hold as f32 / 10.0, "ms")))?;
        self.ack = has_ack.then_some(ack);
        way.bits("sender's clock", &mut self.sent_us, 32, micros)
    }

    /// Appends the envelope.
    pub fn write(mut self, out: &mut BitWriter) {
        written(self.rows(out));
    }

    /// Reads an envelope.
    ///
    /// # Errors
    /// Short bytes, another version, an unknown kind.
    pub fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        Self::pass(from)
    }

    /// Reads it in one way or the other.
    pub(super) fn pass<W: Way>(way: &mut W) -> Result<Self, WireError> {
        let mut read = Self { kind: MessageKind::Hello, epoch: 0, sequence: 0, ack: None, sent_us: 0 };
        read.rows(way)?;
        Ok(read)
    }
}
