//! What an owner's word rests on: the layouts of its ticks, and what was said before.

use super::carry::Span;
use super::error::WireError;
use super::newest::OfTick;
use super::rows::{Passed, Short, Way, number};
use crate::data::{Input, State};
use crate::ids::EntityId;
use crate::plan::Plan;
use crate::tick::{Tick, WireTick};

/// Gives it to who reads or writes.
pub(crate) trait Rests<'a> {
    /// How the lanes of an entity travel at a tick.
    fn plan(&self, entity: EntityId, tick: WireTick) -> Result<&'a Plan, WireError>;

    /// The input said for a tick.
    fn input(&self, entity: EntityId, tick: WireTick) -> Result<Input, WireError>;

    /// The state accounted for at a tick.
    fn state(&self, entity: EntityId, tick: WireTick) -> Result<State, WireError>;

    /// How many seconds a tick takes.
    fn dt(&self) -> f32;
}

/// An owner's word of a tick, which a later one may be told against.
#[derive(Clone, Debug)]
pub(crate) struct Spoken {
    pub(crate) tick: Tick,
    pub(crate) input: Input,
    /// Of an account.
    pub(crate) state: Option<Box<State>>,
}

/// What is written, with layouts by tick, against a word that has come, or against none.
pub(crate) struct Against<'b, F> {
    pub(crate) plan: F,
    pub(crate) base: Option<&'b Spoken>,
    pub(crate) dt: f32,
}

impl<'a, F: Fn(WireTick) -> &'a Plan> Rests<'a> for Against<'_, F> {
    fn plan(&self, _: EntityId, tick: WireTick) -> Result<&'a Plan, WireError> {
        Ok((self.plan)(tick))
    }

    fn input(&self, entity: EntityId, _: WireTick) -> Result<Input, WireError> {
        self.base.map(|said| said.input).ok_or(WireError::Baseline(entity.index))
    }

    fn state(&self, entity: EntityId, _: WireTick) -> Result<State, WireError> {
        self.base.and_then(|said| said.state.as_deref().copied()).ok_or(WireError::Baseline(entity.index))
    }

    fn dt(&self) -> f32 {
        self.dt
    }
}

impl OfTick for Spoken {
    fn tick(&self) -> Tick {
        self.tick
    }
}

impl Spoken {
    /// Bytes it takes.
    pub(crate) fn bytes(&self) -> usize {
        size_of::<Self>() + if self.state.is_some() { size_of::<State>() } else { 0 }
    }

    /// How many ticks before `newest` it is, where that can rest on it; else none.
    pub(crate) fn back(&self, newest: Tick) -> u32 {
        u32::try_from(newest.since(self.tick)).ok().filter(|back| *back <= FURTHEST).unwrap_or(0)
    }
}

/// No word rests on one that was said more ticks before: inputs are kept no longer.
const FURTHEST: u32 = 200;

/// Ticks back to what a word or a snapshot is told against, none if it stands alone: six bits up to 62.
const BACK: Short = Short { least: 0, bits: 6, more: 16 };

/// How many ticks ago that was.
pub(super) fn back_rows<W: Way>(way: &mut W, back: &mut u32) -> Passed {
    way.short("rests on, ticks ago", back, &BACK, number)
}

/// The tick that is so many before another.
pub(super) const fn before(tick: WireTick, back: u32) -> WireTick {
    WireTick(tick.0.wrapping_sub(back as u16))
}

/// Those ticks as time.
pub(super) fn span<'a>(rests: &impl Rests<'a>, back: u32) -> Span {
    Span::new(back, rests.dt())
}
