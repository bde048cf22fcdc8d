//! Support: who stands on nothing falls, and ever faster.

use std::collections::VecDeque;

use super::case::{Check, ClaimCase, Finding};
use crate::float::{clamp, max, min};
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Path, Rule};

/// How often a second the fall is looked at.
const LOOKS: i64 = 10;

/// Holes remembered in a flight at most.
const AGAIN: usize = 4;

/// The rule: where it last stood, and how high it was since.
#[derive(Clone, Debug, Default)]
pub(super) struct Support {
    /// The newest last, from when it no longer stood. Ticks follow each other.
    path: VecDeque<Height>,
    /// From where it fell or hopped.
    left: Option<Left>,
    /// In the air ticks were missing, in which it may have landed and hopped again: from where it was after them, the newest last.
    again: VecDeque<Left>,
}

/// How high it was.
#[derive(Clone, Copy, Debug)]
struct Height {
    tick: Tick,
    z: f32,
    /// Whether it had not moved at all since the tick before.
    still: bool,
}

/// A place that somebody left.
#[derive(Clone, Copy, Debug)]
struct Left {
    tick: Tick,
    at: Vec3,
    /// How it hops from there: as high as was lawful in any tick since.
    hop: Hop,
    /// Ticks since then in which its program may have stood still, and it with it: a hop goes on after them. And how many of them are
    /// believed.
    stood_still: u64,
    believed: u64,
}

impl Left {
    /// How much higher it is than a hop from there leads after `seconds`.
    fn after(&self, case: &ClaimCase<'_>, seconds: f32) -> Evidence {
        let lawful = self.hop.rise(seconds);
        let measured = max(case.end.z - self.at.z - lawful, 0.0);
        let limit = self.hop.wider(1.0 + case.limits.slack).rise(seconds) - lawful + case.rounding();
        Evidence { from: self.tick, ..case.evidence(Rule::Support, measured, limit) }
    }

    fn seconds(&self, case: &ClaimCase<'_>) -> f32 {
        case.tick.since(self.tick) as f32 * case.scene.dt
    }

    /// How much higher it is than a hop from there leads. It left within the tick after the last in which it stood.
    fn risen(&self, case: &ClaimCase<'_>) -> Evidence {
        self.risen_in(case, 1)
    }

    /// The same, if its program stood still in as many ticks as it may have, where it then is as high as can be.
    fn risen_at_most(&self, case: &ClaimCase<'_>) -> Evidence {
        self.risen_in(case, 1 + self.stood_still)
    }

    /// The same, if it was in the air for less time than has passed, by up to this number of ticks.
    fn risen_in(&self, case: &ClaimCase<'_>, less: u64) -> Evidence {
        let seconds = self.seconds(case);
        let least = max(seconds - less as f32 * case.scene.dt, 0.0);
        self.after(case, clamp(self.hop.up / self.hop.fall, least, seconds))
    }
}

impl Check for Support {
    /// Two things: that it is no higher than a hop leads from where it last stood, and that it falls ever faster. Where ticks are
    /// missing it may have stood, and hopped, in any of them; and where its program stood still, which cannot be told from who stays
    /// where it is, it was in the air for less time than has passed.
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let Some(fall) = case.limits.fall else { return Finding::Nothing };
        let hop = Hop { up: case.limits.up, fall, down: case.limits.down };
        if case.stands() {
            // In the tick in which it leaves an edge nothing draws it down yet.
            self.path.clear();
            self.left = Some(Left { tick: case.tick, at: case.end, hop, stood_still: 0, believed: 0 });
            self.again.clear();
            return Finding::Nothing;
        }
        let high = self.height(case, hop);
        if let Finding::Unproven(..) | Finding::Hole(_) = high {
            return high;
        }
        if case.has_hole() || !case.around.is_empty() || case.met_overhead() {
            // Who meets something overhead rises no more at once, and falls from there.
            self.path.clear();
        }
        if self.left.is_some_and(|left| case.tick <= left.tick) {
            // Who begins in the air may stand in it for a tick.
            self.path.clear();
            return high;
        }
        self.path.push_back(Height { tick: case.tick, z: case.end.z, still: case.is_still() });
        let back = self.left.map(|left| left.at);
        match (high, self.fallen(case, hop)) {
            (Finding::Beyond(..), _) | (_, None) => high,
            (_, Some(evidence)) if evidence.is_exceeded() => {
                let stood_still = self.path.iter().filter(|height| height.still).count() as u64;
                if stood_still > 0 {
                    self.path.clear();
                    return Finding::Unproven(evidence, stood_still);
                }
                Finding::Beyond(evidence, back)
            }
            (Finding::Within(high), Some(fallen)) if high.share() > fallen.share() => Finding::Within(high),
            (_, Some(fallen)) => Finding::Within(fallen),
        }
    }

    fn path(&self, case: &ClaimCase<'_>) -> Path {
        Path::through(self.left.map(|left| left.at).into_iter().chain([case.start, case.end]))
    }

    /// Where a claim without evidence is not accepted, nothing is gained by it.
    fn back(&self) -> Option<Vec3> {
        self.left.map(|left| left.at)
    }

    fn clear(&mut self) {
        *self = Self::default();
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(self.clone())
    }
}

impl Support {
    /// From where somebody is who begins in the air: it goes on as fast as it was.
    fn beginning(case: &ClaimCase<'_>, hop: Hop) -> Left {
        let velocity = case.motion.schema().velocity_lane().map_or(Vec3::ZERO, |lane| case.before.vec3(lane));
        // Of a state of some ticks ago nobody knows how fast it was since; and who was put into the air from the ground hops from there.
        let grounded = case.motion.schema().grounded_lane().is_some_and(|lane| case.before.flag(lane));
        let is_known = case.ago == 0 && !case.stood() && !grounded;
        let up = if is_known { max(velocity.z, 0.0) } else { max(hop.up, velocity.z) };
        Left { tick: case.from, at: case.start, hop: Hop { up, ..hop }, stood_still: 0, believed: 0 }
    }

    /// How much higher it is than a hop leads.
    fn height(&mut self, case: &ClaimCase<'_>, hop: Hop) -> Finding {
        // In the tick in which it leaves the ground it hops as then is lawful.
        let hops = self.left.is_some_and(|left| left.tick == case.from);
        let left = self.left.get_or_insert_with(|| Self::beginning(case, hop));
        let up = if hops { max(left.hop.up, hop.up) } else { left.hop.up };
        left.hop = Hop { up, ..left.hop.or_slower(hop) };
        left.stood_still += if case.is_still() { case.ticks() } else { case.ticks().saturating_sub(1) };
        if !case.around.is_empty() {
            // What is around it stops it now and then.
            left.stood_still += case.ticks();
            left.believed += case.ticks();
        }
        let left = *left;
        self.again.iter_mut().for_each(|again| again.hop = again.hop.or_slower(hop));
        let from_here = Left { tick: case.tick, at: case.end, hop, stood_still: 0, believed: 0 };
        let evidence = left.risen(case);
        let found = self.explained(case, left, evidence);
        if case.has_hole() {
            self.again.push_back(from_here);
            if self.again.len() > AGAIN {
                self.again.pop_front();
            }
        }
        if let Some(found) = found {
            return found;
        }
        if case.has_hole() {
            self.left = Some(from_here);
            self.path.clear();
            let (risen, widest) = (case.end.z - left.at.z, left.hop.wider(1.0 + case.limits.slack));
            // From where it stood then, or from where it may have landed in between.
            let most = widest.rise(min(left.seconds(case), widest.up / widest.fall)) + case.rounding();
            return if risen <= most { Finding::unproven(evidence) } else { Finding::Hole(Some(left.at)) };
        }
        // Nothing of it is gained: back to where it left the ground.
        Finding::Beyond(evidence, Some(left.at))
    }

    /// How it may have come to be so high: by a hop from where it left, by one that went on after its program had stood still, or by one
    /// from where it may have landed.
    fn explained(&mut self, case: &ClaimCase<'_>, left: Left, evidence: Evidence) -> Option<Finding> {
        if !evidence.is_exceeded() {
            return Some(Finding::Within(evidence));
        }
        let at_most = left.risen_at_most(case);
        if left.stood_still > 0 && !at_most.is_exceeded() {
            let more = left.stood_still - left.believed;
            if more == 0 {
                return Some(Finding::Within(at_most));
            }
            self.left = Some(Left { believed: left.stood_still, ..left });
            self.path.clear();
            return Some(Finding::Unproven(at_most, more));
        }
        while let Some(again) = self.again.pop_back() {
            if !again.risen(case).is_exceeded() {
                self.left = Some(again);
                self.path.clear();
                return Some(Finding::unproven(evidence));
            }
        }
        None
    }

    /// By how much it fell too little over two looks: of what falls with at least so much, the mean speed of the later is less than
    /// that of the earlier by that for half of both.
    fn fallen(&mut self, case: &ClaimCase<'_>, hop: Hop) -> Option<Evidence> {
        let look = (i64::from(case.rate.hz()) / LOOKS).max(1);
        while self.path.len() > 1 && case.tick.since(self.path[1].tick) >= 2 * look {
            self.path.pop_front();
        }
        let &Height { tick: first, z: low, .. } =
            self.path.front().filter(|height| case.tick.since(height.tick) >= 2 * look)?;
        let &Height { tick: middle, z: between, .. } =
            self.path.iter().find(|height| case.tick.since(height.tick) <= look)?;
        let seconds = |ticks: i64| ticks as f32 * case.scene.dt;
        let (before, after) = (seconds(middle.since(first)), seconds(case.tick.since(middle)));
        let (earlier, later) = ((between - low) / before, (case.end.z - between) / after);
        let slack = 1.0 + case.limits.slack;
        if later <= -hop.down / slack + case.rounding() / after {
            return None;
        }
        let lawful = hop.fall * (before + after) / 2.0;
        let measured = max(later - earlier + lawful, 0.0) * after;
        let limit = (lawful - lawful / slack) * after + case.quantum() * (1.0 + after / before);
        Some(Evidence { from: first, ..case.evidence(Rule::Support, measured, limit) })
    }
}

/// A hop, as high as it goes.
#[derive(Clone, Copy, Debug)]
struct Hop {
    /// Metres a second at its beginning.
    up: f32,
    /// What it loses of them, a second.
    fall: f32,
    /// As fast as it falls at most.
    down: f32,
}

impl Hop {
    fn wider(self, by: f32) -> Self {
        Self { up: self.up * by, fall: self.fall / by, down: self.down / by }
    }

    /// One that comes down no sooner than either.
    fn or_slower(self, other: Self) -> Self {
        Self { up: self.up, fall: min(self.fall, other.fall), down: min(self.down, other.down) }
    }

    /// How high it is after some time, above where it began: the parabola of a body thrown upwards, until it falls no faster.
    fn rise(self, seconds: f32) -> f32 {
        let free = min(seconds, (self.up + self.down) / self.fall);
        self.up * free - self.fall * free * free / 2.0 - self.down * (seconds - free)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_hop_is_a_parabola_that_ends_in_a_steady_fall() {
        let hop = Hop { up: 7.4, fall: 22.0, down: 40.0 };
        // v² / 2g.
        assert!((hop.rise(7.4 / 22.0) - 7.4 * 7.4 / 44.0).abs() < 1e-5);
        assert!(hop.rise(2.0 * 7.4 / 22.0).abs() < 1e-5);
        let steady = hop.rise(5.0) - hop.rise(4.0);
        assert!((steady + 40.0).abs() < 1e-4, "{steady}");
        assert!(hop.wider(1.04).rise(0.6) > hop.rise(0.6));
    }
}
