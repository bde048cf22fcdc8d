//! Reading, and noting what each row says and costs.

use std::fmt::Display;

use super::bits::BitReader;
use super::error::WireError;
use super::kind::MessageKind;
use super::lanes::is_same;
use crate::data::{Input, State};
use crate::field::Shape;
use crate::ids::EntityId;
use crate::plan::{FieldLanes, InputLane, InputLanes};
use crate::tick::WireTick;

/// What a field says.
#[derive(Clone, Debug, PartialEq)]
pub enum FieldValue {
    /// A number.
    Number(u64),
    /// A number that may be below zero, in quarters.
    Quarters(i8),
    /// Yes or no.
    Flag(bool),
    /// A measure in a unit.
    Real(f32, &'static str),
    /// A tick, as it travels.
    Tick(WireTick),
    /// An entity.
    Entity(EntityId),
    /// Something in words.
    Words(String),
    /// Nothing: the field is there, and stands for nothing.
    Nothing,
}

/// A field of a datagram.
#[derive(Clone, Debug, PartialEq)]
pub struct WireField {
    /// Its name.
    pub name: String,
    /// Bits it takes.
    pub bits: u32,
    /// What it says.
    pub value: FieldValue,
    /// The entity that it is of, where it is of one among several.
    pub of: Option<EntityId>,
    /// Whether it is the envelope's, which is the same for all messages.
    pub of_envelope: bool,
}

impl WireField {
    /// One of a message as a whole.
    pub(crate) fn new(name: &str, bits: u32, value: FieldValue) -> Self {
        Self { name: name.to_owned(), bits, value, of: None, of_envelope: false }
    }
}

/// Reads, and notes what is read.
pub(crate) struct Noting<'a> {
    pub(super) from: BitReader<'a>,
    pub(super) all: Vec<WireField>,
    pub(super) of: Option<EntityId>,
}

impl<'a> Noting<'a> {
    pub(crate) const fn new(bytes: &'a [u8]) -> Self {
        Self { from: BitReader::new(bytes), all: Vec::new(), of: None }
    }

    /// What was noted, where nothing is left over.
    pub(crate) fn finish(self, kind: MessageKind) -> Result<Vec<WireField>, WireError> {
        if self.from.is_finished() { Ok(self.all) } else { Err(WireError::LeftOver { kind, bits: self.from.left() }) }
    }
}

impl FieldLanes {
    /// What its lanes hold, in words where they are several.
    pub(crate) fn shown(&self, state: &State) -> FieldValue {
        let lane = usize::from(self.lane);
        match self.shape {
            Shape::Flag => FieldValue::Flag(state.flag(lane)),
            Shape::Counter => FieldValue::Number(u64::from(state.int(lane))),
            _ => {
                let unit = if self.unit == "1" { String::new() } else { format!(" {}", self.unit) };
                FieldValue::Words(reals(lane..lane + self.shape.lanes(), |lane| state.real(lane)) + &unit)
            }
        }
    }
}

impl Noting<'_> {
    pub(super) fn note(&mut self, name: impl Display, bits: u32, value: FieldValue) {
        self.all.push(WireField { name: name.to_string(), bits, value, of: self.of, of_envelope: false });
    }

    /// A field of a state.
    pub(super) fn note_lanes(&mut self, field: &FieldLanes, state: &State) {
        self.note(field.name, field.bits, field.shown(state));
    }

    /// A field of an input, of which may be said first whether it is as in another.
    pub(super) fn note_input(&mut self, lanes: &InputLanes, input: &Input, like: Option<&Input>) {
        let lane = usize::from(lanes.lane);
        if let Some(like) = like {
            let same = is_same(lanes, input, like);
            let is_flag = matches!(lanes.how, InputLane::Flag);
            self.note(format_args!("{} is the same", lanes.name), 1, FieldValue::Flag(same));
            if same || is_flag {
                return;
            }
        }
        let real_lanes = lane..lane + usize::from(lanes.reals);
        let q = match lanes.how {
            InputLane::Flag => return self.note(lanes.name, 1, FieldValue::Flag(input.flag(lane))),
            InputLane::Whole(bits) => {
                return self.note(lanes.name, bits, FieldValue::Number(u64::from(input.int(lane))));
            }
            InputLane::Rounded(q) => q,
            InputLane::Given(q) => {
                let given = input.flag(real_lanes.end);
                self.note(format_args!("{} given", lanes.name), 1, FieldValue::Flag(given));
                if !given {
                    return;
                }
                q
            }
        };
        let bits = q.bits() * u32::from(lanes.reals);
        self.note(lanes.name, bits, FieldValue::Words(reals(real_lanes, |lane| input.real(lane))));
    }
}

/// Reals one after the other.
fn reals(lanes: std::ops::Range<usize>, real: impl Fn(usize) -> f32) -> String {
    lanes.map(|lane| format!("{:.3}", real(lane))).collect::<Vec<_>>().join(", ")
}
