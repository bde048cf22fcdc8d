//! What is in a datagram: no record keeps bytes, so the moment at which it left is run again and looked at more closely.

use thiserror::Error;
use velocitas_analysis::crossing::Crossing;
use velocitas_core::{BitReader, Event, FieldValue, Header, WireError, WireField};
use velocitas_record::ids::{MachineId, Part};
use velocitas_record::known::Change;
use velocitas_record::screen::Screen;
use velocitas_record::time::LabTime;
use velocitas_record::watch::{HappeningRow, MessageRow, Watch};

use crate::run::{AgainError, Run};

/// A datagram with what is in it.
#[derive(Clone, Debug)]
pub struct Packet {
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Field by field.
    pub fields: Vec<WireField>,
    /// The newest datagram of the other side that its sender had read.
    pub answers: Option<Crossing>,
}

/// Why it cannot be looked at.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum PacketError {
    /// The moment cannot be had again.
    #[error(transparent)]
    Again(#[from] AgainError),
    /// There it is no more.
    #[error("run again, nothing left there at {0}")]
    Gone(LabTime),
    /// It is not sound; a rogue may send such.
    #[error("it cannot be read: {0}")]
    Unsound(#[from] WireError),
}

/// Catches the bytes of one datagram, and the numbers of those that went the other way before it.
struct Catch {
    from: MachineId,
    to: MachineId,
    at: LabTime,
    /// What is left to let pass.
    before: u32,
    at_now: LabTime,
    caught: Option<Vec<u8>>,
    /// When each left, and its number in the envelope.
    other_way: Vec<(LabTime, u16)>,
}

impl Watch for Catch {
    const LOOKS: bool = false;

    fn event(&mut self, _: LabTime, _: MachineId, _: Part, _: &Event<'_>) {}

    fn message(&mut self, _: MachineId, _: MachineId, row: MessageRow) {
        self.at_now = row.at;
    }

    fn payload(&mut self, from: MachineId, to: MachineId, _: u64, bytes: &[u8]) {
        if (to, from) == (self.from, self.to)
            && let Ok(header) = Header::read(&mut BitReader::new(bytes))
        {
            self.other_way.push((self.at_now, header.sequence));
        }
        if (from, to) != (self.from, self.to) || self.at_now != self.at || self.caught.is_some() {
            return;
        }
        match self.before.checked_sub(1) {
            Some(left) => self.before = left,
            None => self.caught = Some(bytes.to_vec()),
        }
    }

    fn unread(&mut self, _: MachineId, _: MachineId, _: u64) {}
    fn frame(&mut self, _: LabTime, _: MachineId, _: &Screen) {}
    fn happening(&mut self, _: MachineId, _: HappeningRow) {}
    fn changed(&mut self, _: Change) {}
}

/// What is in a datagram of a run.
///
/// # Errors
/// When its moment cannot be had again, or it is not sound.
pub fn packet(run: &Run, crossing: &Crossing) -> Result<Packet, PacketError> {
    let at = crossing.row.at;
    let (from, to) = (crossing.from, crossing.to);
    let (before, at_now) = (crossing.before, LabTime::ZERO);
    let mut catch = Catch { from, to, at, before, at_now, caught: None, other_way: Vec::new() };
    let since = at.minus(LATELY).max(run.record().kept_from).min(at.minus(LabTime(1)));
    let lab = run.again(since, at, &mut catch)?;
    let bytes = catch.caught.ok_or(PacketError::Gone(at))?;
    // It is read as the client at its end reads: both change layouts at the same tick.
    let client = if crossing.row.kind.is_up() { from } else { to };
    let fields = lab.as_client(client, |receiver| receiver.fields(&bytes))?;
    let answers = answered(run, crossing, &fields, &catch.other_way);
    Ok(Packet { bytes, fields, answers })
}

/// The newest datagram that is acknowledged left no longer before.
const LATELY: LabTime = LabTime(2_000_000_000);

/// The datagram of the other side that is acknowledged: the one of its number, where that is known.
fn answered(run: &Run, crossing: &Crossing, fields: &[WireField], numbers: &[(LabTime, u16)]) -> Option<Crossing> {
    let newest = fields.iter().find_map(|field| match field.value {
        FieldValue::Number(number) if field.of_envelope && field.name == "newest decoded" => Some(number as u16),
        _ => None,
    })?;
    let (left, _) = *numbers.iter().rev().find(|(_, number)| *number == newest)?;
    let ends = [crossing.from, crossing.to];
    let all = velocitas_analysis::crossing::crossings(run.record(), &ends, left, left);
    // Several may have left at once; the last of them has come that is one of its kind.
    let place = numbers.iter().filter(|(at, _)| *at == left).position(|(_, number)| *number == newest)?;
    all.into_iter().filter(|c| (c.from, c.to) == (crossing.to, crossing.from) && c.row.at == left).nth(place)
}
