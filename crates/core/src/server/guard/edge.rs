//! Edge: who rises faster than it may climbs an edge, and there must be one.

use super::case::{Check, ClaimCase, Finding};
use crate::verdict::Rule;

/// The rule.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Edge;

impl Check for Edge {
    /// How much higher it is than it could have climbed in the time: the height of an edge, on which it stands then. Over ticks of which
    /// nothing is known it may have climbed several, and have hopped from the last.
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let climbed = case.limits.up * (1.0 + case.limits.slack) * case.seconds() + case.pushed();
        let edge = case.end.z - case.start.z - climbed;
        if edge <= case.quantum() {
            return Finding::Nothing;
        }
        let tallest = case.motion.body().step * case.motion.moves() as f32;
        let most = if case.stands() { tallest } else { 0.0 } + case.quantum();
        if edge > most && case.has_hole() && edge <= tallest * case.ticks() as f32 + case.quantum() {
            return Finding::unproven(case.evidence(Rule::Edge, edge, most));
        }
        case.finding(Rule::Edge, edge, most)
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}
