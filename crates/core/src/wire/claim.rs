//! Positions going up, and the guard's answer.

use super::MAX_REPEATS;
use super::bits::{BitReader, BitWriter};
use super::entity::{read_entity, write_entity};
use super::error::{WireError, ranged};
use super::lanes::{read_exact, read_lanes, write_exact, write_lanes};
use crate::data::State;
use crate::ids::EntityId;
use crate::plan::Plan;
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

/// Why an owner is told where to go on from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum PullReason {
    /// The guard put it there.
    #[default]
    Guard,
    /// The server put it elsewhere, as a teleport.
    Teleport,
    /// It is pushed: it goes on from where it is, with this added to its velocity.
    Push,
}

impl PullReason {
    const ALL: [Self; 3] = [Self::Guard, Self::Teleport, Self::Push];

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Guard => "guard",
            Self::Teleport => "teleport",
            Self::Push => "push",
        }
    }
}

/// Where the server wants an owner who says itself where it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PullBack {
    /// The server's tick when it was written: it names the layout of the state.
    pub tick: WireTick,
    /// Which of its entities.
    pub entity: EntityId,
    /// Claims must carry this from now on.
    pub epoch: u8,
    /// Why.
    pub reason: PullReason,
    /// Continue from this, exactly. Of a push only its velocity says anything: what is to be added.
    pub state: State,
}

impl Claim {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter, plan: &Plan) {
        out.put(u32::from(self.newest.0), 16);
        write_entity(out, self.entity);
        out.put(u32::from(self.epoch), 8);
        out.put(u32::from(self.since.0), 16);
        out.put(self.count as u32, 4);
        write_lanes(out, &plan.told, &self.state);
        let q = plan.point;
        for p in &self.trail[..self.count] {
            for x in [p.x, p.y, p.z] {
                out.put(q.encode(x), q.bits());
            }
        }
    }

    pub(super) fn read(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let newest = WireTick(from.take(16)? as u16);
        let entity = read_entity(from)?;
        let kind = layouts.kind(entity).ok_or(WireError::NotOwned(entity))?;
        let plan = layouts.plan(kind, newest);
        let epoch = from.take(8)? as u8;
        let since = WireTick(from.take(16)? as u16);
        let count = from.take(4)? as usize;
        let mut state = State::default();
        read_lanes(from, &plan.told, &mut state)?;
        let q = plan.point;
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
    pub fn write(&self, out: &mut BitWriter, plan: &Plan) {
        out.put(u32::from(self.tick.0), 16);
        write_entity(out, self.entity);
        out.put(u32::from(self.epoch), 8);
        out.put(self.reason as u32, 2);
        write_exact(out, plan, &self.state);
    }

    pub(super) fn read(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let tick = WireTick(from.take(16)? as u16);
        let entity = read_entity(from)?;
        let kind = layouts.kind(entity).ok_or(WireError::NotOwned(entity))?;
        let epoch = from.take(8)? as u8;
        let reason = PullReason::ALL[ranged("reason", from.take(2)?, 0, PullReason::ALL.len() as u32 - 1)? as usize];
        Ok(Self { entity, epoch, tick, reason, state: read_exact(from, layouts.plan(kind, tick))? })
    }
}
