//! Burst: what is gone beyond a pace that can be kept up is used up, and saved again by going slower. A token bucket of metres.

use super::case::{Check, ClaimCase, Finding};
use super::pace::CHORDS;
use crate::float::max;
use crate::motion::Burst as Bucket;
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Path, Rule};

/// The rule: how far it went beyond.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Burst {
    /// Where the chord began.
    last: Option<(Tick, Vec3)>,
    used: f32,
    /// Metres that were lawful since then.
    lawful: f32,
    /// What was allowed in the claim before.
    before: Option<Bucket>,
}

impl Burst {
    /// Where less is allowed than before, what was left of it is left: that of a full one as a share, or in metres, whichever is more.
    fn change(&mut self, now: Bucket) {
        if let Some(before) = self.before.replace(now).filter(|before| *before != now) {
            let left = max(before.metres - self.used, 0.0);
            let left = max(left, if before.metres > 0.0 { left / before.metres * now.metres } else { now.metres });
            self.used = max(now.metres - left, 0.0);
            // What was gone by then was gone by what held then.
            (self.last, self.lawful) = (None, 0.0);
        }
    }
}

impl Check for Burst {
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let Some(burst) = case.limits.burst else { return Finding::Nothing };
        self.change(burst);
        let (tick, at) = *self.last.get_or_insert((case.from, case.start));
        let slack = 1.0 + case.limits.slack;
        // Who is still faster than it could become here is not using anything up.
        let level = max(burst.level, case.carried);
        self.lawful += level * slack * case.seconds() + case.pushed();
        let ticks = case.tick.since(tick);
        if ticks < (i64::from(case.rate.hz()) / CHORDS).max(1) {
            return Finding::Nothing;
        }
        let lawful = self.lawful + case.rounding();
        // At least a tick's way: who slows down does not do so to the bit.
        let metres = max(burst.metres, level * case.scene.dt);
        let used = max(self.used + (case.end - at).level().length() - lawful, 0.0);
        let evidence = Evidence { from: tick, ..case.evidence(Rule::Burst, used, metres * slack + case.rounding()) };
        if evidence.is_exceeded() {
            return Finding::Beyond(Evidence { gain: max(used - burst.metres, 0.0), ..evidence }, Some(at));
        }
        (self.last, self.used, self.lawful) = (Some((case.tick, case.end)), used, 0.0);
        Finding::Within(evidence)
    }

    fn path(&self, case: &ClaimCase<'_>) -> Path {
        Path::through([self.last.map_or(case.start, |(_, at)| at), case.end])
    }

    /// What was used remains so.
    fn clear(&mut self) {
        (self.last, self.lawful) = (None, 0.0);
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}
