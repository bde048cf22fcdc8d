//! The lanes of a state or an input as bits, by the plan of their rule.

use super::bits::{BitReader, BitWriter};
use super::error::WireError;
use crate::data::{Input, State};
use crate::plan::{Exact, InputLane, InputLanes, Plan, Rounded};

/// Writes an input: where it is known to differ from another, of each field whether that is the same.
pub(super) fn write_input(out: &mut BitWriter, plan: &Plan, input: &Input, like: Option<&Input>) {
    for f in &plan.input {
        if let Some(like) = like {
            let same = is_same(f, input, like);
            out.flag(same);
            if same {
                continue;
            }
        }
        let lane = usize::from(f.lane);
        let reals = lane..lane + usize::from(f.reals);
        let q = match f.how {
            InputLane::Rounded(q) => q,
            InputLane::Given(q) => {
                out.flag(input.flag(reals.end));
                if !input.flag(reals.end) {
                    continue;
                }
                q
            }
            InputLane::Flag => {
                // There are but two: where it differs it is the other.
                if like.is_none() {
                    out.flag(input.flag(lane));
                }
                continue;
            }
            InputLane::Whole(bits) => {
                out.put(input.int(lane), bits);
                continue;
            }
        };
        reals.for_each(|lane| out.put(q.encode(input.real(lane)), q.bits()));
    }
}

/// Whether a field is the same in two inputs as they travel. They may be of different layouts: what is a flag in one may be a number in the other.
pub(super) fn is_same(f: &InputLanes, a: &Input, b: &Input) -> bool {
    let lane = usize::from(f.lane);
    if matches!(f.how, InputLane::Flag) {
        return a.flag(lane) == b.flag(lane);
    }
    (lane..lane + f.lanes()).all(|lane| a.int(lane) == b.int(lane))
}

/// Reads what was written so.
pub(super) fn read_input(from: &mut BitReader<'_>, plan: &Plan, like: Option<&Input>) -> Result<Input, WireError> {
    let mut input = Input::default();
    for f in &plan.input {
        let lane = usize::from(f.lane);
        if let Some(like) = like
            && from.flag()?
        {
            match f.how {
                InputLane::Flag => input.set_flag(lane, like.flag(lane)),
                _ => (lane..lane + f.lanes()).for_each(|lane| input.set_int(lane, like.int(lane))),
            }
            continue;
        }
        let reals = lane..lane + usize::from(f.reals);
        let q = match f.how {
            InputLane::Rounded(q) => q,
            InputLane::Given(q) => {
                if !from.flag()? {
                    continue;
                }
                input.set_flag(reals.end, true);
                q
            }
            InputLane::Flag => {
                let flag = match like {
                    Some(like) => !like.flag(lane),
                    None => from.flag()?,
                };
                input.set_flag(lane, flag);
                continue;
            }
            InputLane::Whole(bits) => {
                input.set_int(lane, from.take(bits)?);
                continue;
            }
        };
        for lane in reals {
            input.set_real(lane, q.decode(from.take(q.bits())?));
        }
    }
    Ok(input)
}

/// Writes lanes rounded.
pub(super) fn write_lanes(out: &mut BitWriter, rounded: &Rounded, state: &State) {
    for lane in &rounded.lanes {
        out.put(lane.code(state) as u32, u32::from(lane.bits));
    }
}

/// Reads rounded lanes into a state that knows nothing yet.
pub(super) fn read_lanes(from: &mut BitReader<'_>, rounded: &Rounded, state: &mut State) -> Result<(), WireError> {
    let mut row = from.row(rounded.bits)?;
    for lane in &rounded.lanes {
        let bits = u32::from(lane.bits);
        let code = if lane.rounded.is_some() { row.take_signed(bits) } else { row.take(bits) as i32 };
        state.set_int(usize::from(lane.lane), lane.bits_of(code));
    }
    Ok(())
}

/// Writes every lane as it is.
pub(super) fn write_exact(out: &mut BitWriter, plan: &Plan, state: &State) {
    for lane in &plan.exact {
        let place = usize::from(lane.lane);
        if matches!(lane.how, Exact::Flag) { out.flag(state.flag(place)) } else { out.put(state.int(place), 32) }
    }
}

pub(super) fn read_exact(from: &mut BitReader<'_>, plan: &Plan) -> Result<State, WireError> {
    let mut state = State::default();
    for lane in &plan.exact {
        let place = usize::from(lane.lane);
        match lane.how {
            Exact::Flag => state.set_flag(place, from.flag()?),
            Exact::Whole => state.set_int(place, from.take(32)?),
            Exact::Real(name) => {
                let value = f32::from_bits(from.take(32)?);
                if !value.is_finite() {
                    return Err(WireError::NotFinite(name));
                }
                state.set_real(place, value);
            }
        }
    }
    Ok(state)
}
