//! A piece of an ordered stream.
//!
//! Behind the envelope: a number, the number expected of the other way's pieces, what it carries, and whether it was sent before: 40 bits, and up to
//! a whole byte. The message follows, from a whole byte on, as it would behind an envelope of its own; it is read when its turn has come.

use super::bits::BitWriter;
use super::error::WireError;
use super::kind::MessageKind;
use super::noting::FieldValue;
use super::rows::{Passed, Way, number, written};

/// Instead of a kind: it carries nothing.
const NOTHING: u32 = 127;

/// What stands before the message.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
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
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Segment {
    /// What stands before the message.
    pub head: SegmentHead,
    /// The message, as it would follow an envelope of its own.
    pub body: Vec<u8>,
}

impl SegmentHead {
    /// All of it. What may not travel in a stream is refused.
    pub(super) fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        way.word("piece", &mut self.number, number)?;
        way.word("expects piece", &mut self.expects, number)?;
        let carried = |code: u32| MessageKind::from_number(code as u16).filter(|kind| kind.may_be_streamed());
        let mut code = self.kind.map_or(NOTHING, |kind| kind as u32);
        let words = |code| FieldValue::Words(carried(code).map_or("nothing", MessageKind::name).to_owned());
        way.bits("carries", &mut code, 7, words)?;
        self.kind = match carried(code) {
            None if code == NOTHING => None,
            None => return Err(WireError::Kind(code as u16)),
            kind => kind,
        };
        way.flag("sent before", &mut self.again)?;
        way.align()
    }

    /// Appends it.
    pub(crate) fn write(mut self, out: &mut BitWriter) {
        written(self.rows(out));
    }
}

impl Segment {
    /// All of it.
    pub(super) fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        self.head.rows(way)?;
        // One without a message ends here.
        if self.head.kind.is_some() { way.rest(&mut self.body) } else { Ok(()) }
    }
}

#[cfg(test)]
impl Segment {
    pub(crate) fn write(&self, out: &mut BitWriter) {
        written(self.clone().rows(out));
    }

    pub(crate) fn read(from: &mut super::BitReader<'_>) -> Result<Self, WireError> {
        let mut read = Self::default();
        read.rows(from)?;
        Ok(read)
    }
}
