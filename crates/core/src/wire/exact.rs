//! An own entity exactly, against what its receiver has of it.
//!
//! Its reals travel as how many neighbouring reals lie between each and the one expected: of what goes on as it did that is little, and whatever it is, it
//! comes to the very same bits.

use super::carry::{Span, carried_exactly, ordered, unordered};
use super::error::WireError;
use super::folded::{fold, unfold};
use super::noting::FieldValue;
use super::rows::{Passed, Way};
use crate::data::State;
use crate::plan::{Exact, ExactLane, Plan};

/// What is expected of a lane: of a place what its velocity leads to, with the mean of the one before and the one now, which came before it.
fn expected(plan: &Plan, before: &State, now: &State, lane: usize, span: Span) -> u32 {
    match plan.carrying {
        Some((place, velocity)) if (place..place + 3).contains(&lane) => {
            let along = velocity + (lane - place);
            let to = carried_exactly(before.real(lane), (before.real(along), now.real(along)), span);
            crate::float::canonical_bits(to)
        }
        _ => before.int(lane),
    }
}

/// All lanes of an own state against one that its receiver has. Places come last.
pub(crate) fn against<W: Way>(way: &mut W, plan: &Plan, before: &State, span: Span, now: &mut State) -> Passed {
    let is_place = |lane: usize| plan.carrying.is_some_and(|(place, _)| (place..place + 3).contains(&lane));
    for last in [false, true] {
        let mut at = 0;
        for field in &plan.exact_fields {
            let lanes = &plan.exact[at..at + field.shape.lanes()];
            at += lanes.len();
            if is_place(usize::from(field.lane)) != last {
                continue;
            }
            let mark = way.mark();
            lanes.iter().try_for_each(|lane| one(way, plan, before, span, (lane, now)))?;
            way.merge(mark, || (field.name.to_owned(), field.shown(now)));
        }
    }
    Ok(())
}

fn one<W: Way>(
    way: &mut W,
    plan: &Plan,
    before: &State,
    span: Span,
    (ExactLane { lane, how }, now): (&ExactLane, &mut State),
) -> Passed {
    let lane = usize::from(*lane);
    let is = |value: u32| if matches!(how, Exact::Real(_)) { ordered(value) } else { value };
    let expected = is(expected(plan, before, now, lane, span));
    if matches!(how, Exact::Flag) {
        let mut differs = now.flag(lane) != before.flag(lane);
        way.flag("", &mut differs)?;
        now.set_flag(lane, before.flag(lane) != differs);
        return Ok(());
    }
    let mut folded = fold(is(now.int(lane)).wrapping_sub(expected) as i32);
    difference(way, &mut folded)?;
    let value = expected.wrapping_add(unfold(folded) as u32);
    let Exact::Real(name) = how else {
        now.set_int(lane, value);
        return Ok(());
    };
    let real = f32::from_bits(unordered(value));
    if !real.is_finite() {
        return Err(WireError::NotFinite(name));
    }
    now.set_real(lane, real);
    Ok(())
}

/// Whether there is any, how long it is, and itself behind its first bit.
fn difference<W: Way>(way: &mut W, folded: &mut u32) -> Passed {
    let mut differs = *folded != 0;
    way.flag("", &mut differs)?;
    if !differs {
        *folded = 0;
        return Ok(());
    }
    let mut above = 31 - (*folded | 1).leading_zeros();
    way.bits("", &mut above, 5, |above| FieldValue::Number(u64::from(above)))?;
    let mut rest = if above > 0 { *folded & !(1 << above) } else { 0 };
    if above > 0 {
        way.bits("", &mut rest, above, |rest| FieldValue::Number(u64::from(rest)))?;
    }
    *folded = 1 << above | rest;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Motion;
    use crate::walker::Walker;
    use crate::wire::{BitReader, BitWriter};
    use proptest::prelude::*;

    fn bits(before: &State, now: &State, ticks: u32) -> (u32, State) {
        let walker = Walker::new();
        let plan = Plan::of(walker.schema());
        let span = Span::new(ticks, 1.0 / 60.0);
        let mut out = BitWriter::new();
        against(&mut out, &plan, before, span, &mut now.clone()).expect("it is finite");
        let bits = out.len_bits();
        let bytes = out.finish();
        let mut read = State::default();
        against(&mut BitReader::new(&bytes), &plan, before, span, &mut read).expect("it was written so");
        (bits, read)
    }

    fn state(lanes: [f32; 7], grounded: bool, last: f32) -> State {
        let mut state = State::default();
        (0..7).for_each(|lane| state.set_real(lane, lanes[lane]));
        state.set_flag(7, grounded);
        state.set_real(8, last);
        state
    }

    proptest! {
        #[test]
        fn it_comes_back_to_the_bit(
            a in prop::array::uniform7(-1e6f32..1e6),
            b in prop::array::uniform7(any::<f32>().prop_filter("finite", |x| x.is_finite())),
            flags in any::<(bool, bool)>(),
            ticks in 0u32..300,
        ) {
            let (before, now) = (state(a, flags.0, 0.0), state(b, flags.1, 3.0));
            let schema = Walker::new().schema().clone();
            let (_, read) = bits(&before, &now, ticks);
            for f in &schema.state {
                for lane in f.lane..f.lane + f.shape.lanes() {
                    prop_assert_eq!(read.int(lane), now.int(lane), "lane {} of {}", lane, f.name);
                }
            }
        }
    }

    #[test]
    fn what_goes_on_as_it_did_takes_little() {
        let before = state([3.0, -2.0, 0.0, 4.0, 1.0, 0.0, 0.5], true, 0.0);
        let mut now = before;
        let all: u32 = Walker::new().schema().exact_bits();
        let (still, _) = bits(&before, &now, 0);
        now.set_vec3(0, crate::vec3(3.0 + 0.4, -2.0 + 0.1, 0.0));
        let (goes_on, _) = bits(&before, &now, 6);
        assert!(still <= 12 && goes_on < 40 && all > 200, "{still}, {goes_on} of {all}");
    }
}
