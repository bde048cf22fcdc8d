//! An entity's name as bits.

use super::bits::{BitReader, BitWriter};
use super::error::WireError;
use crate::ids::EntityId;

/// Bits of an entity's name.
pub(super) const ENTITY_ID_BITS: u32 = 16 + 8;

pub(super) fn write_entity(out: &mut BitWriter, entity: EntityId) {
    out.put(u32::from(entity.index), 16);
    out.put(u32::from(entity.generation), 8);
}

pub(super) fn read_entity(from: &mut BitReader<'_>) -> Result<EntityId, WireError> {
    Ok(EntityId { index: from.take(16)? as u16, generation: from.take(8)? as u8 })
}
