//! Pace: the way along the path over a second, in chords long enough for rounding not to matter.

use std::collections::VecDeque;

use super::case::{Check, ClaimCase, Finding};
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Path, Rule};

/// Chords of a second.
pub(super) const CHORDS: i64 = 8;

/// An end of a chord.
#[derive(Clone, Copy, Debug)]
struct Corner {
    tick: Tick,
    at: Vec3,
    /// Metres that were lawful since the corner before.
    lawful: f32,
}

/// The rule: where the path was, an eighth of a second apart.
#[derive(Clone, Debug, Default)]
pub(super) struct Pace {
    path: VecDeque<Corner>,
    /// Metres that were lawful since the last corner.
    lawful: f32,
}

impl Check for Pace {
    /// Takes the path on, and measures once it is a second long, against what the states it went through allowed.
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let hz = i64::from(case.rate.hz());
        let chord = (hz / CHORDS).max(1);
        if self.path.is_empty() {
            self.path.push_back(Corner { tick: case.from, at: case.start, lawful: 0.0 });
        }
        self.lawful += case.limits.level * case.seconds() + case.pushed();
        if self.path.back().is_some_and(|last| case.tick.since(last.tick) < chord) {
            return Finding::Nothing;
        }
        self.path.push_back(Corner { tick: case.tick, at: case.end, lawful: std::mem::take(&mut self.lawful) });
        while self.path.len() > 2 && case.tick.since(self.path[1].tick) >= hz {
            self.path.pop_front();
        }
        let first = self.path[0];
        if case.tick.since(first.tick) < hz {
            return Finding::Nothing;
        }
        let way = |a: &Corner, b: &Corner| (b.at - a.at).level().length();
        let measured: f32 = self.path.iter().zip(self.path.iter().skip(1)).map(|(a, b)| way(a, b)).sum();
        let quantum = case.rounding() * (self.path.len() - 1) as f32;
        let lawful: f32 = self.path.iter().skip(1).map(|corner| corner.lawful).sum();
        let limit = lawful * (1.0 + case.limits.slack) + quantum;
        let evidence = Evidence { from: first.tick, quantum, ..case.evidence(Rule::Pace, measured, limit) };
        if evidence.is_exceeded() {
            // All of it is taken back: the owner returns to where the second began.
            return Finding::Beyond(Evidence { gain: measured - lawful, ..evidence }, Some(first.at));
        }
        Finding::Within(evidence)
    }

    fn path(&self, _: &ClaimCase<'_>) -> Path {
        Path::through(self.path.iter().map(|corner| corner.at))
    }

    fn clear(&mut self) {
        *self = Self::default();
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(self.clone())
    }
}
