//! Lanes that travel rounded, against what the other side has of them.
//!
//! Whole numbers against whole numbers, never reals: what is received is what was sent, to the bit. Velocities come before the place that they carry, so
//! that the place is held against the mean of the velocity then and now.

use super::carry::{Span, carried};
use super::folded::{fold, unfold};
use super::packed::{LaneCoder, packed_bits};
use super::rows::Passed;
use crate::data::{STATE_LANES, State};
use crate::plan::{Carried, LaneClass, Rounded, RoundedLane};

/// The numbers of a state, as many as it has lanes that travel.
pub(crate) type Codes = [i32; STATE_LANES];

/// A state of such numbers.
pub(crate) fn decoded(rounded: &Rounded, codes: &[i32]) -> State {
    let mut state = State::default();
    for (lane, code) in rounded.lanes.iter().zip(codes) {
        state.set_int(usize::from(lane.lane), lane.bits_of(*code));
    }
    state
}

/// The numbers of a state.
pub(crate) fn codes_of(rounded: &Rounded, state: &State) -> Codes {
    let mut codes = [0; STATE_LANES];
    codes.iter_mut().zip(&rounded.lanes).for_each(|(code, lane)| *code = lane.code(state));
    codes
}

/// Passes through the lanes by field, and says what of each field is shown: the velocity behind all others, and the place that it carries last.
pub(crate) fn fields<C: LaneCoder>(
    coder: &mut C,
    rounded: &Rounded,
    by: Option<&Carried>,
    codes: &mut Codes,
    mut lane: impl FnMut(&mut C, usize, &mut Codes) -> Passed,
) -> Passed {
    for pass in 0..3 {
        let mut at = 0;
        for field in &rounded.fields {
            let begin = at;
            at += field.shape.lanes();
            let turn = by.map_or(0, |by| match begin {
                _ if begin == usize::from(by.velocity) => 1,
                _ if begin == usize::from(by.place) => 2,
                _ => 0,
            });
            if turn != pass {
                continue;
            }
            let mark = coder.mark();
            (begin..at).try_for_each(|i| lane(coder, i, codes))?;
            coder.merge(mark, || (field.name.to_owned(), field.shown(&decoded(rounded, codes))));
        }
    }
    Ok(())
}

/// What is expected of a lane, where those of the velocity are known.
fn expected(rounded: &Rounded, by: Option<&Carried>, (then, span): (&[i32], Span), now: &Codes, lane: usize) -> i32 {
    match by.and_then(|by| Some((by, by.along(lane)?))) {
        Some((by, along)) => {
            let on = carried(by, then[along].wrapping_add(now[along]), span);
            rounded.lanes[lane].within(then[lane].wrapping_add(on))
        }
        None => then[lane],
    }
}

/// All lanes of what goes on as it did.
pub(crate) fn foresee(rounded: &Rounded, by: Option<&Carried>, (then, span): (&[i32], Span), codes: &mut Codes) {
    codes[..then.len()].copy_from_slice(then);
    let Some(it) = by else { return };
    let place = usize::from(it.place);
    for lane in place..place + 3 {
        codes[lane] = expected(rounded, by, (then, span), codes, lane);
    }
}

/// What differs, lane by lane.
pub(crate) fn differing<C: LaneCoder>(
    coder: &mut C,
    rounded: &Rounded,
    by: Option<&Carried>,
    from: (&[i32], Span),
    codes: &mut Codes,
) -> Passed {
    let (mut all, mut last_bearing) = ([0; STATE_LANES], 0);
    fields(coder, rounded, by, codes, |coder, i, codes| {
        let lane = &rounded.lanes[i];
        // Not every place is carried: a rule may have several.
        let beside = match by.and_then(|by| by.along(i)) {
            Some(along) => all[along],
            None if by.is_some_and(|by| usize::from(by.velocity) == i) => last_bearing,
            None => i.checked_sub(1).map_or(0, |before| all[before]),
        };
        let expected = expected(rounded, by, from, codes, i);
        let mut folded = apart(lane, codes[i], expected);
        coder.apart(lane.class, beside, &mut folded)?;
        all[i] = folded;
        if lane.class == LaneClass::Bearing {
            last_bearing = folded;
        }
        codes[i] = match lane.class {
            LaneClass::Flag => expected ^ folded as i32,
            _ => lane.within(expected.wrapping_add(unfold(folded))),
        };
        Ok(())
    })
}

/// How far a number is from where it was expected, folded.
pub(crate) const fn apart(lane: &RoundedLane, code: i32, expected: i32) -> u32 {
    if matches!(lane.class, LaneClass::Flag) {
        (code ^ expected) as u32 & 1
    } else {
        // Around the end of what its bits hold it is near as well.
        let above = 32 - lane.bits as u32;
        fold(code.wrapping_sub(expected) << above >> above)
    }
}

/// Bits that what differs takes, packed.
pub(crate) fn differing_bits(
    rounded: &Rounded,
    by: Option<&Carried>,
    (then, span): (&[i32], Span),
    codes: &Codes,
) -> u32 {
    let differing = |lane: usize| {
        let it = &rounded.lanes[lane];
        packed_bits(it.class, apart(it, codes[lane], expected(rounded, by, (then, span), codes, lane)))
    };
    (0..then.len()).map(differing).sum()
}
