//! What an owner pressed and where that took it, going up.

use super::bits::{BitReader, BitWriter};
use super::datagram::Header;
use super::entity::{read_entity, write_entity};
use super::error::WireError;
use super::lanes::{read_exact, read_input, write_exact, write_input};
use super::{MAX_DATAGRAM, MAX_REPEATS};
use crate::data::{Input, State};
use crate::ids::EntityId;
use crate::plan::Plan;
use crate::schema::Schema;
use crate::session::Layouts;
use crate::tick::WireTick;

/// Bits of everything but inputs and state, with the envelope.
const HEAD: u32 = Header::BITS + 16 + super::entity::ENTITY_ID_BITS + 8 + 16 + 4;

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
        // One more input than ticks, each with a bit before it.
        (room / (schema.input_bits() + 1)).saturating_sub(1).clamp(1, MAX_REPEATS as u32) as usize
    }

    /// Appends the message: the newest input whole, each older one as "the same" or whole, in the layout of its own tick.
    pub fn write<'a>(&self, out: &mut BitWriter, plan: impl Fn(WireTick) -> &'a Plan) {
        out.put(u32::from(self.newest.0), 16);
        write_entity(out, self.entity);
        out.put(u32::from(self.epoch), 8);
        out.put(u32::from(self.since.0), 16);
        out.put(self.count as u32 - 1, 4);
        write_input(out, plan(self.newest), &self.inputs[0]);
        for (i, pair) in self.inputs[..=self.count].windows(2).enumerate() {
            out.flag(pair[0] == pair[1]);
            if pair[0] != pair[1] {
                write_input(out, plan(self.tick(i + 1)), &pair[1]);
            }
        }
        write_exact(out, plan(self.newest), &self.state);
    }

    /// The tick of one of the inputs.
    pub(super) const fn tick(&self, back: usize) -> WireTick {
        WireTick(self.newest.0.wrapping_sub(back as u16))
    }

    pub(super) fn read(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let newest = WireTick(from.take(16)? as u16);
        let entity = read_entity(from)?;
        let kind = layouts.kind(entity).ok_or(WireError::NotOwned(entity))?;
        let epoch = from.take(8)? as u8;
        let since = WireTick(from.take(16)? as u16);
        let count = from.take(4)? as usize + 1;
        let inputs = [Input::default(); MAX_REPEATS + 1];
        let mut read = Self { newest, entity, epoch, since, count, inputs, state: State::default() };
        for i in 0..=count {
            let same = i > 0 && from.flag()?;
            read.inputs[i] =
                if same { read.inputs[i - 1] } else { read_input(from, layouts.plan(kind, read.tick(i)))? };
        }
        read.state = read_exact(from, layouts.plan(kind, newest))?;
        Ok(read)
    }
}
