//! A datagram opened, to be told otherwise: its message, also where a piece of a stream carries it.

use velocitas_core::{BitReader, BitWriter, Header, Layouts, Message, Segment, SegmentHead, WireError};

/// A datagram in its parts.
pub(crate) struct Opened {
    header: Header,
    /// Of a piece of a stream.
    head: Option<SegmentHead>,
    /// What it says.
    pub(crate) message: Message,
}

impl Opened {
    /// Opens a datagram.
    ///
    /// # Errors
    /// Whatever is wrong with its bytes.
    pub(crate) fn read(bytes: &[u8], layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let mut reader = BitReader::new(bytes);
        let header = Header::read(&mut reader)?;
        let message = Message::read(&header, reader, layouts)?;
        let (Message::StreamUp(segment) | Message::StreamDown(segment)) = &message else {
            return Ok(Self { header, head: None, message });
        };
        let Some(kind) = segment.head.kind else { return Ok(Self { header, head: None, message }) };
        let inner = Message::read(&Header { kind, ..header }, BitReader::new(&segment.body), layouts)?;
        Ok(Self { header, head: Some(segment.head), message: inner })
    }

    /// Its bytes.
    pub(crate) fn write(self, layouts: &Layouts<'_>) -> Vec<u8> {
        let mut out = BitWriter::new();
        let Some(head) = self.head else {
            self.header.write(&mut out);
            self.message.write(&mut out, layouts);
            return out.finish();
        };
        self.message.write(&mut out, layouts);
        let segment = Segment { head, body: out.finish() };
        let piece = if self.header.kind.is_up() { Message::StreamUp(segment) } else { Message::StreamDown(segment) };
        let mut out = BitWriter::new();
        self.header.write(&mut out);
        piece.write(&mut out, layouts);
        out.finish()
    }
}
