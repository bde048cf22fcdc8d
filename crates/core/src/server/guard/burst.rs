//! Burst: what is gone beyond a pace that can be kept up is used up, and saved again by going slower. A token bucket of metres.

use super::case::{Case, Check, Finding};
use super::pace::CHORDS;
use crate::float::max;
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Path, Rule};

/// The rule: how far it went beyond.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Burst {
    /// Where the chord began.
    last: Option<(Tick, Vec3)>,
    used: f32,
}

impl Check for Burst {
    fn judge(&mut self, case: &Case<'_>) -> Finding {
        let Some(burst) = case.limits.burst else { return Finding::Nothing };
        let (tick, at) = *self.last.get_or_insert((case.from, case.start));
        let ticks = case.tick.since(tick);
        if ticks < (i64::from(case.rate.hz()) / CHORDS).max(1) {
            return Finding::Nothing;
        }
        let slack = 1.0 + case.limits.slack;
        let lawful = burst.level * slack * ticks as f32 * case.scene.dt + case.rounding();
        let used = max(self.used + (case.end - at).level().length() - lawful, 0.0);
        let evidence =
            Evidence { from: tick, ..case.evidence(Rule::Burst, used, burst.metres * slack + case.rounding()) };
        if evidence.is_exceeded() {
            return Finding::Beyond(Evidence { gain: used - burst.metres, ..evidence }, Some(at));
        }
        (self.last, self.used) = (Some((case.tick, case.end)), used);
        Finding::Within(evidence)
    }

    fn path(&self, case: &Case<'_>) -> Path {
        Path::through([self.last.map_or(case.start, |(_, at)| at), case.end])
    }

    /// What was used remains so.
    fn clear(&mut self) {
        self.last = None;
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}
