//! A field of a state or of an input: what its lanes mean, how they travel, agree and are drawn.

use std::f32::consts::PI;

use serde::{Deserialize, Serialize};

use crate::data::{Input, State};
use crate::float::wrap_angle;
use crate::names::{self, Name};
use crate::quantiser::Quantiser;
use crate::vec3::Vec3;

/// The kind of a state field, which also says how many lanes it takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Shape {
    /// Position in metres: three real lanes.
    Point,
    /// A direction with a size: three real lanes.
    Vector,
    /// One real lane.
    Number,
    /// An angle in radians, −π..π: one real lane.
    Bearing,
    /// Yes or no: one lane.
    Flag,
    /// A whole number: one lane.
    Counter,
}

impl Shape {
    /// Its name on screens and in records.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Point => "point",
            Self::Vector => "vector",
            Self::Number => "number",
            Self::Bearing => "bearing",
            Self::Flag => "flag",
            Self::Counter => "counter",
        }
    }

    /// Lanes taken.
    pub const fn lanes(self) -> usize {
        match self {
            Self::Point | Self::Vector => 3,
            _ => 1,
        }
    }
}

/// How near two machines' values must be to count as agreeing, in the field's unit.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub enum Agree {
    /// Bit for bit.
    Exactly,
    /// Euclidean distance, or arc for bearings, at most this.
    Within(f32),
}

/// How a value between two snapshots is drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Blend {
    /// The earlier one holds until the later one's time has come.
    None,
    /// Straight from one to the other.
    Linear,
    /// Along the shorter arc.
    Bearing,
    /// Along a curve that leaves and arrives with the velocity of the two states (a cubic Hermite spline).
    Curve,
}

/// Who may learn a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum SeenBy {
    /// Every client.
    All,
    /// The owner only.
    Owner,
}

/// One remembered value.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StateField {
    /// Its name on screens.
    #[serde(with = "names")]
    pub name: Name,
    /// First lane.
    pub lane: usize,
    /// Kind and width in lanes.
    pub shape: Shape,
    /// Unit as shown, for example `m/s`.
    #[serde(with = "names")]
    pub unit: Name,
    /// How each lane is rounded for everybody but the owner.
    pub wire: Quantiser,
    /// How near two values must be for reconciliation.
    pub agree: Agree,
    /// How it is drawn between snapshots.
    pub blend: Blend,
    /// Who receives it.
    pub seen_by: SeenBy,
}

impl Agree {
    /// How far two values may lie apart, in the field's unit.
    pub const fn tolerance(self) -> f32 {
        match self {
            Self::Exactly => 0.0,
            Self::Within(tolerance) => tolerance,
        }
    }
}

impl StateField {
    /// How far two states lie apart in this field, in tolerances: above 1 they do not agree. Without a tolerance, 0 for the same
    /// bits, and else 1 and the distance in steps of the wire.
    pub fn apart(&self, a: &State, b: &State) -> f32 {
        let same = || (self.lane..self.lane + self.shape.lanes()).all(|lane| a.int(lane) == b.int(lane));
        let apart = distance(self, a, b);
        match self.agree {
            Agree::Within(tolerance) if tolerance > 0.0 => apart / tolerance,
            Agree::Within(_) if apart == 0.0 => 0.0,
            Agree::Exactly if same() => 0.0,
            _ => 1.0 + crate::float::max(apart / self.wire.step(), f32::EPSILON),
        }
    }

    /// Bits on the wire as its owner receives it.
    pub const fn exact_bits(&self) -> u32 {
        match self.shape {
            Shape::Flag => 1,
            _ => 32 * self.shape.lanes() as u32,
        }
    }

    /// Bits on the wire as everybody else receives it: none if it is private.
    pub fn seen_bits(&self) -> u32 {
        match self.seen_by {
            SeenBy::Owner => 0,
            SeenBy::All => self.lane_bits() * self.shape.lanes() as u32,
        }
    }

    /// Bits of one of its lanes on the wire, for everybody else who receives it.
    pub const fn lane_bits(&self) -> u32 {
        match self.shape {
            Shape::Flag => 1,
            Shape::Counter => 32,
            _ => self.wire.bits(),
        }
    }
}

/// The kind of an input field.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum InputKind {
    /// Two lanes inside the unit disc, each of this width in bits.
    Stick {
        /// Bits a component, 2 to 16.
        bits: u32,
    },
    /// True in every tick during any part of which the key was down.
    Held,
    /// How often the key went down since the last tick.
    Press,
    /// An angle in radians, decided by the owner and believed.
    Bearing {
        /// Bits for the full turn, 2 to 16.
        bits: u32,
    },
    /// One lane from −1 to 1: a throttle, a rudder.
    Axis {
        /// Bits, 2 to 16.
        bits: u32,
    },
    /// An angle above the level in radians, −π/2..π/2.
    Pitch {
        /// Bits for the half turn, 2 to 16.
        bits: u32,
    },
    /// A place in the world, three lanes in metres, each within [`POINT_REACH`] of the middle, and one that says whether any is
    /// given: an order that is not given is no order to go to the middle of the world. If none is given the others are 0.
    Point {
        /// Bits a component, 4 to 20.
        bits: u32,
    },
}

/// How far from the middle of the world a point given as input can lie along each axis, in metres.
pub const POINT_REACH: f32 = 512.0;

impl InputKind {
    /// Its name on screens and in records.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Stick { .. } => "stick",
            Self::Held => "held",
            Self::Press => "press",
            Self::Bearing { .. } => "bearing",
            Self::Axis { .. } => "axis",
            Self::Pitch { .. } => "pitch",
            Self::Point { .. } => "point",
        }
    }

    /// Lanes taken.
    pub const fn lanes(self) -> usize {
        match self {
            Self::Stick { .. } => 2,
            Self::Point { .. } => 4,
            _ => 1,
        }
    }

    /// Lanes that hold real numbers.
    pub const fn real_lanes(self) -> usize {
        match self {
            Self::Held | Self::Press => 0,
            Self::Point { .. } => 3,
            _ => self.lanes(),
        }
    }

    /// Bits on the wire, at most: a point that is not given takes one.
    pub const fn bits(self) -> u32 {
        match self {
            Self::Stick { bits } => 2 * bits,
            Self::Held => 1,
            Self::Press => PRESS_BITS,
            Self::Bearing { bits } | Self::Axis { bits } | Self::Pitch { bits } => bits,
            Self::Point { bits } => 1 + 3 * bits,
        }
    }

    /// How its real lanes are rounded; `None` for those that are no reals.
    pub fn quantiser(self) -> Option<Quantiser> {
        match self {
            Self::Stick { bits } | Self::Axis { bits } => Some(stick_quantiser(bits)),
            Self::Bearing { bits } => Some(bearing_quantiser(bits)),
            // One step less than half a turn each way, so that the ends are exact.
            Self::Pitch { bits } => Some(Quantiser::new(PI / 2.0 / ((1u32 << (bits - 1)) - 1) as f32, bits)),
            Self::Point { bits } => Some(Quantiser::new(POINT_REACH / ((1u32 << (bits - 1)) - 1) as f32, bits)),
            Self::Held | Self::Press => None,
        }
    }
}

/// Presses travel as counters modulo 2^4: up to 15 in a row may be lost before one is miscounted.
pub const PRESS_BITS: u32 = 4;

/// One value a player gives.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct InputField {
    /// Its name on screens.
    #[serde(with = "names")]
    pub name: Name,
    /// First lane.
    pub lane: usize,
    /// Kind, width and rounding.
    pub kind: InputKind,
}

impl InputField {
    /// The lane that says whether a point is given.
    pub const fn given_lane(&self) -> usize {
        self.lane + 3
    }

    /// Whether an input, as a step reads it, has it: a key is down or went down, a stick is off its middle, a place is given. A
    /// direction is always given.
    pub fn is_given(&self, input: &Input) -> bool {
        match self.kind {
            InputKind::Held => input.flag(self.lane),
            InputKind::Press => input.int(self.lane) > 0,
            InputKind::Point { .. } => input.flag(self.given_lane()),
            InputKind::Stick { .. } | InputKind::Axis { .. } => {
                (self.lane..self.lane + self.kind.lanes()).any(|lane| input.real(lane) != 0.0)
            }
            InputKind::Bearing { .. } | InputKind::Pitch { .. } => true,
        }
    }

    /// Gives a point.
    pub fn give(&self, input: &mut Input, point: Vec3) {
        input.set_vec3(self.lane, point);
        input.set_flag(self.given_lane(), true);
    }
}

fn distance(f: &StateField, a: &State, b: &State) -> f32 {
    match f.shape {
        Shape::Point | Shape::Vector => a.vec3(f.lane).distance(b.vec3(f.lane)),
        Shape::Number => (a.real(f.lane) - b.real(f.lane)).abs(),
        Shape::Bearing => wrap_angle(a.real(f.lane) - b.real(f.lane)).abs(),
        Shape::Flag | Shape::Counter => a.int(f.lane).abs_diff(b.int(f.lane)) as f32,
    }
}

/// Rounding of a stick component.
pub fn stick_quantiser(bits: u32) -> Quantiser {
    // 2^bits - 2 steps across, so that -1, 0 and 1 are all exact.
    Quantiser::new(1.0 / ((1u32 << (bits - 1)) - 1) as f32, bits)
}

/// Rounding of a bearing: a whole turn in 2^bits steps.
pub fn bearing_quantiser(bits: u32) -> Quantiser {
    Quantiser::new(2.0 * PI / (1u32 << bits) as f32, bits)
}
