//! An entity as others get it, against what its receiver has of it.
//!
//! Whole numbers against whole numbers, never reals: what is received is what was sent, to the bit. An entity is one of three things: as foreseen, told by
//! what differs from there, or whole. Velocities come before the place that they carry, so that the place is held against the mean of the velocity before
//! and the one now.

use super::coder::{Coder, Question, packed_bits};
use super::has::Has;
use super::moment::decoded;
use crate::data::STATE_LANES;
use crate::ids::EntityId;
use crate::plan::{LaneClass, Plan, RoundedLane};
use crate::session::Kinds;
use crate::wire::{FieldValue, Passed, Span, TELEPORT_BITS, WireError, carried, fold, unfold};

/// The numbers of an entity, as many as its rule has lanes that others get.
pub(super) type Codes = [i32; STATE_LANES];

/// What all entities of a snapshot are told with.
pub(super) struct Context<'a> {
    pub(super) kinds: &'a Kinds,
    /// What the receiver has, and how long that is ago.
    pub(super) base: Option<(&'a Has, Span)>,
}

/// An entity, and where it stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Who {
    pub(super) id: EntityId,
    pub(super) kind: u8,
    pub(super) teleports: u8,
}

/// How far it is through the entities.
#[derive(Clone, Copy, Debug)]
pub(super) struct Progress {
    /// The slot behind the last one.
    next: u32,
    /// Where the last one was in what the receiver has.
    place: usize,
}

impl Progress {
    pub(super) const fn new() -> Self {
        Self { next: 0, place: 0 }
    }
}

/// The next entity, in the order of slots.
pub(super) fn entity<C: Coder>(
    coder: &mut C,
    context: &Context<'_>,
    progress: &mut Progress,
    (who, codes): (&mut Who, &mut Codes),
) -> Passed {
    slot(coder, progress, &mut who.id)?;
    let Some((has, span)) = &context.base else { return whole(coder, context, who, codes) };
    let found = has.other(who.id.index, &mut progress.place);
    let known = found.filter(|(told, _)| has.moment.is_laid_out_as(told.kind, context.kinds));
    // Who writes uses what is known of the very same, and nobody's who was put elsewhere since.
    let known = known.filter(|(told, _)| C::READS || (told.id, told.kind, told.teleports) == of(who));
    let mut expected = [0; STATE_LANES];
    let mut foreseen = false;
    if let Some((told, codes_then)) = known {
        foresee(context.kinds.plan(told.kind), codes_then, *span, &mut expected);
        foreseen = !C::READS && codes[..codes_then.len()] == expected[..codes_then.len()];
    }
    let mark = coder.mark();
    coder.ask(Question::Foreseen, &mut foreseen)?;
    coder.merge(mark, || ("as foreseen".to_owned(), FieldValue::Flag(foreseen)));
    let lost = || WireError::Baseline(who.id.index);
    if foreseen {
        let (told, _) = known.ok_or_else(lost)?;
        (who.id, who.kind, who.teleports) = (told.id, told.kind, told.teleports);
        *codes = expected;
        return Ok(());
    }
    let mut differs =
        !C::READS && known.is_some_and(|(told, then)| is_shorter(context.kinds.plan(told.kind), then, *span, codes));
    let mark = coder.mark();
    coder.ask(Question::Differs, &mut differs)?;
    coder.merge(mark, || ("by what differs".to_owned(), FieldValue::Flag(differs)));
    if !differs {
        return whole(coder, context, who, codes);
    }
    let (told, then) = known.ok_or_else(lost)?;
    (who.id, who.kind, who.teleports) = (told.id, told.kind, told.teleports);
    lanes(coder, context.kinds.plan(told.kind), (then, *span), codes)
}

const fn of(who: &Who) -> (EntityId, u8, u8) {
    (who.id, who.kind, who.teleports)
}

/// In which slot it is.
fn slot<C: Coder>(coder: &mut C, progress: &mut Progress, id: &mut EntityId) -> Passed {
    let mark = coder.mark();
    let mut is_next = u32::from(id.index) == progress.next;
    coder.ask(Question::NextSlot, &mut is_next)?;
    let mut index = progress.next;
    if !is_next {
        let mut further = u32::from(id.index).wrapping_sub(progress.next + 1);
        coder.small(&mut further)?;
        index = progress.next.saturating_add(1).saturating_add(further);
    }
    id.index = u16::try_from(index).map_err(|_| WireError::Count {
        what: "slot of an entity",
        found: index,
        least: 0,
        most: u32::from(u16::MAX),
    })?;
    progress.next = index + 1;
    coder.merge(mark, || ("slot".to_owned(), FieldValue::Number(u64::from(index))));
    Ok(())
}

/// All of it, against nothing.
fn whole<C: Coder>(coder: &mut C, context: &Context<'_>, who: &mut Who, codes: &mut Codes) -> Passed {
    let mark = coder.mark();
    let (mut generation, mut kind, mut teleports) =
        (u32::from(who.id.generation), u32::from(who.kind), u32::from(who.teleports));
    coder.small(&mut generation)?;
    coder.small(&mut kind)?;
    coder.plain(&mut teleports, TELEPORT_BITS)?;
    let within = |what, found| crate::wire::ranged(what, found, 0, u32::from(u8::MAX)).map(|byte| byte as u8);
    who.id.generation = within("generation of an entity", generation)?;
    who.kind = within("number of a rule", kind)?;
    who.teleports = teleports as u8;
    coder.merge(mark, || ("who it is".to_owned(), FieldValue::Entity(who.id)));
    let plan = context.kinds.plan_of(who.kind).ok_or(WireError::EntityKind(who.kind))?;
    fields(coder, plan, codes, |coder, i, codes| {
        let lane = &plan.seen.lanes[i];
        let mut bits = codes[i] as u32;
        coder.plain(&mut bits, u32::from(lane.bits))?;
        codes[i] = lane.within(bits as i32);
        Ok(())
    })
}

/// Passes through the lanes by field, and says what of each field is shown: the velocity behind all others, and the place that it carries last.
fn fields<C: Coder>(
    coder: &mut C,
    plan: &Plan,
    codes: &mut Codes,
    mut lane: impl FnMut(&mut C, usize, &mut Codes) -> Passed,
) -> Passed {
    for pass in 0..3 {
        let mut at = 0;
        for field in &plan.seen.fields {
            let begin = at;
            at += field.shape.lanes();
            let turn = plan.carried.map_or(0, |by| match begin {
                _ if begin == usize::from(by.velocity) => 1,
                _ if begin == usize::from(by.place) => 2,
                _ => 0,
            });
            if turn != pass {
                continue;
            }
            let mark = coder.mark();
            (begin..at).try_for_each(|i| lane(coder, i, codes))?;
            coder.merge(mark, || (field.name.to_owned(), field.shown(&decoded(&plan.seen, codes))));
        }
    }
    Ok(())
}

/// What is expected of a lane, where those of the velocity are known.
fn expected(plan: &Plan, (then, span): (&[i32], Span), now: &Codes, lane: usize) -> i32 {
    match &plan.carried {
        Some(by) if (0..3).contains(&lane.wrapping_sub(usize::from(by.place))) => {
            let along = usize::from(by.velocity) + lane - usize::from(by.place);
            let on = carried(by, then[along].wrapping_add(now[along]), span);
            plan.seen.lanes[lane].within(then[lane].wrapping_add(on))
        }
        _ => then[lane],
    }
}

/// All lanes of what goes on as it did.
fn foresee(plan: &Plan, then: &[i32], span: Span, codes: &mut Codes) {
    codes[..then.len()].copy_from_slice(then);
    let Some(by) = &plan.carried else { return };
    let place = usize::from(by.place);
    for lane in place..place + 3 {
        codes[lane] = expected(plan, (then, span), codes, lane);
    }
}

/// What differs, lane by lane.
fn lanes<C: Coder>(coder: &mut C, plan: &Plan, from: (&[i32], Span), codes: &mut Codes) -> Passed {
    let (mut all, mut last_bearing) = ([0; STATE_LANES], 0);
    fields(coder, plan, codes, |coder, i, codes| {
        let lane = &plan.seen.lanes[i];
        let beside = match lane.class {
            LaneClass::Across | LaneClass::Up => {
                plan.carried.map_or(0, |by| all[i + usize::from(by.velocity - by.place)])
            }
            LaneClass::Speed if plan.carried.is_some_and(|by| usize::from(by.velocity) == i) => last_bearing,
            _ => i.checked_sub(1).map_or(0, |before| all[before]),
        };
        let expected = expected(plan, from, codes, i);
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
const fn apart(lane: &RoundedLane, code: i32, expected: i32) -> u32 {
    if matches!(lane.class, LaneClass::Flag) {
        (code ^ expected) as u32 & 1
    } else {
        // Around the end of what its bits hold it is near as well.
        let above = 32 - lane.bits as u32;
        fold(code.wrapping_sub(expected) << above >> above)
    }
}

/// Whether an entity takes fewer bits by what differs than whole.
fn is_shorter(plan: &Plan, then: &[i32], span: Span, codes: &Codes) -> bool {
    let differing = |lane: usize| {
        let it = &plan.seen.lanes[lane];
        packed_bits(it.class, apart(it, codes[lane], expected(plan, (then, span), codes, lane)))
    };
    (0..then.len()).map(differing).sum::<u32>() < plan.seen.bits + TELEPORT_BITS
}
