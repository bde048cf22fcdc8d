//! Teleport: whoever is elsewhere at once, and was put there by nobody.
//!
//! The server's own teleports never come to this: who is stepped is moved by the server, and who is put back answers with the pull
//! back's epoch, from the place that it names.

use super::case::{Check, ClaimCase, Finding};
use crate::float::max;
use crate::verdict::Rule;

/// The rule.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Teleport;

impl Check for Teleport {
    /// Whether a claim leads further along the ground than a second could: no haste, no bunch and no lost tick explains that.
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let way = (case.end - case.start).level().length();
        let lawful =
            case.limits.level * (1.0 + case.limits.slack) * max(case.seconds(), 1.0) + case.rounding() + case.pushed();
        match case.finding(Rule::Teleport, way, lawful) {
            Finding::Within(_) => Finding::Nothing,
            beyond => beyond,
        }
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}
