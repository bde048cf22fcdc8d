//! Chances with which every datagram begins, trained on the demo. Written by a test: see `train`.

use super::coded::{Chances, LENGTHS, OfClass};
use super::coder::Question;
use super::range::Chance;
use crate::plan::LaneClass;

const EVEN: Chance = Chance(2048);

/// See above.
pub(super) const TRAINED: Chances = Chances {
    asked: [EVEN; Question::COUNT],
    classes: [OfClass { differs: [EVEN; 2], longer: [EVEN; LENGTHS], high: [EVEN; LENGTHS] }; LaneClass::ALL.len()],
    small: [EVEN; LENGTHS],
};
