//! Inputs going up.

use super::MAX_REPEATS;
use super::bits::{BitReader, BitWriter};
use super::entity::{read_entity, write_entity};
use super::error::WireError;
use super::lanes::{read_input, write_input};
use crate::data::Input;
use crate::ids::EntityId;
use crate::plan::Plan;
use crate::session::Layouts;
use crate::tick::WireTick;

/// Inputs of consecutive ticks. Press lanes hold running counters, not presses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Inputs {
    /// Tick of the first.
    pub newest: WireTick,
    /// Which entity they are for.
    pub entity: EntityId,
    /// How many, 1 to [`MAX_REPEATS`].
    pub count: usize,
    /// Newest first.
    pub inputs: [Input; MAX_REPEATS],
}

impl Inputs {
    /// Appends the message: the newest whole, each older one as "the same" or whole, in the layout of its own tick.
    pub fn write<'a>(&self, out: &mut BitWriter, plan: impl Fn(WireTick) -> &'a Plan) {
        out.put(u32::from(self.newest.0), 16);
        write_entity(out, self.entity);
        out.put(self.count as u32 - 1, 4);
        write_input(out, plan(self.newest), &self.inputs[0]);
        for (i, pair) in self.inputs[..self.count].windows(2).enumerate() {
            out.flag(pair[0] == pair[1]);
            if pair[0] != pair[1] {
                write_input(out, plan(self.tick(i + 1)), &pair[1]);
            }
        }
    }

    /// The tick of one of the inputs.
    const fn tick(&self, back: usize) -> WireTick {
        WireTick(self.newest.0.wrapping_sub(back as u16))
    }

    /// Reads the message behind its envelope.
    ///
    /// # Errors
    /// [`WireError::Short`] when the bytes end early, [`WireError::NotOwned`] for an entity that is not the sender's.
    pub fn read_for(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let newest = WireTick(from.take(16)? as u16);
        let entity = read_entity(from)?;
        let kind = layouts.kind(entity).ok_or(WireError::NotOwned(entity))?;
        let count = from.take(4)? as usize + 1;
        let mut read = Self { newest, entity, count, inputs: [Input::default(); MAX_REPEATS] };
        for i in 0..count {
            let same = i > 0 && from.flag()?;
            read.inputs[i] =
                if same { read.inputs[i - 1] } else { read_input(from, layouts.plan(kind, read.tick(i)))? };
        }
        Ok(read)
    }
}
