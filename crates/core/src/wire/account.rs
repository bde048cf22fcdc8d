//! What an owner pressed and where that took it, going up.

use super::bits::BitWriter;
use super::claim::word_head;
use super::datagram::Header;
use super::inputs::{PlanOf, further_ticks, series};
use super::rows::{Passed, Way, written};
use super::{MAX_DATAGRAM, MAX_REPEATS};
use crate::data::{Input, State};
use crate::ids::EntityId;
use crate::plan::Plan;
use crate::schema::Schema;
use crate::tick::WireTick;

/// Bits of everything but inputs and state, with the envelope.
const HEAD: u32 = Header::BITS + 16 + super::ID_BITS + 8 + 16 + 6;

/// An owner's account of consecutive ticks. Press lanes hold running counters, not presses.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Account {
    /// Tick of the newest.
    pub newest: WireTick,
    /// Which of its entities.
    pub entity: EntityId,
    /// The pull back this continues from.
    pub epoch: u8,
    /// First tick of this epoch: of nothing older is an account given.
    pub since: WireTick,
    /// Of how many ticks, 1 to [`MAX_REPEATS`].
    pub count: usize,
    /// What was pressed in them, newest first; behind the last what was pressed before it, from which presses are counted.
    pub inputs: [Input; MAX_REPEATS + 1],
    /// The state after the newest, exactly.
    pub state: State,
}

impl Account {
    /// The most ticks whose inputs fit a datagram beside the state.
    pub fn most(schema: &Schema) -> usize {
        let room = (MAX_DATAGRAM as u32 * 8).saturating_sub(HEAD + schema.exact_bits());
        // One more input than ticks, each with a bit before it and one before each of its fields.
        (room / (schema.input_bits() + 1 + schema.input.len() as u32)).saturating_sub(1).clamp(1, MAX_REPEATS as u32)
            as usize
    }

    /// What stands before the inputs.
    pub(super) fn head<W: Way>(&mut self, way: &mut W) -> Passed {
        let Self { newest, entity, epoch, since, count, .. } = self;
        word_head(way, newest, entity, (epoch, since))?;
        further_ticks(way, count)
    }

    /// All of it: the newest input whole, each older one as "the same" or field by field, in the layout of its own tick; the state.
    pub(super) fn rows<'a, W: Way>(&mut self, way: &mut W, plan: impl PlanOf<'a>) -> Passed {
        self.head(way)?;
        series(way, (self.entity, self.newest), &mut self.inputs[..=self.count], &plan)?;
        way.exact(plan(self.entity, self.newest)?, &mut self.state)
    }

    /// Appends the message.
    pub fn write<'a>(mut self, out: &mut BitWriter, plan: impl Fn(WireTick) -> &'a Plan) {
        written(self.rows(out, |_, tick| Ok(plan(tick))));
    }
}

impl Default for Account {
    fn default() -> Self {
        Self {
            newest: WireTick(0),
            entity: EntityId::first(0),
            epoch: 0,
            since: WireTick(0),
            count: 1,
            inputs: [Input::default(); MAX_REPEATS + 1],
            state: State::default(),
        }
    }
}
