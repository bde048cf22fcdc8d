//! What a world is made of: upright boxes, surfaces, an edge.

use serde::{Deserialize, Serialize};

use crate::float::{max, min};

/// How far a slide stays from what it meets, in metres.
pub const SKIN: f32 = 0.002;

/// Nearer than this to something, of places rounded to a step of the wire: it may be touched.
pub const fn touching(step: f32) -> f32 {
    SKIN + 2.0 * step
}

/// Names a solid across all grounds of a course.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct SolidId(pub u16);

impl SolidId {
    /// The floor.
    pub const FLOOR: Self = Self(u16::MAX);
    /// The edge of the world.
    pub const EDGE: Self = Self(u16::MAX - 1);
}

/// An upright box: a rectangle of any yaw with a height range.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Solid {
    /// Its name.
    pub id: SolidId,
    /// Middle, in metres.
    pub x: f32,
    /// Middle, in metres.
    pub y: f32,
    /// Half its extent along its own first axis.
    pub half_x: f32,
    /// Half its extent along its own second axis.
    pub half_y: f32,
    /// Turn of its first axis from east, counter-clockwise, in radians.
    pub yaw: f32,
    /// Bottom, in metres.
    pub low: f32,
    /// Top, in metres.
    pub high: f32,
}

/// How a surface treats feet.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Surface {
    /// Share of the rule's grip that holds here.
    pub grip: f32,
    /// Share of the rule's speed that is reached here.
    pub pace: f32,
}

impl Surface {
    /// Dry stone.
    pub const PLAIN: Self = Self { grip: 1.0, pace: 1.0 };
}

/// What may be underfoot where a place is not known to the bit: of each share the least and the greatest.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Underfoot {
    /// Of the rule's grip.
    pub grip: [f32; 2],
    /// Of the rule's speed.
    pub pace: [f32; 2],
}

impl Underfoot {
    /// One surface.
    pub const fn of(surface: Surface) -> Self {
        Self { grip: [surface.grip; 2], pace: [surface.pace; 2] }
    }

    /// Any surface there is.
    pub const ANY: Self = Self { grip: [0.0, 1.0], pace: [0.0, 1.0] };

    /// This or that.
    #[must_use]
    pub(crate) fn or(self, other: Surface) -> Self {
        let wider = |range: [f32; 2], x: f32| [min(range[0], x), max(range[1], x)];
        Self { grip: wider(self.grip, other.grip), pace: wider(self.pace, other.pace) }
    }
}

/// A level rectangle of another surface.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Zone {
    /// West and south corner.
    pub min: (f32, f32),
    /// East and north corner.
    pub max: (f32, f32),
    /// What it does. Where zones overlap the later one counts.
    pub surface: Surface,
}

/// Where the world ends and how low its floor lies.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bounds {
    /// West and south corner, in metres.
    pub min: (f32, f32),
    /// East and north corner, in metres.
    pub max: (f32, f32),
    /// Height of the floor.
    pub floor: f32,
}
