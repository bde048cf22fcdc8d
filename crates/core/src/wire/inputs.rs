//! Inputs going up.

use super::MAX_REPEATS;
use super::bits::{BitReader, BitWriter};
use super::error::{WireError, ranged};
use super::noting::FieldValue;
use super::rests::{Against, Rests, back_rows, before};
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
    /// How many ticks before the newest one was said that it is told against; 0 for none.
    pub back: u32,
    /// How many, 1 to [`MAX_REPEATS`].
    pub count: usize,
    /// Newest first.
    pub inputs: [Input; MAX_REPEATS],
}

impl Default for Inputs {
    fn default() -> Self {
        Self {
            newest: WireTick(0),
            entity: EntityId::first(0),
            back: 0,
            count: 1,
            inputs: [Input::default(); MAX_REPEATS],
        }
    }
}

impl Inputs {
    /// What stands before the inputs.
    pub(super) fn head<W: Way>(&mut self, way: &mut W) -> Passed {
        way.tick("newest tick", &mut self.newest)?;
        way.entity(&mut self.entity)?;
        back_rows(way, &mut self.back)?;
        further_ticks(way, &mut self.count)
    }

    /// All of it: the newest input whole or against one that was said, each older one as "the same" or field by field, in the layout of its own tick.
    pub(super) fn rows<'a, W: Way>(&mut self, way: &mut W, rests: &impl Rests<'a>) -> Passed {
        self.head(way)?;
        let Self { newest, entity, back, count, inputs } = self;
        let base = (*back > 0).then(|| rests.input(*entity, before(*newest, *back))).transpose()?;
        series(way, (*entity, *newest), (base, &mut inputs[..*count]), rests)
    }

    /// Appends the message, whole.
    pub fn write<'a>(self, out: &mut BitWriter, plan: impl Fn(WireTick) -> &'a Plan) {
        written(Self { back: 0, ..self }.rows(out, &Against { plan, base: None, dt: 0.0 }));
    }

    /// Appends the message against what it says it is told against.
    pub(crate) fn write_against<'a>(mut self, out: &mut BitWriter, rests: &impl Rests<'a>) {
        written(self.rows(out, rests));
    }

    /// Reads the message behind its envelope.
    ///
    /// # Errors
    /// [`WireError::Short`] when the bytes end early, [`WireError::NotOwned`] for an entity that is not the sender's.
    pub fn read_for(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let mut read = Self::default();
        read.rows(from, layouts)?;
        Ok(read)
    }
}

/// Ticks before the newest: two bits up to two.
const FURTHER: Short = Short { least: 0, bits: 2, more: 4 };

/// For how many ticks there are inputs, of which there is at least one.
pub(super) fn further_ticks<W: Way>(way: &mut W, count: &mut usize) -> Passed {
    let mut further = *count as u32 - 1;
    way.short("further ticks", &mut further, &FURTHER, number)?;
    *count = ranged("number of ticks", further + 1, 1, MAX_REPEATS as u32)? as usize;
    Ok(())
}

/// Inputs of consecutive ticks, newest first; that one against another, if there is one.
pub(super) fn series<'a, W: Way>(
    way: &mut W,
    (entity, newest): (EntityId, WireTick),
    (base, inputs): (Option<Input>, &mut [Input]),
    rests: &impl Rests<'a>,
) -> Passed {
    for back in 0..inputs.len() {
        let like = if back > 0 { Some(inputs[back - 1]) } else { base };
        let mut same = like.is_some_and(|like| inputs[back] == like);
        if like.is_some() {
            let mark = way.mark();
            way.flag("", &mut same)?;
            let name = || if back > 0 { format!("{back} before: the same") } else { "the same as then".to_owned() };
            way.merge(mark, || (name(), FieldValue::Flag(same)));
        }
        match like.filter(|_| same) {
            Some(like) => inputs[back] = like,
            None => way.input(rests.plan(entity, before(newest, back as u32))?, &mut inputs[back], like.as_ref())?,
        }
    }
    Ok(())
}
