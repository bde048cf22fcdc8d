//! What values are: numbers with a dimension, bearings, truths, sticks, vectors, places.

use crate::unit::Dimension;

/// What a value is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Type {
    /// Reported already; agrees with everything.
    Wrong,
    /// A number of some dimension.
    Number(Dimension),
    /// An angle kept within half a turn.
    Bearing,
    /// True or false.
    Truth,
    /// True for one tick.
    Press,
    /// A stick: right and ahead, not yet a direction in the world.
    Stick,
    /// Two components on the level.
    Level(Dimension),
    /// Three components.
    Vector(Dimension),
    /// A place.
    Point,
}

impl Type {
    /// Registers taken.
    pub(crate) const fn width(self) -> usize {
        match self {
            Self::Stick | Self::Level(_) => 2,
            Self::Vector(_) | Self::Point => 3,
            _ => 1,
        }
    }

    /// Whether it can be a condition.
    pub(crate) const fn is_truth(self) -> bool {
        matches!(self, Self::Truth | Self::Press | Self::Wrong)
    }

    /// For people.
    pub(crate) fn words(self) -> String {
        let with = |what: &str, d: Dimension| {
            if d.is_none() { what.to_owned() } else { format!("{what} in {d}") }
        };
        match self {
            Self::Wrong => "something".to_owned(),
            Self::Number(d) => with("a number", d),
            Self::Bearing => "a bearing".to_owned(),
            Self::Truth => "true or false".to_owned(),
            Self::Press => "a press".to_owned(),
            Self::Stick => "a stick".to_owned(),
            Self::Level(d) => with("a level vector", d),
            Self::Vector(d) => with("a vector", d),
            Self::Point => "a point".to_owned(),
        }
    }
}
