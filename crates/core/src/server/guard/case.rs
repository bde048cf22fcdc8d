//! One claim against the last accepted one, and what is found of it.

use std::fmt;

use super::around::Around;
use crate::body::Body;
use crate::data::State;
use crate::ground::{Ground, touching};
use crate::motion::{Limits, Motion, Scene};
use crate::tick::{Rate, Tick};
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Path, RULES, Rule};

/// One claim.
#[derive(Clone, Copy)]
pub struct ClaimCase<'a> {
    /// What held at the server in the tick that is claimed.
    pub scene: &'a Scene<'a>,
    /// The rule by which it moves.
    pub motion: &'a dyn Motion,
    /// What that allows, in the states that it is known to have been in.
    pub limits: &'a Limits,
    /// Ticks a second.
    pub rate: Rate,
    /// The tick of the last claim accepted.
    pub from: Tick,
    /// The tick that is claimed.
    pub tick: Tick,
    /// The server's tick in which the claim arrived.
    pub arrived: Tick,
    /// Where it was then.
    pub start: Vec3,
    /// Where it says it was in its tick.
    pub end: Vec3,
    /// The last state it told and that was accepted.
    pub before: &'a State,
    /// Ticks from that to `from`.
    pub ago: u64,
    /// The multiple of what the rules say that is allowed: see [`Policy::allowed`](crate::policy::Policy::allowed).
    pub allowed: &'a [f32; RULES.len()],
    /// The state it tells with this one, if any: only a message's newest tick carries one.
    pub told: Option<&'a State>,
    /// As fast as it may still be along the ground, since it lawfully was and something changed; 0 where that is nothing.
    pub carried: f32,
    /// What came to stand around it.
    pub around: &'a Around,
    /// Grounds that held within the last tenth of a second, where they were others.
    pub lately: &'a [&'a Ground],
}

impl ClaimCase<'_> {
    /// Ticks from the last claim to this: more than one where some were lost.
    pub const fn ticks(&self) -> u64 {
        self.tick.since(self.from).unsigned_abs()
    }

    /// Whether ticks before it were lost for good.
    pub const fn has_hole(&self) -> bool {
        self.ticks() > 1
    }

    /// The time it took, by its owner's ticks.
    pub fn seconds(&self) -> f32 {
        self.tick.since(self.from) as f32 * self.scene.dt
    }

    /// The step of the wire in which places are told, in metres.
    pub fn quantum(&self) -> f32 {
        self.motion.schema().state[0].wire.step()
    }

    /// What rounding makes of a distance at most, in metres.
    pub fn rounding(&self) -> f32 {
        self.quantum() * std::f32::consts::SQRT_2
    }

    /// The longest way along the ground that is lawful, rounding included.
    pub fn lawful_way(&self) -> f32 {
        self.limits.level * (1.0 + self.limits.slack) * self.seconds() + self.rounding() + self.pushed()
    }

    /// Metres by which what came to be around it may have pushed it out.
    pub fn pushed(&self) -> f32 {
        self.around.pushed()
    }

    /// Whether its program may have stood still in its ticks.
    pub fn is_still(&self) -> bool {
        is_still(self.motion, self.told, (self.start, self.end))
    }

    /// Whether it says that it stands on something, or did on the way: it may land on an edge and slide off it within a tick.
    pub fn stands(&self) -> bool {
        self.carries(self.end) || self.around.carries() || self.met_on_the_way()
    }

    /// Whether it stood on something before.
    pub fn stood(&self) -> bool {
        self.carries(self.start)
    }

    fn carries(&self, at: Vec3) -> bool {
        self.scene.ground.carries(&self.motion.body(), at, self.near())
    }

    /// Nearer than this is touched.
    fn near(&self) -> f32 {
        touching(self.quantum())
    }

    /// Whether something as high as it is ends beside its way.
    fn met_on_the_way(&self) -> bool {
        let (wide, middle) = self.all_along();
        self.scene.ground.carries(&wide, middle, self.near())
    }

    /// Whether it met something with its head: it stops to rise where it ends, or went past that since.
    pub fn met_overhead(&self) -> bool {
        let (wide, middle) = self.all_along();
        self.scene.ground.caps(&wide, middle, self.near())
    }

    /// A body as wide as its way is long, as high as it ends, and where.
    fn all_along(&self) -> (Body, Vec3) {
        let (body, half) = (self.motion.body(), (self.end - self.start).level() * 0.5);
        (Body { radius: body.radius + half.length(), ..body }, self.end - half)
    }

    /// What a rule measured of this claim against what it allows.
    pub fn evidence(&self, rule: Rule, measured: f32, limit: f32) -> Evidence {
        let slack = self.limits.slack;
        let plain = Evidence::plain(rule, (self.from, self.tick), measured, limit);
        let allowed = if rule.is_adjustable() { self.allowed[rule as usize] } else { 1.0 };
        Evidence { slack, quantum: self.rounding(), ..plain }.allowing(allowed)
    }

    /// What was measured, found lawful or not.
    pub fn finding(&self, rule: Rule, measured: f32, limit: f32) -> Finding {
        let evidence = self.evidence(rule, measured, limit);
        if evidence.is_exceeded() { Finding::Beyond(evidence, None) } else { Finding::Within(evidence) }
    }
}

/// Whether a program may have stood still: no state was told, and the place stayed the same, if one of the two is rounded to the
/// wire's step, each lane by half of it at most.
pub(super) fn is_still(motion: &dyn Motion, told: Option<&State>, (from, to): (Vec3, Vec3)) -> bool {
    told.is_none() && (to - from).length() < motion.schema().state[0].wire.step() * 0.9
}

/// What a check finds of a claim.
#[derive(Clone, Copy, Debug)]
pub enum Finding {
    /// There is nothing to measure.
    Nothing,
    /// It is lawful.
    Within(Evidence),
    /// It is not. Where all of it can be undone, the place to go back to.
    Beyond(Evidence, Option<Vec3>),
    /// The evidence was lost. Accepted for a bounded share of ticks; the number says how many this takes.
    Unproven(Evidence, u64),
    /// The evidence was lost, and the claim is not accepted. The place to go back to, if it is not where it was.
    Hole(Option<Vec3>),
}

impl Finding {
    /// The evidence for all that this covers was lost.
    pub fn unproven(evidence: Evidence) -> Self {
        // All of those ticks count as accepted without evidence, not only the missing ones.
        Self::Unproven(evidence, evidence.to.since(evidence.from).unsigned_abs())
    }
}

/// A check of claims: one rule of the guard, with what it remembers of one owner. It says what it finds; the guard answers.
pub trait Check: fmt::Debug + Send + Sync {
    /// Looks at a claim that comes after all it has seen.
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding;

    /// The corners between which it measured what it was last asked about.
    fn path(&self, case: &ClaimCase<'_>) -> Path {
        Path::through([case.start, case.end])
    }

    /// Where its owner goes back to when what it found [`Finding::Unproven`] is not believed, if it is another place than where it was.
    fn back(&self) -> Option<Vec3> {
        None
    }

    /// The owner was put somewhere: what came before leads there no more.
    fn clear(&mut self) {}

    /// Another that remembers the same.
    fn copy(&self) -> Box<dyn Check>;
}

impl Clone for Box<dyn Check> {
    fn clone(&self) -> Self {
        self.copy()
    }
}
