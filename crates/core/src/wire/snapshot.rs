//! Everybody at one tick, coming down.

use super::bits::{BitReader, BitRow, BitWriter};
use super::compressed::{compress, decompress};
use super::datagram::Header;
use super::error::{WireError, ranged};
use super::form::StateDown;
use super::lanes::write_input;
use super::news::{NEWS_BITS, News, news_rows};
use super::noting::FieldValue;
use super::rests::back_rows;
use super::rows::{INDEX, Passed, Short, Way, number, written};
use super::{LEAST_ID_BITS, MAX_DATAGRAM};
use crate::data::{Input, State};
use crate::ids::EntityId;
use crate::schema::Schema;
use crate::session::{Kinds, Layouts};
use crate::tick::WireTick;

/// Teleports are counted modulo 2^3.
pub const TELEPORT_BITS: u32 = 3;

/// What of its owner's a state includes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Used {
    /// The newest of its ticks.
    pub tick: WireTick,
    /// For how many of the last ticks up to that one the input was made up, as far as eight bits count. The owner then knows
    /// from where on presses are still to be made good.
    pub made_up: u8,
    /// Whether others give it orders as well: it is then not predicted.
    pub shared: bool,
}

/// One entity in a snapshot.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct EntityRef {
    /// Which.
    pub id: EntityId,
    /// Index into the session's kinds.
    pub kind: u8,
    /// Counts teleports, modulo 2^3.
    pub teleports: u8,
    /// For an owner: lanes are then exact.
    pub own: Option<Used>,
}

/// One entity's state as received.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct EntityRecord {
    /// Which entity.
    pub entity: EntityRef,
    /// Its state; what may not be seen is zero.
    pub state: State,
}

/// What a snapshot says besides states.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SnapshotHead {
    /// The tick shown.
    pub tick: WireTick,
    /// Ticks until the next one.
    pub every: u8,
    /// Whether what comes up is to tell its times.
    pub wants_times: bool,
    /// In which form entities follow.
    pub form: StateDown,
    /// Least margin of what arrived since the last one, in quarter ticks; `None` if nothing did.
    pub margin: Option<i8>,
    /// Who left and who owns what, as far as its receiver has not acknowledged it.
    pub news: Vec<News>,
}

/// Everybody at one tick.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Snapshot {
    /// What it says besides.
    pub head: SnapshotHead,
    /// All entities. Who is not among them is not thereby gone.
    pub entities: Vec<EntityRecord>,
    /// What those were made with lately that are not its receiver's, in their order, where that was asked for; `None` of one that no rule made.
    pub inputs: Option<Vec<Option<Input>>>,
    /// What says all that of entities, where it rests on what the receiver has: they are known once that is opened.
    pub body: Option<Body>,
}

/// What follows a snapshot's head, told against another snapshot.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Body {
    /// How many ticks before this one that was; 0 where it rests on none.
    pub back: u32,
    /// How many entities are in it.
    pub entities: u8,
    /// Whether what they were made with is in it as well.
    pub with_inputs: bool,
    /// All that.
    pub bytes: Vec<u8>,
}

/// How much follows the head of a snapshot.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Extent {
    /// How many entities.
    pub(super) entities: u8,
    /// Whether what they were made with follows as well.
    pub(super) with_inputs: bool,
}

/// Ticks to the next snapshot: three bits up to seven.
const EVERY: Short = Short { least: 1, bits: 3, more: 8 };
/// How many entities: four bits up to fourteen.
const ENTITIES: Short = Short { least: 0, bits: 4, more: 8 };
/// Number of a rule: two bits up to the third.
pub(crate) const RULE: Short = Short { least: 0, bits: 2, more: 8 };

/// Bits of a snapshot without its entities, with its envelope and the most news it may carry.
const SNAPSHOT_BITS: u32 = Header::BITS + 16 + 11 + 2 + 2 + (1 + 8) + 12 + NEWS_BITS;
/// Bits of an entity in a snapshot without its name and state, at most and at least.
const ENTITY_BITS: u32 = 10 + TELEPORT_BITS + 1;
const LEAST_ENTITY_BITS: u32 = LEAST_ID_BITS + 2 + TELEPORT_BITS + 1;
/// Bits that only an owner gets, without the state.
const USED_BITS: u32 = 16 + 8 + 1;

/// The most bytes of a snapshot of these entities; of each is said whether its receiver owns it and so gets it exactly.
pub fn snapshot_bytes<'a>(entities: impl Iterator<Item = (&'a Schema, bool)>) -> usize {
    let (mut bits, mut count) = (SNAPSHOT_BITS, 0);
    for (schema, own) in entities {
        // Slots are used again: there are no more of them than there were entities at once.
        bits += INDEX.bits(count) + 1 + 8 + ENTITY_BITS;
        bits += if own { USED_BITS + schema.exact_bits() } else { schema.seen_bits() };
        count += 1;
    }
    bits.div_ceil(8) as usize
}

/// Appends a snapshot of `entities`, whose number must be at most 255, and of what those that are not its receiver's were made with, if that is told.
pub fn write_snapshot<'a>(
    out: &mut BitWriter,
    head: &SnapshotHead,
    kinds: &Kinds,
    entities: impl Iterator<Item = (EntityRef, &'a State)> + Clone,
    inputs: Option<&[Option<Input>]>,
) {
    write_head(out, head, entities.clone().count(), inputs.is_some());
    entities.clone().for_each(|(entity, state)| write_record(out, kinds, entity, state));
    let others = entities.filter(|(entity, _)| entity.own.is_none()).map(|(entity, _)| entity.kind);
    if let Some(inputs) = inputs {
        out.append(&input_rows(kinds, others.zip(inputs.iter().map(Option::as_ref))));
    }
}

/// An entity as all get it who do not own it.
pub(crate) fn seen_record(kinds: &Kinds, entity: &EntityRef, state: &State) -> BitRow {
    let mut out = BitWriter::new();
    write_record(&mut out, kinds, EntityRef { own: None, ..*entity }, state);
    out.into_row()
}

/// Appends a snapshot of entities of which the forms for others were written before.
pub(crate) fn write_shared<'a>(
    out: &mut BitWriter,
    head: &SnapshotHead,
    kinds: &Kinds,
    entities: impl Iterator<Item = (EntityRef, &'a State, &'a BitRow)> + Clone,
    inputs: Option<&BitRow>,
) {
    write_head(out, head, entities.clone().count(), inputs.is_some());
    write_entities(out, kinds, entities, inputs);
}

fn write_entities<'a>(
    out: &mut BitWriter,
    kinds: &Kinds,
    entities: impl Iterator<Item = (EntityRef, &'a State, &'a BitRow)>,
    inputs: Option<&BitRow>,
) {
    for (entity, state, seen) in entities {
        if entity.own.is_some() { write_record(out, kinds, entity, state) } else { out.append(seen) }
    }
    inputs.into_iter().for_each(|inputs| out.append(inputs));
}

/// Appends the same through a compressor, where that is shorter.
pub(crate) fn write_compressed<'a>(
    out: &mut BitWriter,
    head: &SnapshotHead,
    kinds: &Kinds,
    entities: impl Iterator<Item = (EntityRef, &'a State, &'a BitRow)> + Clone,
    inputs: Option<&BitRow>,
) {
    let mut whole = BitWriter::new();
    write_entities(&mut whole, kinds, entities.clone(), inputs);
    let Some(bytes) = compress(&whole.finish_any()) else { return write_shared(out, head, kinds, entities, inputs) };
    let head = SnapshotHead { form: StateDown::Compressed, ..head.clone() };
    write_head(out, &head, entities.count(), inputs.is_some());
    out.pad();
    bytes.iter().for_each(|byte| out.put(u32::from(*byte), 8));
}

/// Appends a snapshot that is told against another.
pub(crate) fn write_told(out: &mut BitWriter, head: &SnapshotHead, mut body: Body) {
    write_head(out, head, usize::from(body.entities), body.with_inputs);
    written(body.rows(out));
}

/// What entities were made with lately, each of a kind.
pub(crate) fn input_rows<'a>(kinds: &Kinds, inputs: impl Iterator<Item = (u8, Option<&'a Input>)>) -> BitRow {
    let mut out = BitWriter::new();
    for (kind, input) in inputs {
        out.flag(input.is_some());
        input.into_iter().for_each(|input| write_input(&mut out, kinds.plan(kind), input, None));
    }
    out.into_row()
}

fn write_head(out: &mut BitWriter, head: &SnapshotHead, entities: usize, with_inputs: bool) {
    written(head.clone().rows(out, &mut Extent { entities: entities as u8, with_inputs }));
}

fn write_record(out: &mut BitWriter, kinds: &Kinds, entity: EntityRef, state: &State) {
    written(EntityRecord { entity, state: *state }.rows(out, kinds));
}

impl SnapshotHead {
    /// What stands before the entities, and how much follows it.
    pub(super) fn rows<W: Way>(&mut self, way: &mut W, extent: &mut Extent) -> Passed {
        way.tick("tick", &mut self.tick)?;
        let mut every = u32::from(self.every);
        way.short("ticks to the next", &mut every, &EVERY, number)?;
        self.every = ranged("snapshot interval", every, 1, 255)? as u8;
        way.flag("wants times", &mut self.wants_times)?;
        way.flag("inputs follow", &mut extent.with_inputs)?;
        let mut form = self.form as u32;
        let named = |form: u32| FieldValue::Words(StateDown::ALL[form as usize & 3].name().to_owned());
        way.bits("form", &mut form, 2, named)?;
        self.form = StateDown::ALL[form as usize & 3];
        let mut margin = self.margin.map(|margin| margin as u8);
        way.maybe("least margin", &mut margin, |margin| FieldValue::Quarters(margin as u8 as i8))?;
        self.margin = margin.map(|margin| margin as i8);
        let mut entities = u32::from(extent.entities);
        way.short("entities", &mut entities, &ENTITIES, number)?;
        extent.entities = ranged("number of entities", entities, 0, 255)? as u8;
        news_rows(way, &mut self.news)?;
        way.of(None);
        Ok(())
    }
}

impl EntityRecord {
    /// All of it.
    fn rows<W: Way>(&mut self, way: &mut W, kinds: &Kinds) -> Passed {
        let Self { entity: EntityRef { id, kind, teleports, own }, state } = self;
        way.entity(id)?;
        way.of(Some(*id));
        let mut rule = u32::from(*kind);
        way.short("rule", &mut rule, &RULE, number)?;
        *kind = ranged("number of a rule", rule, 0, 255)? as u8;
        way.byte("teleports", teleports, TELEPORT_BITS, number)?;
        let plan = kinds.plan_of(*kind).ok_or(WireError::EntityKind(*kind))?;
        let mut is_own = own.is_some();
        way.flag("own", &mut is_own)?;
        if !is_own {
            *own = None;
            return way.rounded(&plan.seen, state);
        }
        let used = own.get_or_insert_default();
        way.tick("used tick", &mut used.tick)?;
        way.byte("of these made up", &mut used.made_up, 8, number)?;
        way.flag("shared", &mut used.shared)?;
        way.exact(plan, state)
    }
}

impl Body {
    fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        back_rows(way, &mut self.back)?;
        way.align()?;
        way.rest(&mut self.bytes)
    }
}

impl Snapshot {
    /// All of it.
    pub(super) fn rows<W: Way>(&mut self, way: &mut W, layouts: &Layouts<'_>) -> Passed {
        let mut extent = Extent { entities: self.entities.len() as u8, with_inputs: self.inputs.is_some() };
        if let Some(body) = &self.body {
            extent = Extent { entities: body.entities, with_inputs: body.with_inputs };
        }
        let mut compressed = Vec::new();
        if !W::READS && self.head.form == StateDown::Compressed {
            let mut out = BitWriter::new();
            self.whole(&mut out, layouts.kinds(self.head.tick), extent)?;
            match compress(&out.finish_any()) {
                Some(shorter) => compressed = shorter,
                None => self.head.form = StateDown::Whole,
            }
        }
        self.head.rows(way, &mut extent)?;
        let Extent { entities, with_inputs } = extent;
        let kinds = layouts.kinds(self.head.tick);
        match self.head.form {
            StateDown::Whole => self.whole(way, kinds, extent),
            StateDown::Compressed => {
                way.align()?;
                way.rest(&mut compressed)?;
                way.note_bytes("entities, compressed", compressed.len() as u32 * 8);
                if W::READS { self.decompressed(&compressed, kinds, extent) } else { Ok(()) }
            }
            StateDown::Delta | StateDown::Coded => {
                let body = self.body.get_or_insert_default();
                (body.entities, body.with_inputs) = (entities, with_inputs);
                body.rows(way)
            }
        }
    }

    /// What is whole, out of a compressor.
    fn decompressed(&mut self, bytes: &[u8], kinds: &Kinds, extent: Extent) -> Passed {
        let whole = decompress(bytes, MAX_DATAGRAM - SNAPSHOT_BITS.div_ceil(8) as usize)?;
        let mut from = BitReader::new(&whole);
        self.whole(&mut from, kinds, extent)?;
        if from.is_finished() { Ok(()) } else { Err(WireError::Compressed) }
    }

    /// Every entity whole.
    fn whole<W: Way>(&mut self, way: &mut W, kinds: &Kinds, extent: Extent) -> Passed {
        if W::READS {
            // What is reserved is bounded by what arrived.
            self.entities.reserve_exact(usize::from(extent.entities).min(way.room(LEAST_ENTITY_BITS)));
        }
        for place in 0..usize::from(extent.entities) {
            if W::READS {
                self.entities.push(EntityRecord::default());
            }
            self.entities[place].rows(way, kinds)?;
        }
        if extent.with_inputs {
            self.input_rows(way, kinds)?;
        }
        way.of(None);
        Ok(())
    }

    /// What those were made with that are not its receiver's.
    pub(crate) fn input_rows<W: Way>(&mut self, way: &mut W, kinds: &Kinds) -> Passed {
        let inputs = self.inputs.get_or_insert_default();
        let others = self.entities.iter().filter(|record| record.entity.own.is_none());
        for (place, EntityRecord { entity, .. }) in others.enumerate() {
            if W::READS {
                inputs.push(None);
            }
            way.of(Some(entity.id));
            let mut known = inputs[place].is_some();
            way.flag("input known", &mut known)?;
            if known {
                let plan = kinds.plan_of(entity.kind).ok_or(WireError::EntityKind(entity.kind))?;
                way.input(plan, inputs[place].get_or_insert_default(), None)?;
            }
        }
        Ok(())
    }
}
