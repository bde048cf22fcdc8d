//! An entity's name as bits.

use super::bits::{BitReader, BitWriter, BitsAhead};
use super::error::WireError;
use crate::ids::EntityId;

/// Bits of an entity's name.
pub(super) const ENTITY_ID_BITS: u32 = 16 + 8;

pub(super) fn write_entity(out: &mut BitWriter, entity: EntityId) {
    out.put(u32::from(entity.index), 16);
    out.put(u32::from(entity.generation), 8);
}

pub(super) fn read_entity(from: &mut BitReader<'_>) -> Result<EntityId, WireError> {
    Ok(entity_ahead(&mut from.row(ENTITY_ID_BITS)?))
}

/// Of bits that are known to be there.
pub(super) fn entity_ahead(row: &mut BitsAhead<'_>) -> EntityId {
    EntityId { index: row.take(16) as u16, generation: row.take(8) as u8 }
}
