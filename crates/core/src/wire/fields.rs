//! A datagram field by field: what it says, and in how many bits.
//!
//! It is read through the same rows as by [`Message::read`](super::Message::read), which gives what it means; here each row is noted as well, for
//! people who want to see what it costs. The bits of all fields add up to what was written.

use std::fmt::Display;

use super::bits::BitReader;
use super::datagram::Header;
use super::error::WireError;
use super::lanes::is_same;
use super::message::Message;
use crate::data::{Input, State};
use crate::field::Shape;
use crate::ids::EntityId;
use crate::plan::{FieldLanes, InputLane, InputLanes};
use crate::session::Layouts;
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

/// Reads, and notes what is read.
pub(super) struct Noting<'a> {
    pub(super) from: BitReader<'a>,
    pub(super) all: Vec<WireField>,
    pub(super) of: Option<EntityId>,
}

/// The fields of a datagram, read in the layouts of the ticks it is about.
///
/// # Errors
/// Whatever is wrong with the bytes.
pub fn fields(bytes: &[u8], layouts: &Layouts<'_>) -> Result<Vec<WireField>, WireError> {
    let mut noting = Noting { from: BitReader::new(bytes), all: Vec::new(), of: None };
    let header = Header::pass(&mut noting)?;
    noting.all.iter_mut().for_each(|field| field.of_envelope = true);
    let message = Message::pass(&header, &mut noting, layouts)?;
    noting.is_finished(&header)?;
    let mut fields = noting.all;
    if let Message::StreamUp(piece) | Message::StreamDown(piece) = &message
        && let Some(kind) = piece.head.kind
    {
        fields.extend(carried(&Header { kind, ..header }, &piece.body, layouts));
    }
    Ok(fields)
}

/// The fields of what a piece of a stream carries, or why it cannot be read.
fn carried(header: &Header, body: &[u8], layouts: &Layouts<'_>) -> Vec<WireField> {
    let mut noting = Noting { from: BitReader::new(body), all: Vec::new(), of: None };
    let read = Message::pass(header, &mut noting, layouts);
    match read.and_then(|_| noting.is_finished(header)) {
        Ok(()) => {}
        Err(why) => {
            noting.all.clear();
            let bits = body.len() as u32 * 8;
            if bits > 0 {
                noting.of = None;
                noting.note("it cannot be read", bits, FieldValue::Words(why.to_string()));
            }
        }
    }
    noting.all
}

impl Noting<'_> {
    fn is_finished(&self, header: &Header) -> Result<(), WireError> {
        super::message::is_finished(header, &self.from)
    }

    pub(super) fn note(&mut self, name: impl Display, bits: u32, value: FieldValue) {
        self.all.push(WireField { name: name.to_string(), bits, value, of: self.of, of_envelope: false });
    }

    /// A field of a state.
    pub(super) fn note_lanes(&mut self, field: &FieldLanes, state: &State) {
        let lane = usize::from(field.lane);
        let value = match field.shape {
            Shape::Flag => FieldValue::Flag(state.flag(lane)),
            Shape::Counter => FieldValue::Number(u64::from(state.int(lane))),
            _ => {
                let unit = if field.unit == "1" { String::new() } else { format!(" {}", field.unit) };
                FieldValue::Words(reals(lane..lane + field.shape.lanes(), |lane| state.real(lane)) + &unit)
            }
        };
        self.note(field.name, field.bits, value);
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
