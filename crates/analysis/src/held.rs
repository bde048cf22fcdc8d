//! What ordered streams held back: which messages had come and had not their turn, since one before them was lost.

use velocitas_core::Fact;
use velocitas_record::ids::{ActorId, MachineId};
use velocitas_record::record::{InputRow, Record};
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, HappeningRow, MessageRow};

/// Nothing is held back for longer: a connection is taken for gone before.
const LONGEST: LabTime = LabTime(60_000_000_000);

/// A message that was held back, as the machine told that had it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct HeldBack {
    /// Since when: it had come.
    pub since: LabTime,
    /// When its turn came.
    pub until: LabTime,
    /// Whether it was on its way up.
    pub up: bool,
    /// The number of its piece.
    pub number: u16,
}

impl HeldBack {
    fn of(row: &HappeningRow) -> Option<Self> {
        match row.what {
            Happening::Fact(Fact::HeldBack { up, number, waited_us, .. }) => {
                let since = row.at.minus(LabTime(u64::from(waited_us) * 1000));
                Some(Self { since, until: row.at, up, number })
            }
            _ => None,
        }
    }

    /// For how long.
    pub const fn lasts(&self) -> LabTime {
        LabTime(self.until.0 - self.since.0)
    }
}

/// What was held back of a machine's messages, both ways, and had its turn in a stretch.
pub fn held_back(record: &Record, machine: MachineId, from: LabTime, to: LabTime) -> impl Iterator<Item = HeldBack> {
    record.of(machine).happenings.span(from, to).filter_map(HeldBack::of)
}

/// When a message had its turn: mostly when it arrived. `None` where it did not arrive.
pub fn delivered(record: &Record, (from, to): (MachineId, MachineId), row: &MessageRow) -> Option<LabTime> {
    let arrived = row.arrived?;
    let Some((number, _)) = row.piece else { return Some(arrived) };
    let up = row.kind.is_up();
    let mut held = held_back(record, if up { from } else { to }, arrived, arrived.plus(LONGEST));
    Some(held.find(|held| held.up == up && held.number == number).map_or(arrived, |held| held.until))
}

/// How an ordered stream made an input later than its way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Delayed {
    /// It was lost, and is sent again.
    SentAgain,
    /// It had come, and was held back behind one that was lost; since when.
    HeldBack(LabTime),
}

/// How a stream kept an input of a machine from the tick that was made without it, if it did. What left by then decides, so that it is the same
/// whenever it is asked.
pub fn delayed(record: &Record, machine: MachineId, actor: ActorId, row: &InputRow) -> Option<Delayed> {
    let (given, (made, _)) = (row.sampled_at()?, row.used()?);
    let entity = record.cast.actors[actor.index()].id;
    let carries = |sent: &MessageRow| sent.piece.is_some() && sent.tells_of(entity, row.tick);
    let sent = record.link(machine, MachineId::SERVER)?.span(given, made).find(carries)?;
    match sent.arrived.filter(|_| !sent.unread) {
        Some(arrived) => (arrived < made).then_some(Delayed::HeldBack(arrived)),
        None => Some(Delayed::SentAgain),
    }
}
