//! Chances of what is frequent, by what is asked and by classes of lanes.

use super::coder::Question;
use super::range::Chance;
use crate::plan::LaneClass;

/// Lengths of differences that have chances of their own; longer ones share the last.
pub(super) const LENGTHS: usize = 24;
/// Cases of what lies beside a lane.
pub(super) const BESIDE: usize = 3;

/// What is known of a class of lanes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct OfClass {
    /// That there is a difference: where what it goes by has none, a small one, a large one.
    pub(super) differs: [Chance; BESIDE],
    /// That it is longer than so many bits, in the same cases.
    pub(super) longer: [[Chance; LENGTHS]; BESIDE],
    /// Its highest bit behind the first one.
    pub(super) high: [Chance; LENGTHS],
}

/// All chances.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Chances {
    pub(super) asked: [Chance; Question::COUNT],
    pub(super) classes: [OfClass; LaneClass::ALL.len()],
    /// That a number is longer than so many bits.
    pub(super) small: [Chance; LENGTHS],
}
