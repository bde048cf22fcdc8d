//! Growth: a field that grows at a limited rate is not suddenly larger.

use super::case::{Check, ClaimCase, Finding};
use crate::field::Shape;
use crate::float::max;
use crate::verdict::Rule;

/// The rule.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Growth;

impl Check for Growth {
    /// The field that grew by the most of what it could have since it was last told.
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let Some(told) = case.told else { return Finding::Nothing };
        let seconds = (case.ago + case.ticks()) as f32 * case.scene.dt;
        let numbers = case.motion.schema().state.iter().filter(|f| f.shape == Shape::Number);
        let shares = numbers.filter_map(|f| {
            let gain = case.limits.gains[f.lane];
            let most = gain * (1.0 + case.limits.slack) * seconds + f.wire.step();
            gain.is_finite().then(|| (told.real(f.lane) - case.before.real(f.lane)) / most)
        });
        match shares.fold(None, |most: Option<f32>, share| Some(most.map_or(share, |m| max(m, share)))) {
            Some(share) if share > 0.0 => case.finding(Rule::Growth, share, 1.0),
            _ => Finding::Nothing,
        }
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}
