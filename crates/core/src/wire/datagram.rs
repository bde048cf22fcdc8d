//! The envelope of every message: who, which, and what has been understood.
//!
//! Version and kind, connection epoch, sequence number; the newest sequence *decoded* and the 32 before it, once there is one; and where the other side
//! measures by it, the sender's clock, and how long the newest one waited for this answer.

use super::PROTOCOL_VERSION;
use super::bits::{BitReader, BitWriter};
use super::error::{WireError, ranged};
use super::kind::MessageKind;
use super::noting::FieldValue;
use super::rows::{Passed, Short, Way, micros, number, written};

/// What the other side has decoded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Ack {
    /// The newest sequence number.
    pub newest: u16,
    /// Bit i set: `newest - 1 - i` too.
    pub mask: u32,
    /// How long the newest waited before this was sent, in units of 0.1 ms; 0 where the envelope tells no times.
    pub hold: u16,
}

/// How long the newest waited, in units of 0.1 ms: nine bits up to 51 ms.
const HOLD: Short = Short { least: 0, bits: 9, more: 16 };

impl Ack {
    /// All of it; how long the newest waited where times are told.
    fn rows<W: Way>(&mut self, way: &mut W, timed: bool) -> Passed {
        way.word("newest decoded", &mut self.newest, number)?;
        let before = |mask: u32| FieldValue::Words(format!("{} of 32", mask.count_ones()));
        way.eights("decoded before", &mut self.mask, before)?;
        let mut hold = u32::from(self.hold);
        if timed {
            way.short("it waited", &mut hold, &HOLD, |hold| FieldValue::Real(hold as f32 / 10.0, "ms"))?;
            self.hold = ranged("wait of an answer", hold, 0, u32::from(u16::MAX))? as u16;
        }
        Ok(())
    }

    /// Whether it covers a sequence number.
    pub const fn has(&self, sequence: u16) -> bool {
        let back = self.newest.wrapping_sub(sequence);
        back == 0 || back <= 32 && self.mask & 1 << (back - 1) != 0
    }
}

/// The version. Those before the least travelled in three bits as well, and are no more.
pub(super) const VERSION: Short = Short { least: 8, bits: 3, more: 8 };
/// The kind of a message.
pub(super) const KIND: Short = Short { least: 0, bits: 4, more: 8 };

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
    /// The sender's clock in microseconds, modulo 2^32; `None` where the other side measures nothing by it.
    pub sent_us: Option<u32>,
    /// Whether the sender lacks what it was told against: it is to be told whole.
    pub lacks: bool,
}

impl Header {
    /// Bits of an envelope at most; eight more for a version or a kind beyond what its own bits hold.
    pub(crate) const BITS: u32 = Self::BARE_BITS + (16 + 4 * 9 + (9 + 16));
    /// Bits of one that acknowledges nothing and tells its time.
    pub(crate) const BARE_BITS: u32 = 3 + 1 + 4 + 8 + 16 + 1 + 1 + 32;

    /// The same, without times.
    #[must_use]
    pub(crate) fn untimed(self) -> Self {
        Self { sent_us: None, ack: self.ack.map(|ack| Ack { hold: 0, ..ack }), ..self }
    }

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
        let mut timed = self.sent_us.is_some();
        way.flag("tells its time", &mut timed)?;
        way.flag("lacks a baseline", &mut self.lacks)?;
        self.ack = if has_ack { Some(self.ack.unwrap_or_default()) } else { None };
        if let Some(ack) = &mut self.ack {
            ack.rows(way, timed)?;
        }
        if !timed {
            self.sent_us = None;
            return Ok(());
        }
        way.bits("sender's clock", self.sent_us.get_or_insert_default(), 32, micros)
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
        let mut read = Self { kind: MessageKind::Hello, epoch: 0, sequence: 0, ack: None, sent_us: None, lacks: false };
        read.rows(way)?;
        Ok(read)
    }
}
