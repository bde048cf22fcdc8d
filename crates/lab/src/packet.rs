//! What is in a datagram: no record keeps bytes, so the moment at which it left is run again and looked at more closely.

use thiserror::Error;
use velocitas_analysis::crossing::Crossing;
use velocitas_core::{Event, FieldValue, WireError, WireField};
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

/// Catches the bytes of one datagram.
struct Catch {
    from: MachineId,
    to: MachineId,
    at: LabTime,
    /// What is left to let pass.
    before: u32,
    at_now: LabTime,
    caught: Option<Vec<u8>>,
}

impl Watch for Catch {
    const LOOKS: bool = false;

    fn event(&mut self, _: LabTime, _: MachineId, _: Part, _: &Event<'_>) {}

    fn message(&mut self, _: MachineId, _: MachineId, row: MessageRow) {
        self.at_now = row.at;
    }

    fn payload(&mut self, from: MachineId, to: MachineId, _: u64, bytes: &[u8]) {
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
    let mut catch = Catch { from, to, at, before: crossing.before, at_now: LabTime::ZERO, caught: None };
    let lab = run.again(at.minus(LabTime(1)), at, &mut catch)?;
    let bytes = catch.caught.ok_or(PacketError::Gone(at))?;
    // It is read as the client at its end reads: both change layouts at the same tick.
    let client = if crossing.row.kind.is_up() { from } else { to };
    let fields = lab.as_client(client, |receiver| receiver.fields(&bytes))?;
    let answers = answered(run, crossing, &fields);
    Ok(Packet { bytes, fields, answers })
}

/// The clock in the envelope counts in tenths of a millisecond, and a machine's may run a little faster than the lab's.
const ROUNDED: LabTime = LabTime(300_000);
/// The newest datagram lies no longer back.
const LATELY: LabTime = LabTime(4_000_000_000);

/// The datagram of the other side that is acknowledged: when this one left, the newest that had been read had waited as long as it
/// says, so that it is the one that left last of those that had arrived by then.
fn answered(run: &Run, crossing: &Crossing, fields: &[WireField]) -> Option<Crossing> {
    let waited = fields.iter().find_map(|field| match field.value {
        FieldValue::Real(ms, _) if field.name == "it waited" => Some(f64::from(ms)),
        _ => None,
    })?;
    let read = crossing.row.at.minus(LabTime::from_millis(waited));
    let ends = [crossing.from, crossing.to];
    let all = velocitas_analysis::crossing::crossings(run.record(), &ends, read.minus(LATELY), crossing.row.at);
    let arrived = |c: &Crossing| c.row.arrived.is_some_and(|at| at <= read.plus(ROUNDED)) && !c.row.unread;
    all.into_iter().rev().find(|c| (c.from, c.to) == (crossing.to, crossing.from) && arrived(c))
}
