//! Positions going up, and the guard's answer.

use super::MAX_REPEATS;
use super::bits::BitWriter;
use super::error::ranged;
use super::noting::FieldValue;
use super::rests::{Against, Rests};
use super::rows::{Passed, Way, number, written};
use crate::data::State;
use crate::ids::EntityId;
use crate::plan::Plan;
use crate::tick::WireTick;
use crate::vec3::Vec3;

/// Where an owner says it is.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
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
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
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

/// What stands first in an owner's word of where it is: the newest tick, which entity, its epoch and the first tick of that.
pub(super) fn word_head<W: Way>(
    way: &mut W,
    newest: &mut WireTick,
    entity: &mut EntityId,
    (epoch, since): (&mut u8, &mut WireTick),
) -> Passed {
    way.tick("newest tick", newest)?;
    way.entity(entity)?;
    way.byte("pull back's epoch", epoch, 8, number)?;
    way.tick("since tick", since)
}

impl Claim {
    /// What stands before the state.
    pub(super) fn head<W: Way>(&mut self, way: &mut W) -> Passed {
        let Self { newest, entity, epoch, since, .. } = self;
        word_head(way, newest, entity, (epoch, since))?;
        let mut before = self.count as u32;
        way.bits("positions before", &mut before, 4, number)?;
        self.count = before as usize;
        Ok(())
    }

    /// All of it.
    pub(super) fn rows<'a, W: Way>(&mut self, way: &mut W, rests: &impl Rests<'a>) -> Passed {
        self.head(way)?;
        let plan = rests.plan(self.entity, self.newest)?;
        way.rounded(&plan.told, &mut self.state)?;
        let q = plan.point;
        for (i, p) in self.trail[..self.count].iter_mut().enumerate() {
            let rows = |way: &mut W, p: &mut Vec3| {
                for x in [&mut p.x, &mut p.y, &mut p.z] {
                    let mut code = q.encode(*x);
                    way.bits("", &mut code, q.bits(), number)?;
                    *x = q.decode(code);
                }
                Ok(())
            };
            let words = |p: &Vec3| FieldValue::Words(format!("{:.3}, {:.3}, {:.3} m", p.x, p.y, p.z));
            way.one(p, rows, |p| (format!("{} before", i + 1), words(p)))?;
        }
        Ok(())
    }

    /// Appends the message.
    pub fn write(mut self, out: &mut BitWriter, plan: &Plan) {
        written(self.rows(out, &Against { plan: |_| plan, base: None, dt: 0.0 }));
    }
}

impl PullBack {
    /// What stands before the reason.
    pub(super) fn head<W: Way>(&mut self, way: &mut W) -> Passed {
        way.tick("tick", &mut self.tick)?;
        way.entity(&mut self.entity)?;
        way.byte("epoch", &mut self.epoch, 8, number)
    }

    /// All of it.
    pub(super) fn rows<'a, W: Way>(&mut self, way: &mut W, rests: &impl Rests<'a>) -> Passed {
        self.head(way)?;
        let named = |reason: u32| PullReason::ALL.get(reason as usize).map_or("unknown", |reason| reason.name());
        let mut reason = self.reason as u32;
        way.bits("reason", &mut reason, 2, |reason| FieldValue::Words(named(reason).to_owned()))?;
        self.reason = PullReason::ALL[ranged("reason", reason, 0, PullReason::ALL.len() as u32 - 1)? as usize];
        way.exact(rests.plan(self.entity, self.tick)?, &mut self.state)
    }

    /// Appends the message.
    pub fn write(mut self, out: &mut BitWriter, plan: &Plan) {
        written(self.rows(out, &Against { plan: |_| plan, base: None, dt: 0.0 }));
    }
}
