//! A piece of an ordered stream.
//!
//! Behind the envelope: a number, the number expected of the other way's pieces, what it carries, and whether it was sent before: 40 bits. The
//! message follows, from a whole byte on, as it would behind an envelope of its own; it is read when its turn has come.

use super::bits::{BitReader, BitWriter};
use super::error::WireError;
use super::kind::MessageKind;

/// Instead of a kind: it carries nothing.
const NOTHING: u32 = 127;

/// What stands before the message.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SegmentHead {
    /// Which it is, modulo 2^16; of one without a message it says nothing.
    pub number: u16,
    /// All pieces of the other way before this one have come.
    pub expects: u16,
    /// What it carries; `None` where it only says what has come.
    pub kind: Option<MessageKind>,
    /// Whether it was sent before.
    pub again: bool,
}

/// A piece of an ordered stream, with a message or only with word of what has come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Segment {
    /// What stands before the message.
    pub head: SegmentHead,
    /// The message, as it would follow an envelope of its own.
    pub body: Vec<u8>,
}

impl SegmentHead {
    pub(crate) fn write(&self, out: &mut BitWriter) {
        out.put(u32::from(self.number), 16);
        out.put(u32::from(self.expects), 16);
        out.put(self.kind.map_or(NOTHING, |kind| kind as u32), 7);
        out.flag(self.again);
    }

    /// Reads it; what may not travel in a stream is refused.
    pub(super) fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        let (number, expects) = (from.take(16)? as u16, from.take(16)? as u16);
        let code = from.take(7)?;
        let kind = match MessageKind::from_number(code as u16).filter(|kind| kind.may_be_streamed()) {
            None if code == NOTHING => None,
            None => return Err(WireError::Kind(code as u16)),
            kind => kind,
        };
        Ok(Self { number, expects, kind, again: from.flag()? })
    }
}

impl Segment {
    /// Appends the piece.
    pub(crate) fn write(&self, out: &mut BitWriter) {
        self.head.write(out);
        self.body.iter().for_each(|byte| out.put(u32::from(*byte), 8));
    }

    pub(crate) fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        let head = SegmentHead::read(from)?;
        let mut body = Vec::new();
        // One without a message ends here.
        while head.kind.is_some() && from.left() > 0 {
            body.push(from.take(8)? as u8);
        }
        Ok(Self { head, body })
    }
}
