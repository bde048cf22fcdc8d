//! Differences packed, each by a code of its own.

use super::noting::FieldValue;
use super::rows::{Passed, Way};
use crate::plan::LaneClass;

/// Takes how far lanes are from where they were expected, or gives it.
pub(crate) trait LaneCoder {
    /// How far one is, folded to a number from nought on; `beside` is how far one is that it goes by: a place by its velocity, a velocity by the bearing, any
    /// other by the lane before it.
    fn apart(&mut self, class: LaneClass, beside: u32, folded: &mut u32) -> Passed;

    /// Where it is among what is looked at.
    fn mark(&self) -> usize {
        0
    }

    /// All since a mark is looked at as one.
    fn merge(&mut self, _mark: usize, _show: impl FnOnce() -> (String, FieldValue)) {}
}

/// Each value by a code of its own.
pub(crate) struct Packed<'a, W>(pub(crate) &'a mut W);

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
pub(crate) const fn packed_bits(class: LaneClass, folded: u32) -> u32 {
    if matches!(class, LaneClass::Flag) || folded == 0 {
        return 1;
    }
    let usual = usual_bits(class);
    let high = ((folded - 1) >> usual) as u64 + 1;
    1 + 2 * (63 - high.leading_zeros()) + 1 + usual
}

impl<W: Way> LaneCoder for Packed<'_, W> {
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

    fn mark(&self) -> usize {
        self.0.mark()
    }

    fn merge(&mut self, mark: usize, show: impl FnOnce() -> (String, FieldValue)) {
        self.0.merge(mark, show);
    }
}
