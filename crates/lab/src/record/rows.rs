//! What one row of each table of the record says. Every row has its lab time; whose it is, the table says.

use velocitas_core::{ClockFact, EntityId, InputFate, PeerId, Presence, SolidId};

use crate::ids::{ActorId, RecordTick};
use crate::time::LabTime;

/// The head of a state in a track.
#[derive(Clone, Copy, Debug)]
pub struct StateHead {
    /// When it was made.
    pub at: LabTime,
    /// For which tick.
    pub tick: RecordTick,
    /// The newest of its owner's ticks that it includes, counted back from its own; `i16::MIN` for none.
    used_back: i16,
    /// Solids touched; `u16::MAX - 2` for none.
    contacts: [u16; 2],
    /// Whether it was put there otherwise than by its rule.
    pub teleported: bool,
}

/// No solid.
const NO_CONTACT: u16 = u16::MAX - 2;
/// No tick of an owner.
const NOT_USED: i16 = i16::MIN;

impl StateHead {
    /// A state of `tick`, which includes its owner's ticks up to `used`. Of the solids touched two are kept.
    pub fn new(
        at: LabTime,
        tick: RecordTick,
        used: Option<RecordTick>,
        mut touched: impl Iterator<Item = SolidId>,
        teleported: bool,
    ) -> Self {
        let back = |used: RecordTick| i64::from(tick.0) - i64::from(used.0);
        let used_back =
            used.map_or(NOT_USED, |used| back(used).clamp(-i64::from(i16::MAX), i64::from(i16::MAX)) as i16);
        let mut next = || touched.next().map_or(NO_CONTACT, |id| id.0);
        Self { at, tick, used_back, contacts: [next(), next()], teleported }
    }

    /// The solids touched.
    pub fn touched(&self) -> impl Iterator<Item = SolidId> {
        self.contacts.into_iter().filter(|&id| id != NO_CONTACT).map(SolidId)
    }

    /// The newest of its owner's ticks that the state includes; `None` where nobody owns it or nothing was heard yet.
    pub fn used(&self) -> Option<RecordTick> {
        let used = i64::from(self.tick.0) - i64::from(self.used_back);
        (self.used_back != NOT_USED).then_some(RecordTick(used.clamp(0, i64::from(u32::MAX)) as u32))
    }
}

/// A frame of a viewer: the one moment at which it draws all others.
#[derive(Clone, Copy, Debug)]
pub struct FrameRow {
    /// The frame.
    pub at: LabTime,
    /// The tick shown …
    pub tick: RecordTick,
    /// … and how far on towards the next, 0 to 1.
    pub fraction: f32,
    /// Milliseconds a remote may run on past its newest state.
    pub limit_ms: u16,
    /// Whether remotes are blended at that moment; otherwise they are where they were last heard of.
    pub blends: bool,
    /// Whether there is a moment yet: before the first snapshot nobody else is drawn.
    pub sees: bool,
}

/// An own entity whose states its owner makes, in a frame.
#[derive(Clone, Copy, Debug)]
pub struct OwnDrawnRow {
    /// The frame.
    pub at: LabTime,
    /// The tick shown …
    pub tick: RecordTick,
    /// … and how far on towards the next, in 65,536ths.
    pub fraction: u16,
    /// Where, with what is left of corrections.
    pub pos: [f32; 3],
    /// Looking where.
    pub bearing: f32,
}

/// A snapshot as a client took it in.
#[derive(Clone, Copy, Debug)]
pub struct ReceivedRow {
    /// When.
    pub at: LabTime,
    /// The tick it shows.
    pub tick: RecordTick,
}

/// A client learns of an entity, or that it is no more.
#[derive(Clone, Copy, Debug)]
pub struct KnowsRow {
    /// When.
    pub at: LabTime,
    /// Which.
    pub actor: ActorId,
    /// Which of the two.
    pub there: bool,
}

/// A machine's program comes or goes.
#[derive(Clone, Copy, Debug)]
pub struct PresenceRow {
    /// When.
    pub at: LabTime,
    /// How far it is in or out from then on.
    pub presence: Presence,
}

/// A client begins to play, and knows nobody.
#[derive(Clone, Copy, Debug)]
pub struct JoinedRow {
    /// When.
    pub at: LabTime,
}

/// A client draws an entity for the first time since it began to play.
#[derive(Clone, Copy, Debug)]
pub struct SeenRow {
    /// When.
    pub at: LabTime,
    /// Which.
    pub actor: ActorId,
}

/// What became of an input.
#[derive(Clone, Copy, Debug)]
pub struct InputRow {
    /// When.
    pub at: LabTime,
    /// For which tick.
    pub tick: RecordTick,
    /// By which connection.
    pub peer: PeerId,
    /// For which entity.
    pub entity: EntityId,
    /// What.
    pub fate: InputFate,
}

/// What a client knows of its clock and link.
#[derive(Clone, Copy, Debug)]
pub struct ClockRow {
    /// When.
    pub at: LabTime,
    /// What.
    pub fact: ClockFact,
}

/// A slice of the rail shows the worst of these, in this order of priority.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Mark {
    /// A datagram was lost.
    Lost,
    /// An input was made up.
    MadeUp,
    /// An input came late.
    Late,
    /// A correction.
    Corrected,
    /// Somebody came.
    Came,
    /// Somebody went, or was missed.
    Went,
    /// A verdict.
    Verdict,
}

/// Something for the rail.
#[derive(Clone, Copy, Debug)]
pub struct MarkRow {
    /// When.
    pub at: LabTime,
    /// In which tick, if in one.
    pub tick: Option<RecordTick>,
    /// What.
    pub mark: Mark,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_head_knows_what_its_state_includes_and_touched() {
        let head = |tick, used: Option<u32>| {
            let touched = [SolidId(3), SolidId(7), SolidId(9)].into_iter();
            StateHead::new(LabTime::ZERO, RecordTick(tick), used.map(RecordTick), touched, false)
        };
        for used in [None, Some(0), Some(95), Some(100), Some(107)] {
            assert_eq!(head(100, used).used(), used.map(RecordTick));
        }
        assert_eq!(head(1, None).touched().collect::<Vec<_>>(), [SolidId(3), SolidId(7)]);
        assert_eq!(head(100_000, Some(0)).used(), Some(RecordTick(100_000 - 32_767)), "as far back as is told");
    }
}
