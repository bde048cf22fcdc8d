//! Inputs going up.

use super::MAX_REPEATS;
use super::bits::{BitReader, BitWriter};
use super::error::{WireError, ranged};
use super::rows::{Passed, Short, Way, number, written};
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

impl Default for Inputs {
    fn default() -> Self {
        Self { newest: WireTick(0), entity: EntityId::first(0), count: 1, inputs: [Input::default(); MAX_REPEATS] }
    }
}

impl Inputs {
    /// What stands before the inputs.
    pub(super) fn head<W: Way>(&mut self, way: &mut W) -> Passed {
        way.tick("newest tick", &mut self.newest)?;
        way.entity(&mut self.entity)?;
        further_ticks(way, &mut self.count)
    }

    /// All of it: the newest input whole, each older one as "the same" or field by field, in the layout of its own tick.
    pub(super) fn rows<'a, W: Way>(&mut self, way: &mut W, plan: impl PlanOf<'a>) -> Passed {
        self.head(way)?;
        series(way, (self.entity, self.newest), &mut self.inputs[..self.count], plan)
    }

    /// Appends the message.
    pub fn write<'a>(mut self, out: &mut BitWriter, plan: impl Fn(WireTick) -> &'a Plan) {
        written(self.rows(out, |_, tick| Ok(plan(tick))));
    }

    /// Reads the message behind its envelope.
    ///
    /// # Errors
    /// [`WireError::Short`] when the bytes end early, [`WireError::NotOwned`] for an entity that is not the sender's.
    pub fn read_for(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let mut read = Self::default();
        read.rows(from, |entity, tick| layouts.plan_for(entity, tick))?;
        Ok(read)
    }
}

/// How an entity's lanes travel at a tick.
pub(super) trait PlanOf<'a>: Fn(EntityId, WireTick) -> Result<&'a Plan, WireError> {}

impl<'a, T: Fn(EntityId, WireTick) -> Result<&'a Plan, WireError>> PlanOf<'a> for T {}

/// Ticks before the newest: two bits up to two.
const FURTHER: Short = Short { least: 0, bits: 2, more: 4 };

/// For how many ticks there are inputs, of which there is at least one.
pub(super) fn further_ticks<W: Way>(way: &mut W, count: &mut usize) -> Passed {
    let mut further = *count as u32 - 1;
    way.short("further ticks", &mut further, &FURTHER, number)?;
    *count = ranged("number of ticks", further + 1, 1, MAX_REPEATS as u32)? as usize;
    Ok(())
}

/// Inputs of consecutive ticks, newest first.
pub(super) fn series<'a, W: Way>(
    way: &mut W,
    (entity, newest): (EntityId, WireTick),
    inputs: &mut [Input],
    plan: impl PlanOf<'a>,
) -> Passed {
    for back in 0..inputs.len() {
        let mut same = back > 0 && inputs[back] == inputs[back - 1];
        if back > 0 {
            way.flag(format_args!("{back} before: the same"), &mut same)?;
        }
        if same {
            inputs[back] = inputs[back - 1];
        } else {
            let plan = plan(entity, WireTick(newest.0.wrapping_sub(back as u16)))?;
            let (newer, older) = inputs.split_at_mut(back);
            way.input(plan, &mut older[0], newer.last())?;
        }
    }
    Ok(())
}
