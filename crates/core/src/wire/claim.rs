//! Positions going up, and the guard's answer.

use super::MAX_REPEATS;
use super::bits::{BitReader, BitWriter};
use super::entity::{read_entity, write_entity};
use super::error::WireError;
use super::lanes::{For, read_exact, read_rounded, write_exact, write_rounded};
use crate::data::State;
use crate::ids::EntityId;
use crate::schema::Schema;
use crate::session::Layouts;
use crate::tick::WireTick;
use crate::vec3::{Vec3, vec3};

/// Where an owner says it is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Claim {
    /// Tick of the newest.
    pub newest: WireTick,
    /// Which of its entities.
    pub entity: EntityId,
    /// The pull back this continues from.
    pub epoch: u8,
    /// First tick of this epoch: nothing older is claimed.
    pub since: WireTick,
    /// The state at the newest tick, rounded, with what only its owner and the server may know.
    pub state: State,
    /// How many positions before it, 0 to [`MAX_REPEATS`] − 1.
    pub count: usize,
    /// Those positions, newest first.
    pub trail: [Vec3; MAX_REPEATS],
}

/// Where the guard wants an owner.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PullBack {
    /// The server's tick when it was written: it names the layout of the state.
    pub tick: WireTick,
    /// Which of its entities.
    pub entity: EntityId,
    /// Claims must carry this from now on.
    pub epoch: u8,
    /// Continue from this, exactly.
    pub state: State,
}

impl Claim {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter, schema: &Schema) {
        out.put(u32::from(self.newest.0), 16);
        write_entity(out, self.entity);
        out.put(u32::from(self.epoch), 8);
        out.put(u32::from(self.since.0), 16);
        out.put(self.count as u32, 4);
        write_rounded(out, schema, &self.state, For::Server);
        let q = schema.state[0].wire;
        for p in &self.trail[..self.count] {
            for x in [p.x, p.y, p.z] {
                out.put(q.encode(x), q.bits());
            }
        }
    }

    pub(super) fn read(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let newest = WireTick(from.take(16)? as u16);
        let entity = read_entity(from)?;
        let schema = layouts.schema(layouts.kind(entity).ok_or(WireError::NotOwned(entity))?, newest);
        let epoch = from.take(8)? as u8;
        let since = WireTick(from.take(16)? as u16);
        let count = from.take(4)? as usize;
        let mut state = State::default();
        read_rounded(from, schema, &mut state, For::Server)?;
        let q = schema.state[0].wire;
        let mut trail = [Vec3::ZERO; MAX_REPEATS];
        for p in &mut trail[..count] {
            let mut next = || from.take(q.bits()).map(|code| q.decode(code));
            *p = vec3(next()?, next()?, next()?);
        }
        Ok(Self { newest, entity, epoch, since, state, count, trail })
    }
}

impl PullBack {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter, schema: &Schema) {
        out.put(u32::from(self.tick.0), 16);
        write_entity(out, self.entity);
        out.put(u32::from(self.epoch), 8);
        write_exact(out, schema, &self.state);
    }

    pub(super) fn read(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let tick = WireTick(from.take(16)? as u16);
        let entity = read_entity(from)?;
        let kind = layouts.kind(entity).ok_or(WireError::NotOwned(entity))?;
        let epoch = from.take(8)? as u8;
        Ok(Self { entity, epoch, tick, state: read_exact(from, layouts.schema(kind, tick))? })
    }
}
