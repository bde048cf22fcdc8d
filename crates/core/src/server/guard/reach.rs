//! Reach: one claim's displacement over its ticks.

use super::case::Case;
use crate::verdict::{Evidence, Rule};

/// How far it went, along the ground, up or down: whichever is the most of what is lawful. A step up or down an edge happens at once.
pub(super) fn judge(case: &Case<'_>) -> Evidence {
    let limits = case.limits;
    let moved = case.end - case.start;
    let slack = 1.0 + limits.slack;
    let edge = case.motion.body().step + case.quantum();
    let up = limits.up * slack * case.seconds() + edge;
    let down = limits.down * slack * case.seconds() + edge;
    let ways = [(moved.level().length(), case.lawful_way()), (moved.z, up), (-moved.z, down)];
    let share = |(measured, limit): (f32, f32)| measured / limit;
    let (measured, limit) = ways.into_iter().fold(ways[0], |a, b| if share(b) > share(a) { b } else { a });
    case.evidence(Rule::Reach, measured, limit)
}
