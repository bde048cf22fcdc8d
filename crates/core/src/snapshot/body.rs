//! The body of a snapshot that is told against another: its receiver's own entities exactly, the others as the form has it, and what those were made
//! with.

use std::sync::Arc;

use super::coded::Coded;
use super::coder::Coder;
use super::delta::{Context, Progress, Who, entity};
use super::has::{Had, Has};
use super::moment::{Moment, ToldOwn};
use crate::data::STATE_LANES;
use crate::session::Kinds;
use crate::tick::Tick;
use crate::wire::{
    BitRow, BitWriter, Body, Codes, EntityRecord, EntityRef, FieldValue, MessageKind, Packed, Passed, RULE, Short,
    Snapshot, Span, StateDown, TELEPORT_BITS, Used, Way, WireError, against, decoded, number, ranged,
};

/// How many own entities there are: two bits up to two.
const OWN: Short = Short { least: 0, bits: 2, more: 8 };
/// Bits of the length of what is coded, where something follows it.
const LENGTH_BITS: u32 = 11;

/// What is to be told.
pub(crate) struct Telling<'a> {
    pub(crate) tick: Tick,
    pub(crate) kinds: &'a Kinds,
    /// Seconds of a tick.
    pub(crate) dt: f32,
    /// What its receiver has.
    pub(crate) base: Option<&'a Has>,
    /// Everybody, as others get it.
    pub(crate) moment: &'a Moment,
    /// Its receiver's own.
    pub(crate) own: &'a [EntityRecord],
    /// What the others were made with, where that is told.
    pub(crate) inputs: Option<&'a BitRow>,
}

impl<'a> Telling<'a> {
    fn context(&self) -> Context<'a> {
        let span = |has: &Has| Span::new(self.tick.since(has.moment.tick).unsigned_abs() as u32, self.dt);
        Context { kinds: self.kinds, base: self.base.map(|has| (has, span(has))) }
    }

    /// The body in a form.
    pub(crate) fn body(&self, form: StateDown) -> Body {
        let context = self.context();
        let mut out = BitWriter::new();
        let said = self.own_rows(&mut out, &context).and_then(|()| {
            if form == StateDown::Coded {
                let mut coded = Coded::writing();
                let count = self.others(&mut coded, &context)?;
                coded_bytes(&mut out, self.inputs.is_some(), &mut coded.finish())?;
                Ok(count)
            } else {
                self.others(&mut Packed(&mut out), &context)
            }
        });
        let others = said.expect("what is written is within its ranges");
        self.inputs.into_iter().for_each(|inputs| out.append(inputs));
        let back = self.base.map_or(0, |has| self.tick.since(has.moment.tick).unsigned_abs() as u32);
        let (entities, with_inputs) = ((self.own.len() + others) as u8, self.inputs.is_some());
        Body { back, entities, with_inputs, bytes: out.finish_any() }
    }

    fn own_rows(&self, out: &mut BitWriter, context: &Context<'_>) -> Passed {
        out.short("own entities", &mut (self.own.len() as u32), &OWN, number)?;
        self.own.iter().try_for_each(|record| own(out, context, self.tick, &mut record.clone()))
    }

    fn others<C: Coder>(&self, coder: &mut C, context: &Context<'_>) -> Result<usize, WireError> {
        let (mut progress, mut count) = (Progress::new(), 0);
        let mut now: Codes = [0; STATE_LANES];
        for (told, codes) in self.moment.iter() {
            if self.own.iter().any(|own| own.entity.id == told.id) {
                continue;
            }
            now[..codes.len()].copy_from_slice(codes);
            let mut who = Who { id: told.id, kind: told.kind, teleports: told.teleports };
            entity(coder, context, &mut progress, (&mut who, &mut now))?;
            count += 1;
        }
        Ok(count)
    }
}

/// An own entity.
fn own<W: Way>(way: &mut W, context: &Context<'_>, tick: Tick, record: &mut EntityRecord) -> Passed {
    let EntityRecord { entity: EntityRef { id, kind, teleports, own }, state } = record;
    way.entity(id)?;
    way.of(Some(*id));
    let mut rule = u32::from(*kind);
    way.short("rule", &mut rule, &RULE, number)?;
    *kind = ranged("number of a rule", rule, 0, u32::from(u8::MAX))? as u8;
    let plan = context.kinds.plan_of(*kind).ok_or(WireError::EntityKind(*kind))?;
    let used = own.get_or_insert_default();
    used_rows(way, tick, used)?;
    let known = context.base.as_ref().and_then(|(has, span)| {
        let known = has.own(*id).filter(|own| own.kind == *kind);
        known.filter(|_| has.moment.is_laid_out_as(*kind, context.kinds)).map(|known| (known, *span))
    });
    let mut differs = !W::READS && known.is_some_and(|(own, _)| own.teleports == *teleports);
    if context.base.is_some() {
        way.flag("by what differs", &mut differs)?;
    }
    if !differs {
        way.byte("teleports", teleports, TELEPORT_BITS, number)?;
        return way.exact(plan, state);
    }
    let (own, span) = known.ok_or(WireError::Baseline(id.index))?;
    *teleports = own.teleports;
    against(way, plan, &own.state(plan), span, state)
}

/// What of its owner's a state includes.
fn used_rows<W: Way>(way: &mut W, tick: Tick, used: &mut Used) -> Passed {
    let mark = way.mark();
    let mut same = used.tick == tick.wire();
    way.flag("", &mut same)?;
    if same {
        used.tick = tick.wire();
    } else {
        way.tick("", &mut used.tick)?;
    }
    way.merge(mark, || ("used tick".to_owned(), FieldValue::Tick(used.tick)));
    let mut made_up = Some(used.made_up).filter(|made_up| *made_up > 0);
    way.maybe("of these made up", &mut made_up, number)?;
    used.made_up = made_up.unwrap_or(0);
    way.flag("shared", &mut used.shared)
}

/// The bytes of a range coder: up to the end, or so many where something follows.
fn coded_bytes<W: Way>(way: &mut W, is_followed: bool, bytes: &mut Vec<u8>) -> Passed {
    if !is_followed {
        way.align()?;
        return way.rest(bytes);
    }
    let mut length = bytes.len() as u32;
    way.bits("bytes that are coded", &mut length, LENGTH_BITS, number)?;
    if W::READS {
        bytes.resize((length as usize).min(way.room(8)), 0);
    }
    bytes.iter_mut().try_for_each(|byte| way.byte("", byte, 8, number))
}

/// Reads the body of a snapshot of a tick into it, and gives what its reader has of it then.
///
/// # Errors
/// Whatever is wrong with it; [`WireError::Baseline`] where it is told against what its reader does not have.
pub(crate) fn open<W: Way>(
    way: &mut W,
    snapshot: &mut Snapshot,
    body: &Body,
    (tick, kinds, dt): (Tick, &Kinds, f32),
    had: &Had,
) -> Result<Has, WireError> {
    let base = match body.back {
        0 => None,
        back => {
            let has = had.of(tick.offset(-i64::from(back))).ok_or(WireError::Baseline(0))?;
            Some((has, Span::new(back, dt)))
        }
    };
    let context = Context { kinds, base };
    let mut reading = Reading { context, tick, records: Vec::new(), moment: Moment::new(tick, kinds.clone()) };
    let entities = u32::from(body.entities);
    let mut own_count = 0;
    way.short("own entities", &mut own_count, &OWN, number)?;
    let own_count = ranged("number of own entities", own_count, 0, entities)?;
    reading.own(way, own_count)?;
    let others = entities - own_count;
    if snapshot.head.form == StateDown::Coded {
        let mut bytes = Vec::new();
        coded_bytes(way, body.with_inputs, &mut bytes)?;
        reading.coded(way, &bytes, others)?;
    } else {
        reading.others(&mut Packed(way), others)?;
    }
    let own = reading.own_told();
    let Reading { mut records, moment, .. } = reading;
    records.sort_by_key(|record| record.entity.id);
    snapshot.entities = records;
    if body.with_inputs {
        snapshot.input_rows(way, kinds)?;
    }
    way.of(None);
    Ok(Has::new(Arc::new(moment), own))
}

struct Reading<'a> {
    context: Context<'a>,
    tick: Tick,
    records: Vec<EntityRecord>,
    moment: Moment,
}

impl Reading<'_> {
    fn own<W: Way>(&mut self, way: &mut W, count: u32) -> Passed {
        for _ in 0..count {
            let mut record = EntityRecord::default();
            own(way, &self.context, self.tick, &mut record)?;
            way.of(None);
            self.records.push(record);
        }
        Ok(())
    }

    fn own_told(&self) -> Vec<ToldOwn> {
        let own = self.records.iter().filter(|record| record.entity.own.is_some());
        let told = |EntityRecord { entity, state }: &EntityRecord| {
            ToldOwn::new((entity.id, entity.kind, entity.teleports), state, self.context.kinds.plan(entity.kind))
        };
        own.map(told).collect()
    }

    fn others<C: Coder>(&mut self, coder: &mut C, count: u32) -> Passed {
        let mut progress = Progress::new();
        for _ in 0..count {
            let (mut who, mut codes) = (Who::default(), [0; STATE_LANES]);
            let mark = coder.mark();
            entity(coder, &self.context, &mut progress, (&mut who, &mut codes))?;
            coder.belongs(mark, who.id);
            let seen = &self.context.kinds.plan(who.kind).seen;
            let codes = &codes[..seen.lanes.len()];
            self.moment.tell((who.id, who.kind, who.teleports), codes);
            let entity = EntityRef { id: who.id, kind: who.kind, teleports: who.teleports, own: None };
            self.records.push(EntityRecord { entity, state: decoded(seen, codes) });
        }
        Ok(())
    }

    fn coded<W: Way>(&mut self, way: &mut W, bytes: &[u8], count: u32) -> Passed {
        let over = |bits| WireError::LeftOver { kind: MessageKind::Snapshot, bits };
        if W::NOTES {
            let mut coded = Coded::noting(bytes);
            self.others(&mut coded, count)?;
            way.adopt(coded.noted(bytes).map_err(over)?);
            return Ok(());
        }
        let mut coded = Coded::reading(bytes);
        self.others(&mut coded, count)?;
        if coded.left() == 0 { Ok(()) } else { Err(over(coded.left())) }
    }
}
