//! Support: who stands on nothing falls, and ever faster.

use std::collections::VecDeque;

use super::case::{Case, Check, Finding};
use crate::float::{max, min};
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Path, Rule};

/// How often a second the fall is looked at.
const LOOKS: i64 = 10;

/// The rule: where it last stood, and how high it was since.
#[derive(Clone, Debug, Default)]
pub(super) struct Support {
    /// The newest last, from when it no longer stood. Ticks follow each other.
    path: VecDeque<(Tick, f32)>,
    /// From where it fell or hopped.
    left: Option<Left>,
    /// In the air ticks were missing, in which it may have landed and hopped again: from where it was after them.
    again: Option<Left>,
}

/// A place that somebody left.
#[derive(Clone, Copy, Debug)]
struct Left {
    tick: Tick,
    at: Vec3,
    /// Whether it stood there: who was put into the air hops from nowhere.
    stood: bool,
}

impl Left {
    /// How it hops from there.
    fn hop(&self, hop: Hop) -> Hop {
        if self.stood { hop } else { Hop { up: 0.0, ..hop } }
    }

    /// How much higher it is than a hop from there leads.
    fn risen(&self, case: &Case<'_>, hop: Hop) -> Evidence {
        let hop = self.hop(hop);
        let seconds = case.tick.since(self.tick) as f32 * case.scene.dt;
        let lawful = hop.rise(seconds);
        let measured = max(case.end.z - self.at.z - lawful, 0.0);
        let limit = hop.wider(1.0 + case.limits.slack).rise(seconds) - lawful + case.rounding();
        Evidence { from: self.tick, ..case.evidence(Rule::Support, measured, limit) }
    }
}

impl Check for Support {
    /// Two things: that it is no higher than a hop leads from where it last stood, and that it falls ever faster. Where ticks are
    /// missing it may have stood, and hopped, in any of them.
    fn judge(&mut self, case: &Case<'_>) -> Finding {
        let Some(fall) = case.limits.fall else { return Finding::Nothing };
        if case.stands() {
            // In the tick in which it leaves an edge nothing draws it down yet.
            self.path.clear();
            self.left = Some(Left { tick: case.tick, at: case.end, stood: true });
            self.again = None;
            return Finding::Nothing;
        }
        let hop = Hop { up: case.limits.up, fall, down: case.limits.down };
        let high = self.height(case, hop);
        if let Finding::Untold(_) | Finding::Hole = high {
            return high;
        }
        if case.has_hole() {
            self.path.clear();
        }
        self.path.push_back((case.tick, case.end.z));
        match (high, self.fallen(case, hop)) {
            (Finding::Beyond(..), _) | (_, None) => high,
            (_, Some(evidence)) if evidence.is_exceeded() => Finding::Beyond(evidence, self.left.map(|left| left.at)),
            (Finding::Within(high), Some(fallen)) if high.share() > fallen.share() => Finding::Within(high),
            (_, Some(fallen)) => Finding::Within(fallen),
        }
    }

    fn path(&self, case: &Case<'_>) -> Path {
        Path::through(self.left.map(|left| left.at).into_iter().chain([case.start, case.end]))
    }

    fn clear(&mut self) {
        *self = Self::default();
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(self.clone())
    }
}

impl Support {
    /// How much higher it is than a hop leads.
    fn height(&mut self, case: &Case<'_>, hop: Hop) -> Finding {
        let start = || Left { tick: case.from, at: case.start, stood: case.stood() };
        let left = *self.left.get_or_insert_with(start);
        let from_here = Left { tick: case.tick, at: case.end, stood: true };
        let evidence = left.risen(case, hop);
        if !evidence.is_exceeded() {
            if case.has_hole() {
                self.again = Some(from_here);
            }
            return Finding::Within(evidence);
        }
        if let Some(again) = self.again.take().filter(|again| !again.risen(case, hop).is_exceeded()) {
            self.left = Some(again);
            return Finding::Untold(evidence);
        }
        if case.has_hole() {
            self.left = Some(from_here);
            self.path.clear();
            let (risen, widest) = (case.end.z - left.at.z, left.hop(hop).wider(1.0 + case.limits.slack));
            let seconds = case.tick.since(left.tick) as f32 * case.scene.dt;
            // From where it stood then, or from where it may have landed in between.
            let most = widest.rise(min(seconds, widest.up / widest.fall)) + case.rounding();
            return if risen <= most { Finding::Untold(evidence) } else { Finding::Hole };
        }
        // Nothing of it is gained: back to where it left the ground.
        Finding::Beyond(evidence, Some(left.at))
    }

    /// By how much it fell too little over two looks: of what falls with at least so much, the mean speed of the later is less than
    /// that of the earlier by that for half of both.
    fn fallen(&mut self, case: &Case<'_>, hop: Hop) -> Option<Evidence> {
        let look = (i64::from(case.rate.hz()) / LOOKS).max(1);
        while self.path.len() > 1 && case.tick.since(self.path[1].0) >= 2 * look {
            self.path.pop_front();
        }
        let &(first, low) = self.path.front().filter(|(tick, _)| case.tick.since(*tick) >= 2 * look)?;
        let &(middle, between) = self.path.iter().find(|(tick, _)| case.tick.since(*tick) <= look)?;
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
#[derive(Clone, Copy)]
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
