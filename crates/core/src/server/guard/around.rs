//! What came to stand around somebody who was lawfully there: it may stay and leave, and goes no further in.
//!
//! 1. A solid that is new at a tick, and in which its owner was when it came, is around it.
//! 2. Of each claim the depth in it is no greater than it was, and its owner is pushed out by no more than that becomes less.
//! 3. Once its owner is outside, it is a solid like any other.

use crate::body::Body;
use crate::float::{max, min};
use crate::ground::{Ground, SolidId, touching};
use crate::vec3::Vec3;

/// How far somebody who is pushed out of one thing may get into another, in metres.
const SQUEEZED: f32 = 0.3;

/// How far a rule can be pushed out in one move, in metres.
const PUSHED: f32 = 0.35;

/// A way out that points up by at least this is stood on.
const UPRIGHT: f32 = 0.7;

/// The solids around somebody.
#[derive(Clone, Debug, Default)]
pub struct Around {
    ids: Vec<SolidId>,
    /// In the same order, how deep in each it has been at the least.
    least: Vec<f32>,
    /// Metres by which they may still push it out, and by which they may have in the last claim.
    left: f32,
    pushed: f32,
    /// Whether it stands on one of them.
    carried: bool,
    /// Whether it lies deeper in one of them than it did.
    deeper: bool,
}

/// Whether somebody so deep in something is in it, and does not only touch it: whoever is swept is thinner by so much.
fn is_inside(depth: f32, out: Vec3, step: f32) -> bool {
    depth > if out.z.abs() > UPRIGHT { 1.5 * step } else { touching(step) }
}

/// Whether somebody is still in something: it is out only where it is out of it wherever rounding has it next.
fn is_still_in(depth: f32, out: Vec3, step: f32) -> bool {
    depth > if out.z.abs() > UPRIGHT { step } else { touching(step) - 1.5 * step }
}

/// From where to where somebody claims to have gone.
#[derive(Clone, Copy, Debug)]
pub(super) struct Way {
    pub(super) start: Vec3,
    pub(super) end: Vec3,
    /// Whether ticks between are not known.
    pub(super) has_hole: bool,
    /// Moves of all its ticks.
    pub(super) moves: u32,
    /// The step of the wire.
    pub(super) step: f32,
}

impl Around {
    /// Nothing.
    pub const NOTHING: &'static Self =
        &Self { ids: Vec::new(), least: Vec::new(), left: 0.0, pushed: 0.0, carried: false, deeper: false };

    /// Which they are.
    pub(super) fn ids(&self) -> &[SolidId] {
        &self.ids
    }

    /// Metres by which they may have pushed their owner out in this claim.
    pub(super) const fn pushed(&self) -> f32 {
        self.pushed
    }

    /// Whether their owner stands on one of them.
    pub(super) const fn carries(&self) -> bool {
        self.carried
    }

    /// Whether their owner went further in.
    pub(super) const fn is_deeper(&self) -> bool {
        self.deeper
    }

    pub(super) const fn is_empty(&self) -> bool {
        self.ids.is_empty()
    }

    fn add(&mut self, id: SolidId, depth: f32) {
        self.ids.push(id);
        self.least.push(depth);
        self.left += depth + PUSHED;
    }

    /// Somebody begins at a place, or is put back there, whatever is around it. What it only touches is not. What was around it before is
    /// as deep as it was then at the least: who is put back again and again gets no further in.
    pub(super) fn begin(&mut self, ground: &Ground, body: &Body, at: Vec3, step: f32) {
        let before = std::mem::take(self);
        for solid in ground.solids() {
            let Some((depth, _)) =
                ground.depth(solid.id, body, at).filter(|(depth, out)| is_inside(*depth, *out, step))
            else {
                continue;
            };
            if let Some(i) = before.ids.iter().position(|id| *id == solid.id) {
                self.ids.push(solid.id);
                self.least.push(before.least[i]);
                self.left = max(self.left, before.left);
            } else {
                self.add(solid.id, depth);
            }
        }
    }

    /// Looks what came in a claim's ticks: `before` is a ground that held before them.
    pub(super) fn came(&mut self, before: &Ground, now: &Ground, body: &Body, way: &Way) {
        for solid in now.solids() {
            if before.has(solid.id) || self.ids.contains(&solid.id) {
                continue;
            }
            let depth = |at| now.depth(solid.id, body, at).map_or(0.0, |(depth, _)| depth);
            let deep = max(depth(way.start), if way.has_hole { depth(way.end) } else { 0.0 });
            if deep > 0.0 {
                self.add(solid.id, deep);
            }
        }
    }

    /// Takes a claim into account that leads too far by this number of metres.
    pub(super) fn follow(&mut self, ground: &Ground, body: &Body, way: &Way, too_far: f32) {
        (self.pushed, self.carried, self.deeper) = (0.0, false, false);
        if self.is_empty() {
            return;
        }
        self.squeeze(ground, body, way);
        // Pushed out of one it may be pushed into another, and back.
        let tolerance = if self.ids.len() > 1 { SQUEEZED } else { 0.0 } + 2.0 * way.step;
        for (id, least) in self.ids.iter().zip(&mut self.least) {
            let Some((depth, out)) = ground.depth(*id, body, way.end) else { continue };
            self.carried |= out.z > UPRIGHT && depth > -touching(way.step);
            // Where it was accepted to be it may stay: it was pushed there by another, which is around it no longer.
            let before = ground.depth(*id, body, way.start).map_or(0.0, |(depth, _)| depth);
            self.deeper |= depth > max(*least + tolerance, before);
            *least = min(*least, depth);
        }
        self.pushed = min(max(too_far, 0.0), min(self.left, PUSHED * way.moves as f32));
        self.left -= self.pushed;
    }

    /// What somebody is pushed into by what is around it.
    fn squeeze(&mut self, ground: &Ground, body: &Body, way: &Way) {
        let thin = body.slimmer(touching(way.step));
        while let Some(id) = ground.overlap_past(&self.ids, &thin, way.end) {
            match ground.depth(id, body, way.end) {
                Some((depth, _)) if depth <= SQUEEZED => {
                    self.ids.push(id);
                    self.least.push(depth);
                }
                _ => return,
            }
        }
    }

    /// After a claim was accepted: what its owner has left, or what is there no more, is around it no longer.
    pub(super) fn leave(&mut self, ground: &Ground, body: &Body, at: Vec3, step: f32) {
        let stays =
            |id: &SolidId| ground.depth(*id, body, at).is_some_and(|(depth, out)| is_still_in(depth, out, step));
        let mut kept = self.ids.iter().map(stays);
        self.least.retain(|_| kept.next().unwrap_or(false));
        self.ids.retain(stays);
        if self.ids.is_empty() {
            self.left = 0.0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ground::{Bounds, Solid};
    use crate::vec3::vec3;

    #[test]
    fn what_is_left_is_left_wherever_rounding_has_it_next() {
        let bounds = Bounds { min: (-50.0, -50.0), max: (50.0, 50.0), floor: 0.0 };
        let solid = Solid { id: SolidId(0), x: 5.0, y: 0.0, half_x: 1.0, half_y: 3.0, yaw: 0.0, low: 0.0, high: 3.0 };
        let ground = Ground::new(bounds, vec![solid], Vec::new());
        let (body, step) = (Body { radius: 0.35, height: 1.7, step: 0.3 }, 1.0 / 256.0);
        let deep = |depth: f32| vec3(4.0 - body.radius + depth, 0.0, 0.0);
        let after = |depth: f32| {
            let mut around = Around::default();
            around.begin(&ground, &body, deep(0.04), step);
            around.leave(&ground, &body, deep(depth), step);
            !around.is_empty()
        };
        // A step of the wire from where it is out, it may be told of as in it again.
        assert!(after(0.04) && after(touching(step) - step) && !after(step) && !after(-0.002));
        let mut put_back = Around::default();
        put_back.begin(&ground, &body, deep(0.04), step);
        let way = |start, end| Way { start: deep(start), end: deep(end), has_hole: false, moves: 1, step };
        let mut depth = 0.04;
        for _ in 0..20 {
            // Each time by a step of the wire further in.
            put_back.follow(&ground, &body, &way(depth, depth + step), 0.0);
            if !put_back.is_deeper() {
                depth += step;
            }
            put_back.begin(&ground, &body, deep(depth), step);
        }
        assert!(depth < 0.04 + 3.0 * step, "{depth}");
        let mut touched = Around::default();
        touched.begin(&ground, &body, deep(touching(step) - step), step);
        assert!(touched.is_empty(), "who begins there only touches it");
    }
}
