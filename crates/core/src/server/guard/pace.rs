//! Pace: the way along the path over a second, in chords long enough for rounding not to matter.

use std::collections::VecDeque;

use super::case::Case;
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Rule};

/// Where the path was, an eighth of a second apart.
#[derive(Clone, Debug, Default)]
pub(super) struct Pace {
    path: VecDeque<(Tick, Vec3)>,
}

impl Pace {
    /// Takes the path on, and measures once it is a second long.
    pub(super) fn judge(&mut self, case: &Case<'_>) -> Option<Evidence> {
        let hz = i64::from(case.rate.hz());
        let chord = (hz / 8).max(1);
        if self.path.is_empty() {
            self.path.push_back((case.from, case.start));
        }
        if self.path.back().is_some_and(|(tick, _)| case.tick.since(*tick) < chord) {
            return None;
        }
        self.path.push_back((case.tick, case.end));
        while self.path.len() > 2 && case.tick.since(self.path[1].0) >= hz {
            self.path.pop_front();
        }
        let (first, _) = self.path[0];
        let ticks = case.tick.since(first);
        if ticks < hz {
            return None;
        }
        let way = |a: &(Tick, Vec3), b: &(Tick, Vec3)| (b.1 - a.1).level().length();
        let measured: f32 = self.path.iter().zip(self.path.iter().skip(1)).map(|(a, b)| way(a, b)).sum();
        let of_one = case.evidence(Rule::Pace, measured, 0.0);
        let quantum = of_one.quantum * (self.path.len() - 1) as f32;
        let lawful = case.limits.level * ticks as f32 * case.scene.dt;
        let limit = lawful * (1.0 + case.limits.slack) + quantum;
        // All of it is taken back: the owner returns to where the second began.
        let gain = if measured > limit { measured - lawful } else { 0.0 };
        Some(Evidence { from: first, limit, quantum, gain, ..of_one })
    }

    /// Where the second began.
    pub(super) fn first(&self) -> Option<Vec3> {
        self.path.front().map(|(_, at)| *at)
    }

    pub(super) fn clear(&mut self) {
        self.path.clear();
    }
}
