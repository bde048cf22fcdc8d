//! Reach: one claim's displacement over its ticks.

use super::case::{Check, ClaimCase, Finding};
use crate::verdict::Rule;

/// The rule.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Reach;

impl Check for Reach {
    /// How far it went along the ground or down, whichever is the most of what is lawful. A step down an edge happens at once; up is
    /// [`Edge`](super::edge::Edge)'s.
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let moved = case.end - case.start;
        let fall = case.limits.down * (1.0 + case.limits.slack) * case.seconds();
        let down = (-moved.z, fall + case.motion.body().step + case.quantum() + case.pushed());
        let level = (moved.level().length(), case.lawful_way());
        let (measured, limit) = if down.0 / down.1 > level.0 / level.1 { down } else { level };
        case.finding(Rule::Reach, measured, limit)
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}
