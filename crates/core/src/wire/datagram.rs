//! The envelope of every message: who, which, and what has been understood.
//!
//! 16 bytes: version and kind, connection epoch, sequence number, the newest sequence *decoded* and the 32 before it,
//! the sender's clock, and how long the newest one waited for this answer.

use super::PROTOCOL_VERSION;
use super::bits::{BitReader, BitWriter};
use super::error::WireError;
use super::kind::MessageKind;

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

/// A number in few bits, from the least on. All bits set say that it is beyond what they hold: eight more follow.
pub(super) struct Short {
    least: u32,
    bits: u32,
}

/// The version. Those before the least travelled in three bits as well, and are no more.
pub(super) const VERSION: Short = Short { least: 8, bits: 3 };
/// The kind of a message.
pub(super) const KIND: Short = Short { least: 0, bits: 4 };

impl Short {
    const fn most(&self) -> u32 {
        (1 << self.bits) - 1
    }

    /// Bits that a number takes.
    pub(super) const fn bits(&self, number: u32) -> u32 {
        if number - self.least < self.most() { self.bits } else { self.bits + 8 }
    }

    #[inline]
    fn put(&self, out: &mut BitWriter, number: u32) {
        let (code, most) = (number - self.least, self.most());
        out.put(code.min(most), self.bits);
        if code >= most {
            out.put(code - most, 8);
        }
    }

    #[inline]
    fn take(&self, from: &mut BitReader<'_>) -> Result<u32, WireError> {
        let code = from.take(self.bits)?;
        let more = if code == self.most() { from.take(8)? } else { 0 };
        Ok(self.least + code + more)
    }
}

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

    /// Appends the envelope.
    pub fn write(&self, out: &mut BitWriter) {
        VERSION.put(out, u32::from(PROTOCOL_VERSION));
        out.flag(self.ack.is_some());
        KIND.put(out, self.kind as u32);
        out.put(u32::from(self.epoch), 8);
        out.put(u32::from(self.sequence), 16);
        let ack = self.ack.unwrap_or_default();
        out.put(u32::from(ack.newest), 16);
        out.put(ack.mask, 32);
        out.put(u32::from(ack.hold), 16);
        out.put(self.sent_us, 32);
    }

    /// Version, whether it acknowledges, and kind, where they take one byte, as nearly always.
    #[inline]
    fn in_a_byte(byte: u8) -> Option<(u32, bool, u32)> {
        let (version, has_ack, kind) = (u32::from(byte) & 7, byte & 8 != 0, u32::from(byte) >> 4);
        (version < VERSION.most() && kind < KIND.most()).then_some((
            VERSION.least + version,
            has_ack,
            KIND.least + kind,
        ))
    }

    /// Reads an envelope.
    ///
    /// # Errors
    /// Short bytes, another version, an unknown kind.
    pub fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        let (version, has_ack, number) = match from.byte().map(Self::in_a_byte) {
            Some(Some(told)) => {
                from.skip(8);
                told
            }
            _ => (VERSION.take(from)?, from.flag()?, KIND.take(from)?),
        };
        if version != u32::from(PROTOCOL_VERSION) {
            return Err(WireError::Version { found: version as u16 });
        }
        let kind = MessageKind::from_number(number as u16).ok_or(WireError::Kind(number as u16))?;
        let mut rest = from.row(Self::BITS - (3 + 1 + 4))?;
        let (epoch, sequence) = (rest.take(8) as u8, rest.take(16) as u16);
        let ack = Ack { newest: rest.take(16) as u16, mask: rest.take(32), hold: rest.take(16) as u16 };
        let sent_us = rest.take(32);
        Ok(Self { kind, epoch, sequence, ack: has_ack.then_some(ack), sent_us })
    }
}
