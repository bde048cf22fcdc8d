//! A datagram field by field: what it says, and in how many bits.
//!
//! It is read through the same rows as by [`Message::read`](super::Message::read), which gives what it means; here each row is noted as well, for
//! people who want to see what it costs. The bits of all fields add up to what was written.

use super::datagram::Header;
use super::error::WireError;
use super::message::{Message, is_finished};
use super::noting::{FieldValue, Noting, WireField};
use super::snapshot::Snapshot;
use crate::session::Layouts;

/// The fields of a datagram, read in the layouts of the ticks it is about; `open` goes on with what a snapshot says of entities, where that is told against
/// what its receiver has.
///
/// # Errors
/// Whatever is wrong with the bytes.
pub(crate) fn fields(
    bytes: &[u8],
    layouts: &Layouts<'_>,
    mut open: impl FnMut(&mut Snapshot) -> Result<Vec<WireField>, WireError>,
) -> Result<Vec<WireField>, WireError> {
    let mut noting = Noting::new(bytes);
    let header = Header::pass(&mut noting)?;
    noting.all.iter_mut().for_each(|field| field.of_envelope = true);
    let message = rest(&mut noting, &header, layouts, &mut open)?;
    let mut fields = noting.all;
    if let Message::StreamUp(piece) | Message::StreamDown(piece) = &message
        && let Some(kind) = piece.head.kind
    {
        // What a piece carries is read when its turn has come, whatever becomes of it.
        let mut inner = Noting::new(&piece.body);
        match rest(&mut inner, &Header { kind, ..header }, layouts, &mut open) {
            Ok(_) => fields.extend(inner.all),
            Err(_) if piece.body.is_empty() => {}
            Err(why) => {
                let mut unread = Noting::new(&[]);
                unread.note("it cannot be read", piece.body.len() as u32 * 8, FieldValue::Words(why.to_string()));
                fields.extend(unread.all);
            }
        }
    }
    Ok(fields)
}

/// All of a message behind its envelope.
fn rest(
    noting: &mut Noting<'_>,
    header: &Header,
    layouts: &Layouts<'_>,
    open: &mut impl FnMut(&mut Snapshot) -> Result<Vec<WireField>, WireError>,
) -> Result<Message, WireError> {
    let mut message = Message::pass(header, noting, layouts)?;
    is_finished(header, &noting.from)?;
    if let Message::Snapshot(snapshot) = &mut message
        && snapshot.body.is_some()
    {
        noting.all.extend(open(snapshot)?);
    }
    Ok(message)
}
