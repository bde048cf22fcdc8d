//! Hiding a correction: the drawn position keeps its old offset and lets it fade.

use crate::tick::HostNanos;
use crate::vec3::Vec3;

/// An offset that fades out.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Ease {
    offset: Vec3,
    since: HostNanos,
    length: i64,
}

impl Ease {
    /// The offset at `now`: whole at first, smoothly to zero.
    pub(crate) fn offset(&self, now: HostNanos) -> Vec3 {
        let into = now.since(self.since);
        if into >= self.length || self.length <= 0 {
            return Vec3::ZERO;
        }
        let rest = 1.0 - (into.max(0) as f64 / self.length as f64) as f32;
        self.offset * (rest * rest * (3.0 - 2.0 * rest))
    }

    /// The simulated position jumped by `after - before`: keep drawing where it was, for `length` nanoseconds, unless
    /// the whole offset exceeds `snap` metres.
    pub(crate) fn hide(&mut self, now: HostNanos, before: Vec3, after: Vec3, length: i64, snap: f32) {
        let offset = self.offset(now) + before - after;
        *self = if offset.length() > snap { Self::default() } else { Self { offset, since: now, length } };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vec3::vec3;

    #[test]
    fn the_drawn_position_is_continuous_and_ends_at_the_truth() {
        let mut ease = Ease::default();
        ease.hide(HostNanos(0), vec3(1.0, 0.0, 0.0), vec3(0.4, 0.0, 0.0), 100, 3.0);
        assert!((ease.offset(HostNanos(0)).x - 0.6).abs() < 1e-6);
        assert!((ease.offset(HostNanos(50)).x - 0.3).abs() < 1e-6);
        // A second one on top starts from what is still drawn.
        ease.hide(HostNanos(50), vec3(0.4, 0.0, 0.0), vec3(0.5, 0.0, 0.0), 100, 3.0);
        assert!((ease.offset(HostNanos(50)).x - 0.2).abs() < 1e-6);
        assert_eq!(ease.offset(HostNanos(150)), Vec3::ZERO);
    }

    #[test]
    fn a_large_jump_is_shown_at_once() {
        let mut ease = Ease::default();
        ease.hide(HostNanos(0), vec3(9.0, 0.0, 0.0), Vec3::ZERO, 100, 3.0);
        assert_eq!(ease.offset(HostNanos(0)), Vec3::ZERO);
    }
}
