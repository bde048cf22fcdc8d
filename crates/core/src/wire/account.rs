//! What an owner pressed and where that took it, going up.

use super::bits::BitWriter;
use super::claim::word_head;
use super::datagram::Header;
use super::exact::against;
use super::inputs::{further_ticks, series};
use super::rests::{Against, Rests, back_rows, before, span};
use super::rows::{Passed, Way, written};
use super::{MAX_DATAGRAM, MAX_REPEATS};
use crate::data::{Input, STATE_LANES, State};
use crate::ids::EntityId;
use crate::plan::Plan;
use crate::schema::Schema;
use crate::tick::WireTick;

/// Bits of everything but inputs and state, with the envelope.
const HEAD: u32 = Header::BITS + 16 + super::ID_BITS + 8 + 16 + 22 + 6;

/// A lane that is told against another takes at most so many bits more.
const OVER: u32 = 6;

/// An owner's account of consecutive ticks. Press lanes hold running counters, not presses.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Account {
    /// Tick of the newest.
    pub newest: WireTick,
    /// Which of its entities.
    pub entity: EntityId,
    /// How many ticks before the newest the account was of that it is told against; 0 for none.
    pub back: u32,
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
        let room = (MAX_DATAGRAM as u32 * 8).saturating_sub(HEAD + schema.exact_bits() + OVER * STATE_LANES as u32);
        // One more input than ticks, each with a bit before it and one before each of its fields.
        (room / (schema.input_bits() + 1 + schema.input.len() as u32)).saturating_sub(1).clamp(1, MAX_REPEATS as u32)
            as usize
    }

    /// What stands before the inputs.
    pub(super) fn head<W: Way>(&mut self, way: &mut W) -> Passed {
        let Self { newest, entity, epoch, since, back, count, .. } = self;
        word_head(way, newest, entity, (epoch, since))?;
        back_rows(way, back)?;
        further_ticks(way, count)
    }

    /// All of it: the newest input whole or against one that was said, each older one as "the same" or field by field, in the layout of its own tick; the
    /// state exactly, or how far it is from where that one leads.
    pub(super) fn rows<'a, W: Way>(&mut self, way: &mut W, rests: &impl Rests<'a>) -> Passed {
        self.head(way)?;
        let Self { newest, entity, back, count, inputs, state, .. } = self;
        let then = before(*newest, *back);
        let base = (*back > 0).then(|| rests.input(*entity, then)).transpose()?;
        series(way, (*entity, *newest), (base, &mut inputs[..=*count]), rests)?;
        let plan = rests.plan(*entity, *newest)?;
        if *back == 0 {
            return way.exact(plan, state);
        }
        against(way, plan, &rests.state(*entity, then)?, span(rests, *back), state)
    }

    /// Appends the message, whole.
    pub fn write<'a>(self, out: &mut BitWriter, plan: impl Fn(WireTick) -> &'a Plan) {
        written(Self { back: 0, ..self }.rows(out, &Against { plan, base: None, dt: 0.0 }));
    }

    /// Appends the message against what it says it is told against.
    pub(crate) fn write_against<'a>(mut self, out: &mut BitWriter, rests: &impl Rests<'a>) {
        written(self.rows(out, rests));
    }
}

impl Default for Account {
    fn default() -> Self {
        Self {
            newest: WireTick(0),
            entity: EntityId::first(0),
            back: 0,
            epoch: 0,
            since: WireTick(0),
            count: 1,
            inputs: [Input::default(); MAX_REPEATS + 1],
            state: State::default(),
        }
    }
}
