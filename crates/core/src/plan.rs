//! A schema as lanes one after the other, worked out once: how they travel rounded, how inputs travel, how states are drawn between two of
//! them.
//!
//! Messages are written and read by it, and screens drawn.

use crate::data::State;
use crate::field::{InputKind, SeenBy, Shape, StateField};
use crate::names::Name;
use crate::quantiser::Quantiser;
use crate::remote::{BlendPlan, SpotBlend};
use crate::schema::Schema;

/// How a lane of a state travels rounded.
#[derive(Clone, Copy, Debug)]
pub(crate) struct RoundedLane {
    pub(crate) lane: u8,
    pub(crate) bits: u8,
    /// How a real is rounded; `None` for what travels as it is.
    pub(crate) rounded: Option<Quantiser>,
    pub(crate) class: LaneClass,
}

impl RoundedLane {
    /// A state's lane as the whole number that travels.
    pub(crate) fn code(&self, state: &State) -> i32 {
        let lane = usize::from(self.lane);
        self.rounded.map_or_else(|| state.int(lane) as i32, |q| q.steps(state.real(lane)))
    }

    /// The bits of the lane that a whole number stands for.
    pub(crate) fn bits_of(&self, code: i32) -> u32 {
        // Neither a zero below zero nor what is no number comes of steps that are counted.
        self.rounded.map_or(code as u32, |q| q.of_steps(code).to_bits())
    }

    /// A whole number within the bits that it travels in, however far beyond them it went.
    pub(crate) const fn within(&self, code: i32) -> i32 {
        let above = 32 - self.bits as u32;
        if self.rounded.is_some() { code << above >> above } else { ((code << above) as u32 >> above) as i32 }
    }
}

/// What a lane is of, as far as that says how it changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LaneClass {
    /// A place on the level, and above it.
    Across,
    Up,
    /// The velocity on the level, and above it.
    Speed,
    Rise,
    /// Any other vector, number or angle.
    Vector,
    Number,
    Bearing,
    Flag,
    Counter,
}

impl LaneClass {
    /// All of them.
    pub(crate) const ALL: [Self; 9] = [
        Self::Across,
        Self::Up,
        Self::Speed,
        Self::Rise,
        Self::Vector,
        Self::Number,
        Self::Bearing,
        Self::Flag,
        Self::Counter,
    ];

    const fn of(f: &StateField, axis: usize, velocity: bool) -> Self {
        match f.shape {
            Shape::Point if axis < 2 => Self::Across,
            Shape::Point => Self::Up,
            Shape::Vector if velocity && axis < 2 => Self::Speed,
            Shape::Vector if velocity => Self::Rise,
            Shape::Vector => Self::Vector,
            Shape::Number => Self::Number,
            Shape::Bearing => Self::Bearing,
            Shape::Flag => Self::Flag,
            Shape::Counter => Self::Counter,
        }
    }
}

/// How an entity is carried on by its velocity: where place and velocity stand among the lanes that others get, and how many steps of a place half a step
/// of velocity leads on in a second.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Carried {
    pub(crate) place: u8,
    pub(crate) velocity: u8,
    pub(crate) steps: f32,
}

impl Carried {
    /// The lane of the velocity that carries a lane, if that is one of the place.
    pub(crate) fn along(&self, lane: usize) -> Option<usize> {
        let axis = lane.checked_sub(usize::from(self.place)).filter(|axis| *axis < 3)?;
        Some(usize::from(self.velocity) + axis)
    }

    fn of(schema: &Schema, seen: &Rounded) -> Option<Self> {
        let velocity = schema.velocity_lane()?;
        let among = |lane: usize| seen.lanes.iter().position(|l| usize::from(l.lane) == lane);
        let (place, velocity) = (among(schema.state[0].lane)?, among(velocity)?);
        let step = |at: usize| seen.lanes[at].rounded.map(Quantiser::step);
        let steps = step(velocity)? * 0.5 / step(place)?;
        Some(Self { place: place as u8, velocity: velocity as u8, steps })
    }
}

/// The lanes of a field that travel one after the other, for those who look at them.
#[derive(Clone, Copy, Debug)]
pub(crate) struct FieldLanes {
    pub(crate) name: Name,
    pub(crate) unit: Name,
    pub(crate) lane: u8,
    pub(crate) shape: Shape,
    /// Bits that all of them take.
    pub(crate) bits: u32,
}

impl FieldLanes {
    const fn of(f: &StateField, bits: u32) -> Self {
        Self { name: f.name, unit: f.unit, lane: f.lane as u8, shape: f.shape, bits }
    }
}

/// Lanes that travel rounded, in their order, the fields that they are of, and how many bits they take in all.
#[derive(Clone, Debug, Default)]
pub(crate) struct Rounded {
    pub(crate) lanes: Vec<RoundedLane>,
    pub(crate) fields: Vec<FieldLanes>,
    pub(crate) bits: u32,
}

impl Rounded {
    fn of(schema: &Schema, whole: bool) -> Self {
        let (mut lanes, mut fields) = (Vec::new(), Vec::new());
        for f in schema.state.iter().filter(|f| whole || f.seen_by == SeenBy::All) {
            let rounded = (!matches!(f.shape, Shape::Flag | Shape::Counter)).then_some(f.wire);
            let bits = f.lane_bits() as u8;
            fields.push(FieldLanes::of(f, f.lane_bits() * f.shape.lanes() as u32));
            let is_velocity = schema.velocity_lane() == Some(f.lane);
            lanes.extend((0..f.shape.lanes()).map(|axis| RoundedLane {
                lane: (f.lane + axis) as u8,
                bits,
                rounded,
                class: LaneClass::of(f, axis, is_velocity),
            }));
        }
        let bits = lanes.iter().map(|lane| u32::from(lane.bits)).sum();
        Self { lanes, fields, bits }
    }
}

/// How a lane of a state travels as it is.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ExactLane {
    pub(crate) lane: u8,
    pub(crate) how: Exact,
}

/// What a lane holds.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Exact {
    Flag,
    Whole,
    /// Of a field of this name.
    Real(&'static str),
}

/// How a field of an input travels.
#[derive(Clone, Copy, Debug)]
pub(crate) struct InputLanes {
    pub(crate) name: Name,
    pub(crate) lane: u8,
    /// How many lanes hold reals.
    pub(crate) reals: u8,
    pub(crate) how: InputLane,
}

impl InputLanes {
    /// How many lanes there are in all.
    pub(crate) fn lanes(&self) -> usize {
        usize::from(self.reals) + usize::from(!matches!(self.how, InputLane::Rounded(_)))
    }
}

/// How lanes of an input are read.
#[derive(Clone, Copy, Debug)]
pub(crate) enum InputLane {
    /// Reals, rounded.
    Rounded(Quantiser),
    /// Reals, rounded, where the lane after them says that they are given.
    Given(Quantiser),
    Flag,
    /// A whole number of this width in bits.
    Whole(u32),
}

/// What follows from a schema.
#[derive(Clone, Debug)]
pub struct Plan {
    /// As everybody but its owner gets it.
    pub(crate) seen: Rounded,
    /// How it is carried on by its velocity, if by any: as all get it, and of all lanes the first of place and velocity.
    pub(crate) carried: Option<Carried>,
    pub(crate) carrying: Option<(usize, usize)>,
    /// As an owner tells the server, and how it is carried on there.
    pub(crate) told: Rounded,
    pub(crate) told_carried: Option<Carried>,
    /// As its owner gets it.
    pub(crate) exact: Vec<ExactLane>,
    pub(crate) exact_fields: Vec<FieldLanes>,
    /// How a place is rounded.
    pub(crate) point: Quantiser,
    pub(crate) input: Vec<InputLanes>,
    /// How states are drawn.
    pub(crate) blend: BlendPlan,
    pub(crate) spot: SpotBlend,
}

impl Plan {
    /// Of a schema that was checked.
    pub fn of(schema: &Schema) -> Self {
        let input = |f: &crate::field::InputField| {
            let how = match f.kind.quantiser() {
                Some(q) if matches!(f.kind, InputKind::Point { .. }) => InputLane::Given(q),
                Some(q) => InputLane::Rounded(q),
                None if f.kind == InputKind::Held => InputLane::Flag,
                None => InputLane::Whole(f.kind.bits()),
            };
            InputLanes { name: f.name, lane: f.lane as u8, reals: f.kind.real_lanes() as u8, how }
        };
        let exact = |f: &StateField| {
            let how = match f.shape {
                Shape::Flag => Exact::Flag,
                Shape::Counter => Exact::Whole,
                _ => Exact::Real(f.name),
            };
            (f.lane..f.lane + f.shape.lanes()).map(move |lane| ExactLane { lane: lane as u8, how })
        };
        let (seen, told) = (Rounded::of(schema, false), Rounded::of(schema, true));
        Self {
            exact: schema.state.iter().flat_map(exact).collect(),
            exact_fields: schema.state.iter().map(|f| FieldLanes::of(f, f.exact_bits())).collect(),
            point: schema.state[0].wire,
            carried: Carried::of(schema, &seen),
            carrying: schema.velocity_lane().map(|velocity| (schema.state[0].lane, velocity)),
            seen,
            told_carried: Carried::of(schema, &told),
            told,
            input: schema.input.iter().map(input).collect(),
            blend: BlendPlan::of(schema),
            spot: SpotBlend::of(schema),
        }
    }
}
