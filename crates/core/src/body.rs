//! The room something takes.

use serde::{Deserialize, Serialize};

use crate::float::max;

/// The upright cylinder in which an entity moves; `pos` is the middle of its base.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Body {
    /// Metres.
    pub radius: f32,
    /// Metres.
    pub height: f32,
    /// The tallest edge it steps up without jumping, in metres.
    pub step: f32,
}

impl Body {
    /// No body is smaller than this made smaller, in metres.
    pub const LEAST: f32 = 0.01;

    /// As high, and narrower all round by this number of metres: beside what only rounding has it touch.
    #[must_use]
    pub fn slimmer(self, by: f32) -> Self {
        Self { radius: max(self.radius - by, Self::LEAST), ..self }
    }

    /// Smaller by this number of metres on each side, if it is lifted by that, and unable to step: clear of what only rounding has it touch.
    #[must_use]
    pub fn thinner(self, by: f32) -> Self {
        Self { height: max(self.height - 2.0 * by, Self::LEAST), step: 0.0, ..self.slimmer(by) }
    }
}
