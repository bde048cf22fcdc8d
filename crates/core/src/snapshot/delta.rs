//! An entity as others get it, against what its receiver has of it.
//!
//! Whole numbers against whole numbers, never reals: what is received is what was sent, to the bit. An entity is one of three things: as foreseen, told by
//! what differs from there, or whole. Velocities come before the place that they carry, so that the place is held against the mean of the velocity before
//! and the one now.

use super::coder::{Coder, Question};
use super::has::Has;
use crate::data::STATE_LANES;
use crate::ids::EntityId;
use crate::plan::Plan;
use crate::session::Kinds;
use crate::wire::{
    Codes, FieldValue, Passed, Span, TELEPORT_BITS, WireError, differing, differing_bits, foresee, lane_fields,
};

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
        let plan = context.kinds.plan(told.kind);
        foresee(&plan.seen, plan.carried.as_ref(), (codes_then, *span), &mut expected);
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
        !C::READS && known.is_some_and(|(told, then)| is_shorter(context.kinds.plan(told.kind), (then, *span), codes));
    let mark = coder.mark();
    coder.ask(Question::Differs, &mut differs)?;
    coder.merge(mark, || ("by what differs".to_owned(), FieldValue::Flag(differs)));
    if !differs {
        return whole(coder, context, who, codes);
    }
    let (told, then) = known.ok_or_else(lost)?;
    (who.id, who.kind, who.teleports) = (told.id, told.kind, told.teleports);
    let plan = context.kinds.plan(told.kind);
    differing(coder, &plan.seen, plan.carried.as_ref(), (then, *span), codes)
}

/// Whether an entity takes fewer bits by what differs than whole.
fn is_shorter(plan: &Plan, from: (&[i32], Span), codes: &Codes) -> bool {
    differing_bits(&plan.seen, plan.carried.as_ref(), from, codes) < plan.seen.bits + TELEPORT_BITS
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
    lane_fields(coder, &plan.seen, plan.carried.as_ref(), codes, |coder, i, codes| {
        let lane = &plan.seen.lanes[i];
        let mut bits = codes[i] as u32;
        coder.plain(&mut bits, u32::from(lane.bits))?;
        codes[i] = lane.within(bits as i32);
        Ok(())
    })
}
