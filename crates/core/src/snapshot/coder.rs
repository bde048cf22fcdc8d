//! How differences become bits: packed, each by a code of its own, or through a range coder.
//!
//! What is said of an entity is the same in both; only what it costs differs.

use crate::ids::EntityId;
use crate::plan::LaneClass;
use crate::wire::{FieldValue, Passed, Way};

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
pub(super) trait Coder {
    /// Whether values come out of it.
    const READS: bool;

    /// Yes or no.
    fn ask(&mut self, about: Question, answer: &mut bool) -> Passed;

    /// How far a lane is from where it was expected, folded to a number from nought on; `beside` is how far one is that it goes by: a place by its
    /// velocity, a velocity by the bearing, any other by the lane before it in its field.
    fn apart(&mut self, class: LaneClass, beside: u32, folded: &mut u32) -> Passed;

    /// So many bits of which nothing is expected.
    fn plain(&mut self, value: &mut u32, bits: u32) -> Passed;

    /// A number of which small ones are more frequent.
    fn small(&mut self, value: &mut u32) -> Passed;

    /// Where it is among what is looked at, and that all since then is looked at as one.
    fn mark(&self) -> usize {
        0
    }
    fn merge(&mut self, _mark: usize, _show: impl FnOnce() -> (String, FieldValue)) {}

    /// All since a mark is of an entity.
    fn belongs(&mut self, _mark: usize, _entity: EntityId) {}
}

/// Each value by a code of its own.
pub(super) struct Packed<'a, W>(pub(super) &'a mut W);

/// Low bits that stand apart in the code of a difference: about as many as one usually has.
const fn usual_bits(class: LaneClass) -> u32 {
    match class {
        LaneClass::Across | LaneClass::Up | LaneClass::Bearing => 1,
        LaneClass::Speed | LaneClass::Rise | LaneClass::Vector => 3,
        LaneClass::Number => 2,
        LaneClass::Flag | LaneClass::Counter => 0,
    }
}

/// Bits that a difference takes when it is packed.
pub(super) const fn packed_bits(class: LaneClass, folded: u32) -> u32 {
    if matches!(class, LaneClass::Flag) || folded == 0 {
        return 1;
    }
    let usual = usual_bits(class);
    let high = ((folded - 1) >> usual) as u64 + 1;
    1 + 2 * (63 - high.leading_zeros()) + 1 + usual
}

impl<W: Way> Coder for Packed<'_, W> {
    const READS: bool = W::READS;

    #[inline]
    fn ask(&mut self, _: Question, answer: &mut bool) -> Passed {
        self.0.flag("", answer)
    }

    #[inline]
    fn apart(&mut self, class: LaneClass, _: u32, folded: &mut u32) -> Passed {
        let mut differs = *folded != 0;
        self.0.flag("", &mut differs)?;
        if !differs {
            *folded = 0;
            return Ok(());
        }
        if class == LaneClass::Flag {
            *folded = 1;
            return Ok(());
        }
        let mut beyond = folded.wrapping_sub(1);
        self.0.gamma(&mut beyond, usual_bits(class))?;
        *folded = beyond.wrapping_add(1);
        Ok(())
    }

    fn plain(&mut self, value: &mut u32, bits: u32) -> Passed {
        self.0.bits("", value, bits, |value| FieldValue::Number(u64::from(value)))
    }

    fn small(&mut self, value: &mut u32) -> Passed {
        self.0.gamma(value, 2)
    }

    fn mark(&self) -> usize {
        self.0.mark()
    }

    fn merge(&mut self, mark: usize, show: impl FnOnce() -> (String, FieldValue)) {
        self.0.merge(mark, show);
    }

    fn belongs(&mut self, mark: usize, entity: EntityId) {
        self.0.belongs(mark, entity);
    }
}
