//! Everybody at one tick, coming down.

use super::bits::{BitReader, BitRow, BitWriter};
use super::datagram::Header;
use super::entity::{ENTITY_ID_BITS, entity_ahead, write_entity};
use super::error::{WireError, ranged};
use super::lanes::{read_exact, read_input, read_lanes, write_exact, write_input, write_lanes};
use super::news::{NEWS_BITS, News, read_news, write_news};
use crate::data::{Input, State};
use crate::ids::EntityId;
use crate::schema::Schema;
use crate::session::{Kinds, Layouts};
use crate::tick::WireTick;

/// Teleports are counted modulo 2^3.
pub const TELEPORT_BITS: u32 = 3;

/// What of its owner's a state includes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EntityRecord {
    /// Which entity.
    pub entity: EntityRef,
    /// Its state; what may not be seen is zero.
    pub state: State,
}

/// What a snapshot says besides states.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SnapshotHead {
    /// The tick shown.
    pub tick: WireTick,
    /// Ticks until the next one.
    pub every: u8,
    /// Least margin of what arrived since the last one, in quarter ticks; `None` if nothing did.
    pub margin: Option<i8>,
    /// Who left and who owns what, as far as its receiver has not acknowledged it.
    pub news: Vec<News>,
}

/// Everybody at one tick.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Snapshot {
    /// What it says besides.
    pub head: SnapshotHead,
    /// All entities. Who is not among them is not thereby gone.
    pub entities: Vec<EntityRecord>,
    /// What those were made with lately that are not its receiver's, in their order, where that was asked for; `None` of one that no rule made.
    pub inputs: Option<Vec<Option<Input>>>,
}

/// In the place of the ticks to the next one, which are never none: inputs follow, and that number is in the next eight bits.
pub(super) const INPUTS_FOLLOW: u32 = 0;

/// Bits of a snapshot without its entities, with its envelope and the most news it may carry.
const SNAPSHOT_BITS: u32 = Header::BITS + 16 + 8 + (1 + 8) + NEWS_BITS + 8;
/// Bits of an entity in a snapshot without its state.
const ENTITY_BITS: u32 = ENTITY_ID_BITS + 8 + TELEPORT_BITS + 1;
/// Bits that only an owner gets, without the state.
const USED_BITS: u32 = 16 + 8 + 1;

/// The most bytes of a snapshot of these entities; of each is said whether its receiver owns it and so gets it exactly.
pub fn snapshot_bytes<'a>(entities: impl Iterator<Item = (&'a Schema, bool)>) -> usize {
    let bits = entities
        .map(|(schema, own)| ENTITY_BITS + if own { USED_BITS + schema.exact_bits() } else { schema.seen_bits() });
    (SNAPSHOT_BITS + bits.sum::<u32>()).div_ceil(8) as usize
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
    entities.clone().for_each(|(entity, state)| write_record(out, kinds, &entity, state));
    let others = entities.filter(|(entity, _)| entity.own.is_none()).map(|(entity, _)| entity.kind);
    if let Some(inputs) = inputs {
        out.append(&input_rows(kinds, others.zip(inputs.iter().map(Option::as_ref))));
    }
}

/// An entity as all get it who do not own it.
pub(crate) fn seen_record(kinds: &Kinds, entity: &EntityRef, state: &State) -> BitRow {
    let mut out = BitWriter::new();
    write_record(&mut out, kinds, &EntityRef { own: None, ..*entity }, state);
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
    for (entity, state, seen) in entities {
        if entity.own.is_some() { write_record(out, kinds, &entity, state) } else { out.append(seen) }
    }
    inputs.into_iter().for_each(|inputs| out.append(inputs));
}

/// What entities were made with lately, each of a kind.
pub(crate) fn input_rows<'a>(kinds: &Kinds, inputs: impl Iterator<Item = (u8, Option<&'a Input>)>) -> BitRow {
    let mut out = BitWriter::new();
    for (kind, input) in inputs {
        out.flag(input.is_some());
        input.into_iter().for_each(|input| write_input(&mut out, kinds.plan(kind), input));
    }
    out.into_row()
}

fn write_head(out: &mut BitWriter, head: &SnapshotHead, entities: usize, with_inputs: bool) {
    out.put(u32::from(head.tick.0), 16);
    if with_inputs {
        out.put(INPUTS_FOLLOW, 8);
    }
    out.put(u32::from(head.every), 8);
    out.flag(head.margin.is_some());
    out.put(u32::from(head.margin.unwrap_or(0) as u8), 8);
    out.put(entities as u32, 8);
    write_news(out, &head.news);
}

fn write_record(out: &mut BitWriter, kinds: &Kinds, entity: &EntityRef, state: &State) {
    write_entity(out, entity.id);
    out.put(u32::from(entity.kind), 8);
    out.put(u32::from(entity.teleports), TELEPORT_BITS);
    out.flag(entity.own.is_some());
    let plan = kinds.plan(entity.kind);
    match entity.own {
        Some(used) => {
            out.put(u32::from(used.tick.0), 16);
            out.put(u32::from(used.made_up), 8);
            out.flag(used.shared);
            write_exact(out, plan, state);
        }
        None => write_lanes(out, &plan.seen, state),
    }
}

impl Snapshot {
    pub(super) fn read(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let tick = WireTick(from.take(16)? as u16);
        let kinds = layouts.kinds(tick);
        let first = from.take(8)?;
        let with_inputs = first == INPUTS_FOLLOW;
        let every = if with_inputs { from.take(8)? } else { first };
        let every = ranged("snapshot interval", every, 1, 255)? as u8;
        let known = from.flag()?;
        let margin = Some(from.take(8)? as u8 as i8).filter(|_| known);
        let count = from.take(8)?;
        let news = read_news(from)?;
        // What is reserved is bounded by what arrived.
        let mut entities = Vec::with_capacity((count.min(from.left() / ENTITY_BITS)) as usize);
        for _ in 0..count {
            let mut row = from.row(ENTITY_BITS)?;
            let id = entity_ahead(&mut row);
            let (kind, teleports) = (row.take(8) as u8, row.take(TELEPORT_BITS) as u8);
            let plan = kinds.plan_of(kind).ok_or(WireError::EntityKind(kind))?;
            let own = if row.take(1) != 0 {
                let (tick, made_up) = (WireTick(from.take(16)? as u16), from.take(8)? as u8);
                Some(Used { tick, made_up, shared: from.flag()? })
            } else {
                None
            };
            let entity = EntityRef { id, kind, teleports, own };
            entities.push(EntityRecord { entity, state: State::default() });
            let Some(EntityRecord { state, .. }) = entities.last_mut() else { continue };
            match own {
                Some(_) => *state = read_exact(from, plan)?,
                None => read_lanes(from, &plan.seen, state)?,
            }
        }
        let inputs = with_inputs.then(|| read_inputs(from, kinds, &entities)).transpose()?;
        Ok(Self { head: SnapshotHead { tick, every, margin, news }, entities, inputs })
    }
}

/// One of each entity that is not its receiver's.
fn read_inputs(
    from: &mut BitReader<'_>,
    kinds: &Kinds,
    entities: &[EntityRecord],
) -> Result<Vec<Option<Input>>, WireError> {
    let others = entities.iter().filter(|record| record.entity.own.is_none());
    let read = |record: &EntityRecord| {
        let plan = kinds.plan_of(record.entity.kind).ok_or(WireError::EntityKind(record.entity.kind))?;
        if from.flag()? { Ok(Some(read_input(from, plan)?)) } else { Ok(None) }
    };
    others.map(read).collect()
}
