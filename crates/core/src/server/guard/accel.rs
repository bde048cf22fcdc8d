//! Accel: nobody has another speed at once, unless something is touched.

use super::case::{Check, ClaimCase, Finding};
use crate::body::Body;
use crate::float::{max, min};
use crate::ground::{Ground, SolidId, touching};
use crate::tick::Tick;
use crate::vec3::{Vec3, vec3};
use crate::verdict::{Evidence, Path, Rule};

/// What is nearer than this to somebody may have been touched, beside the way of a tick, in metres.
const NEAR: f32 = 0.05;

/// Up to this share of what is allowed a change may as well come of itself, so nobody looks for what was touched.
const CALM: f32 = 0.5;

/// The rule: where it was before.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Accel {
    /// The claim before the last: its tick and place.
    before: Option<(Tick, Vec3)>,
    /// Where it was before that.
    earlier: Option<Vec3>,
    /// Along the ground, how fast it went when it last did; `None` before it was looked at. Who begins is where it was put, as fast as
    /// it was then.
    moving: Option<Vec3>,
    /// Whether its program may have stood still in the claim before.
    stood_still: bool,
}

impl Check for Accel {
    /// The means of a velocity over two times that follow each other differ by at most what it changes in half of both together. What is
    /// touched stops or turns whoever touches it, so near anything solid a change says nothing. A program that stands still for a while
    /// passes ticks over, in which its owner stays where it is, to go on as fast as it went, or as it went in ticks that were lost: that is
    /// believed now and then.
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let Some(accel) = case.limits.accel else { return Finding::Nothing };
        let Some(moving) = self.moving else {
            let lane = case.motion.schema().velocity_lane();
            self.moving = Some(lane.map_or(Vec3::ZERO, |lane| case.before.vec3(lane).level()));
            return Finding::Nothing;
        };
        let before = self.before.replace((case.from, case.start));
        let stood_still = std::mem::replace(&mut self.stood_still, case.is_still());
        if case.has_hole() {
            // It may have been passed over, and stood.
            self.before = None;
            return Finding::Nothing;
        }
        if !case.around.is_empty() || case.carried > 0.0 {
            // What is around it pushes it out; and who is faster than it could become here may lose that sooner than it could get it.
            self.before = None;
            return Finding::Nothing;
        }
        self.earlier = before.map(|(_, at)| at);
        let Some((tick, at)) = before else { return Finding::Nothing };
        let (first, second) = (case.from.since(tick) as f32 * case.scene.dt, case.seconds());
        let (was, is) = ((case.start - at).level() * (1.0 / first), (case.end - case.start).level() * (1.0 / second));
        if is != Vec3::ZERO {
            self.moving = Some(is);
        }
        // Each of three places is half a diagonal of the wire's step away from where it was.
        let rounding = case.rounding() * (1.0 / first + 1.0 / second);
        let limit = accel * (1.0 + case.limits.slack) * (first + second) / 2.0 + rounding;
        let changed = |from: Vec3| {
            let evidence = case.evidence(Rule::Accel, is.distance(from), limit);
            Evidence { from: tick, quantum: rounding, ..evidence }
        };
        let evidence = changed(was);
        if evidence.share() <= CALM {
            return Finding::Within(evidence);
        }
        let lowest = min(min(at.z, case.start.z), case.end.z);
        let highest = max(max(at.z, case.start.z), case.end.z);
        if case.touches(max(was.length() * first, is.length() * second) + NEAR, (lowest, highest)) {
            return Finding::Nothing;
        }
        if !evidence.is_exceeded() {
            return Finding::Within(evidence);
        }
        let stops = is == Vec3::ZERO;
        let goes_on = was == Vec3::ZERO && (stood_still || !changed(moving).is_exceeded());
        if stops || goes_on { Finding::unproven(evidence) } else { Finding::Beyond(evidence, None) }
    }

    fn path(&self, case: &ClaimCase<'_>) -> Path {
        Path::through(self.earlier.into_iter().chain([case.start, case.end]))
    }

    fn clear(&mut self) {
        *self = Self::default();
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}

impl ClaimCase<'_> {
    /// Whether anything solid beside it or over its head is so near to where it was, at any height that it had, or was until lately; what it
    /// stands on is not.
    fn touches(&self, near: f32, (lowest, highest): (f32, f32)) -> bool {
        let (body, lift) = (self.motion.body(), touching(self.quantum()));
        let height = body.height + highest - lowest;
        let fat = Body { radius: body.radius + near, height, step: 0.0 };
        let at = vec3(self.start.x, self.start.y, lowest + lift);
        let rises_or_falls = highest - lowest > self.quantum();
        std::iter::once(self.scene.ground).chain(self.lately.iter().copied()).any(|ground| {
            ground.overlap(&fat, at).is_some() || rises_or_falls && self.may_touch_a_rim(ground, &fat, lowest)
        })
    }

    /// Whether something beside it ends about as high as it was at its lowest: it may have met that before it was above it. What it was
    /// over is not beside it.
    fn may_touch_a_rim(&self, ground: &Ground, fat: &Body, lowest: f32) -> bool {
        let slim = self.motion.body().slimmer(touching(self.quantum()));
        let at = vec3(self.start.x, self.start.y, lowest - self.quantum());
        let mut under = vec![SolidId::FLOOR];
        while let Some(id) = ground.overlap_past(&under, &slim, at) {
            under.push(id);
        }
        ground.overlap_past(&under, fat, at).is_some()
    }
}
