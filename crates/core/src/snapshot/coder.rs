//! How differences become bits: packed, each by a code of its own, or through a range coder.
//!
//! What is said of an entity is the same in both; only what it costs differs.

use crate::ids::EntityId;
use crate::wire::{FieldValue, LaneCoder, Packed, Passed, Way};

/// What a yes or no is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Question {
    /// Whether an entity's slot is the next one.
    NextSlot,
    /// Whether it is as foreseen.
    Foreseen,
    /// Whether it is told by what differs.
    Differs,
}

impl Question {
    /// How many there are.
    pub(super) const COUNT: usize = 3;
}

/// Takes what is said of entities, or gives it.
pub(super) trait Coder: LaneCoder {
    /// Whether values come out of it.
    const READS: bool;

    /// Yes or no.
    fn ask(&mut self, about: Question, answer: &mut bool) -> Passed;

    /// So many bits of which nothing is expected.
    fn plain(&mut self, value: &mut u32, bits: u32) -> Passed;

    /// A number of which small ones are more frequent.
    fn small(&mut self, value: &mut u32) -> Passed;

    /// All since a mark is of an entity.
    fn belongs(&mut self, _mark: usize, _entity: EntityId) {}
}

impl<W: Way> Coder for Packed<'_, W> {
    const READS: bool = W::READS;

    #[inline]
    fn ask(&mut self, _: Question, answer: &mut bool) -> Passed {
        self.0.flag("", answer)
    }

    fn plain(&mut self, value: &mut u32, bits: u32) -> Passed {
        self.0.bits("", value, bits, |value| FieldValue::Number(u64::from(value)))
    }

    fn small(&mut self, value: &mut u32) -> Passed {
        self.0.gamma(value, 2)
    }

    fn belongs(&mut self, mark: usize, entity: EntityId) {
        self.0.belongs(mark, entity);
    }
}
