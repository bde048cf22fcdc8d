//! The room something takes.

/// The upright cylinder in which an entity moves; `pos` is the middle of its base.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Body {
    /// Metres.
    pub radius: f32,
    /// Metres.
    pub height: f32,
    /// The tallest edge it steps up without jumping, in metres.
    pub step: f32,
}
