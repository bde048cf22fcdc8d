//! The lanes of a state or an input as bits, by schema.

use super::bits::{BitReader, BitWriter};
use super::error::WireError;
use crate::data::{Input, State};
use crate::schema::{InputKind, Schema, SeenBy, Shape, StateField};

/// Writes an input.
pub(super) fn write_input(out: &mut BitWriter, schema: &Schema, input: &Input) {
    for f in &schema.input {
        if matches!(f.kind, InputKind::Point { .. }) {
            out.flag(input.flag(f.given_lane()));
            if !input.flag(f.given_lane()) {
                continue;
            }
        }
        match f.kind.quantiser() {
            Some(q) => {
                (f.lane..f.lane + f.kind.real_lanes()).for_each(|lane| out.put(q.encode(input.real(lane)), q.bits()));
            }
            None if f.kind == InputKind::Held => out.flag(input.flag(f.lane)),
            None => out.put(input.int(f.lane), f.kind.bits()),
        }
    }
}

pub(super) fn read_input(from: &mut BitReader<'_>, schema: &Schema) -> Result<Input, WireError> {
    let mut input = Input::default();
    for f in &schema.input {
        if matches!(f.kind, InputKind::Point { .. }) {
            if !from.flag()? {
                continue;
            }
            input.set_flag(f.given_lane(), true);
        }
        match f.kind.quantiser() {
            Some(q) => {
                for lane in f.lane..f.lane + f.kind.real_lanes() {
                    input.set_real(lane, q.decode(from.take(q.bits())?));
                }
            }
            None if f.kind == InputKind::Held => input.set_flag(f.lane, from.flag()?),
            None => input.set_int(f.lane, from.take(f.kind.bits())?),
        }
    }
    Ok(input)
}

/// Who a rounded state is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum For {
    /// Everybody: without what only its owner may know.
    Others,
    /// The server, who may know all of it.
    Server,
}

impl For {
    /// What of it is for them.
    pub(super) fn fields(self, schema: &Schema) -> impl Iterator<Item = &StateField> {
        schema.state.iter().filter(move |f| self == Self::Server || f.seen_by == SeenBy::All)
    }
}

/// Writes a state rounded, as far as it is for somebody.
pub(super) fn write_rounded(out: &mut BitWriter, schema: &Schema, state: &State, whom: For) {
    for f in whom.fields(schema) {
        match f.shape {
            Shape::Flag => out.flag(state.flag(f.lane)),
            Shape::Counter => out.put(state.int(f.lane), 32),
            _ => {
                let (q, bits) = (f.wire, f.wire.bits());
                (f.lane..f.lane + f.shape.lanes()).for_each(|lane| out.put(q.encode(state.real(lane)), bits));
            }
        }
    }
}

/// Reads what is for somebody into a state that knows nothing yet.
pub(super) fn read_rounded(
    from: &mut BitReader<'_>,
    schema: &Schema,
    state: &mut State,
    whom: For,
) -> Result<(), WireError> {
    for f in whom.fields(schema) {
        match f.shape {
            Shape::Flag => state.set_flag(f.lane, from.flag()?),
            Shape::Counter => state.set_int(f.lane, from.take(32)?),
            _ => {
                let (q, bits) = (f.wire, f.wire.bits());
                for lane in f.lane..f.lane + f.shape.lanes() {
                    state.set_real(lane, q.decode(from.take(bits)?));
                }
            }
        }
    }
    Ok(())
}

/// Writes every lane as it is.
pub(super) fn write_exact(out: &mut BitWriter, schema: &Schema, state: &State) {
    for f in &schema.state {
        for lane in f.lane..f.lane + f.shape.lanes() {
            if f.shape == Shape::Flag { out.flag(state.flag(lane)) } else { out.put(state.int(lane), 32) }
        }
    }
}

pub(super) fn read_exact(from: &mut BitReader<'_>, schema: &Schema) -> Result<State, WireError> {
    let mut state = State::default();
    for f in &schema.state {
        for lane in f.lane..f.lane + f.shape.lanes() {
            match f.shape {
                Shape::Flag => state.set_flag(lane, from.flag()?),
                Shape::Counter => state.set_int(lane, from.take(32)?),
                _ => {
                    let value = f32::from_bits(from.take(32)?);
                    if !value.is_finite() {
                        return Err(WireError::NotFinite(f.name));
                    }
                    state.set_real(lane, value);
                }
            }
        }
    }
    Ok(state)
}
