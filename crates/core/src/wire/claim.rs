//! Positions going up, and the guard's answer.

use super::MAX_REPEATS;
use super::bits::BitWriter;
use super::carry::{Span, carried};
use super::differing::{Codes, apart, codes_of, decoded, differing};
use super::error::ranged;
use super::folded::unfold;
use super::noting::FieldValue;
use super::packed::{LaneCoder, Packed};
use super::rests::{Against, Rests, back_rows, before, span};
use super::rows::{Passed, Way, number, written};
use crate::data::State;
use crate::ids::EntityId;
use crate::plan::{LaneClass, Plan};
use crate::quantiser::Quantiser;
use crate::tick::WireTick;
use crate::vec3::Vec3;

/// Where an owner says it is.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Claim {
    /// Tick of the newest.
    pub newest: WireTick,
    /// Which of its entities.
    pub entity: EntityId,
    /// How many ticks before the newest the claim was of that it is told against; 0 for none.
    pub back: u32,
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
        let Self { newest, entity, epoch, since, back, .. } = self;
        word_head(way, newest, entity, (epoch, since))?;
        back_rows(way, back)?;
        let mut before = self.count as u32;
        way.bits("positions before", &mut before, 4, number)?;
        self.count = before as usize;
        Ok(())
    }

    /// All of it: the state rounded, and positions; or both by how far they are from where a claim before leads.
    pub(super) fn rows<'a, W: Way>(&mut self, way: &mut W, rests: &impl Rests<'a>) -> Passed {
        self.head(way)?;
        let plan = rests.plan(self.entity, self.newest)?;
        if self.back == 0 {
            way.rounded(&plan.told, &mut self.state)?;
            return self.positions(way, plan.point);
        }
        let then = rests.state(self.entity, before(self.newest, self.back))?;
        let (then, mut now) = (codes_of(&plan.told, &then), codes_of(&plan.told, &self.state));
        let then = &then[..plan.told.lanes.len()];
        let from = (then, span(rests, self.back));
        differing(&mut Packed(way), &plan.told, plan.told_carried.as_ref(), from, &mut now)?;
        self.state = decoded(&plan.told, &now);
        self.differing_positions(way, plan, (&now, span(rests, 1)))
    }

    /// Positions as they are.
    fn positions<W: Way>(&mut self, way: &mut W, q: Quantiser) -> Passed {
        for (i, p) in self.trail[..self.count].iter_mut().enumerate() {
            let rows = |way: &mut W, p: &mut Vec3| {
                for x in [&mut p.x, &mut p.y, &mut p.z] {
                    let mut code = q.encode(*x);
                    way.bits("", &mut code, q.bits(), number)?;
                    *x = q.decode(code);
                }
                Ok(())
            };
            way.one(p, rows, |p| (format!("{} before", i + 1), position(*p)))?;
        }
        Ok(())
    }

    /// Positions by how far each is from where those after it come from: the first from where the newest velocity leads back to.
    fn differing_positions<W: Way>(&mut self, way: &mut W, plan: &Plan, (now, tick): (&Codes, Span)) -> Passed {
        let along = |axis: usize| {
            plan.told_carried.as_ref().map_or(0, |by| carried(by, now[usize::from(by.velocity) + axis] * 2, tick))
        };
        let mut after = [now[0], now[1], now[2]];
        let mut step = [along(0), along(1), along(2)];
        for (i, p) in self.trail[..self.count].iter_mut().enumerate() {
            let mark = way.mark();
            for (axis, x) in [&mut p.x, &mut p.y, &mut p.z].into_iter().enumerate() {
                let lane = &plan.told.lanes[axis];
                let expected = lane.within(after[axis].wrapping_sub(step[axis]));
                let mut folded = apart(lane, plan.point.steps(*x), expected);
                Packed(&mut *way).apart(LaneClass::Across, 0, &mut folded)?;
                let code = lane.within(expected.wrapping_add(unfold(folded)));
                (step[axis], after[axis]) = (after[axis].wrapping_sub(code), code);
                *x = plan.point.of_steps(code);
            }
            way.merge(mark, || (format!("{} before", i + 1), position(*p)));
        }
        Ok(())
    }

    /// Appends the message, whole.
    pub fn write(self, out: &mut BitWriter, plan: &Plan) {
        written(Self { back: 0, ..self }.rows(out, &Against { plan: |_| plan, base: None, dt: 0.0 }));
    }

    /// Appends the message against what it says it is told against.
    pub(crate) fn write_against<'a>(mut self, out: &mut BitWriter, rests: &impl Rests<'a>) {
        written(self.rows(out, rests));
    }
}

fn position(p: Vec3) -> FieldValue {
    FieldValue::Words(format!("{:.3}, {:.3}, {:.3} m", p.x, p.y, p.z))
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
