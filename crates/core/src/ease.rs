//! Hiding a jump of what is drawn: it keeps its old offset and lets it fade.

use crate::float::{max, wrap_angle};
use crate::tick::HostNanos;
use crate::vec3::Vec3;

/// How an offset fades.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum EaseBy {
    /// Within a set time, slowly at first and at last.
    #[default]
    Smooth,
    /// By half within a set time, and so on.
    HalfLife,
    /// At a constant speed.
    Speed,
    /// Not at all: the jump is seen.
    None,
}

impl EaseBy {
    /// All of them, the usual one of own entities first.
    pub const ALL: [Self; 4] = [Self::Smooth, Self::HalfLife, Self::Speed, Self::None];
    /// The same, the usual one of others first.
    pub const NONE_FIRST: [Self; 4] = [Self::None, Self::Smooth, Self::HalfLife, Self::Speed];
}

/// How an offset fades, with its measure.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Easing {
    /// In which way.
    pub by: EaseBy,
    /// The time it takes in all, or by half, in milliseconds; 0 shows the jump at once.
    pub ms: u32,
    /// The speed, in metres a second.
    pub speed: f32,
}

impl Default for Easing {
    fn default() -> Self {
        Self { by: EaseBy::None, ms: 0, speed: 0.0 }
    }
}

/// What is left of an offset under this many metres is not seen.
const UNSEEN_M: f32 = 0.001;

impl Easing {
    /// The share of an offset of some metres that is left after some nanoseconds, 1 to 0.
    fn left(&self, metres: f32, passed: i64) -> f32 {
        let passed = passed.max(0) as f64;
        let length = f64::from(self.ms) * 1e6;
        match self.by {
            EaseBy::Smooth if passed < length => {
                let rest = 1.0 - (passed / length) as f32;
                rest * rest * (3.0 - 2.0 * rest)
            }
            EaseBy::HalfLife if length > 0.0 => {
                let share = libm::exp2(-passed / length) as f32;
                if share * metres > UNSEEN_M { share } else { 0.0 }
            }
            EaseBy::Speed if metres > 0.0 => {
                let gone = f64::from(self.speed) * passed / 1e9;
                max(1.0 - gone as f32 / metres, 0.0)
            }
            _ => 0.0,
        }
    }
}

/// An offset of a place, and of where somebody looks, that fades out.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Ease {
    offset: Vec3,
    turn: f32,
    since: HostNanos,
    easing: Easing,
}

impl Ease {
    /// The offset at `now`: whole at first, then less and less.
    #[inline]
    pub(crate) fn offset(&self, now: HostNanos) -> Vec3 {
        if self.is_nothing() { Vec3::ZERO } else { self.offset * self.left(now) }
    }

    /// By how much more it looks to the side, in radians.
    #[inline]
    pub(crate) fn turn(&self, now: HostNanos) -> f32 {
        if self.turn == 0.0 { 0.0 } else { self.turn * self.left(now) }
    }

    #[inline]
    fn is_nothing(&self) -> bool {
        self.offset == Vec3::ZERO && self.turn == 0.0
    }

    /// Whether nothing is left of it at `now`.
    #[inline]
    pub(crate) fn is_over(&self, now: HostNanos) -> bool {
        self.is_nothing() || self.left(now) == 0.0
    }

    /// A radian counts as a metre.
    fn left(&self, now: HostNanos) -> f32 {
        self.easing.left(max(self.offset.length(), self.turn.abs()), now.since(self.since))
    }

    /// What is drawn jumped: keep drawing where it was, and let it fade, unless the whole offset exceeds `snap` metres.
    pub(crate) fn hide(&mut self, now: HostNanos, jump: Jump, easing: Easing, snap: f32) {
        let offset = self.offset(now) + jump.before - jump.after;
        let turn = wrap_angle(self.turn(now) + jump.turn);
        *self = if offset.length() > snap { Self::default() } else { Self { offset, turn, since: now, easing } };
    }

    /// Nothing is hidden any more.
    pub(crate) fn cut(&mut self) {
        *self = Self::default();
    }
}

/// A jump of what is drawn.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Jump {
    /// Where it was …
    pub(crate) before: Vec3,
    /// … and is.
    pub(crate) after: Vec3,
    /// By how much more it looked to the side before, in radians, as far as that is hidden too.
    pub(crate) turn: f32,
}

impl Jump {
    /// Whether it is one at all.
    pub(crate) fn is_one(&self) -> bool {
        self.before != self.after || self.turn != 0.0
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::vec3::vec3;

    fn jump(before: f32, after: f32) -> Jump {
        Jump { before: vec3(before, 0.0, 0.0), after: vec3(after, 0.0, 0.0), turn: 0.0 }
    }

    /// Over a tenth of a second; ten metres a second are a metre in that.
    fn by(by: EaseBy) -> Easing {
        Easing { by, ms: 100, speed: 10.0 }
    }

    fn ms(ms: i64) -> HostNanos {
        HostNanos(ms * 1_000_000)
    }

    #[test]
    fn the_drawn_position_is_continuous_and_ends_at_the_truth() {
        let mut ease = Ease::default();
        ease.hide(ms(0), jump(1.0, 0.4), by(EaseBy::Smooth), 3.0);
        assert!((ease.offset(ms(0)).x - 0.6).abs() < 1e-6);
        assert!((ease.offset(ms(50)).x - 0.3).abs() < 1e-6);
        // A second one on top starts from what is still drawn.
        ease.hide(ms(50), jump(0.4, 0.5), by(EaseBy::Smooth), 3.0);
        assert!((ease.offset(ms(50)).x - 0.2).abs() < 1e-6);
        assert_eq!(ease.offset(ms(150)), Vec3::ZERO);
    }

    #[test]
    fn by_half_at_a_speed_and_not_at_all() {
        let mut ease = Ease::default();
        let mut left = |by, at| {
            ease = Ease::default();
            ease.hide(ms(0), jump(1.0, 0.0), by, 3.0);
            ease.offset(ms(at)).x
        };
        assert_eq!((left(by(EaseBy::HalfLife), 100), left(by(EaseBy::HalfLife), 300)), (0.5, 0.125));
        assert_eq!(left(by(EaseBy::HalfLife), 1001), 0.0, "less than a millimetre is nothing");
        assert!((left(by(EaseBy::Speed), 40) - 0.6).abs() < 1e-6, "ten metres a second");
        assert_eq!(left(by(EaseBy::Speed), 101), 0.0);
        assert_eq!(left(by(EaseBy::None), 0), 0.0);
    }

    #[test]
    fn a_large_jump_is_shown_at_once() {
        let mut ease = Ease::default();
        ease.hide(ms(0), jump(9.0, 0.0), by(EaseBy::Smooth), 3.0);
        assert_eq!(ease.offset(ms(0)), Vec3::ZERO);
    }

    #[test]
    fn where_somebody_looks_turns_back_the_short_way() {
        let mut ease = Ease::default();
        ease.hide(ms(0), Jump { turn: 6.0, ..jump(0.0, 0.0) }, by(EaseBy::Smooth), 3.0);
        let turn = 6.0 - std::f32::consts::TAU;
        assert!((ease.turn(ms(0)) - turn).abs() < 1e-6 && (ease.turn(ms(50)) - turn / 2.0).abs() < 1e-6);
        assert!(!ease.is_over(ms(99)) && ease.is_over(ms(100)));
    }

    proptest! {
        #[test]
        fn however_it_fades_it_never_grows_and_comes_to_an_end(
            way in prop::sample::select(EaseBy::ALL.to_vec()), length in 0u32..5000, speed in 0.1f32..100.0, metres in 0.0f32..3.0,
        ) {
            let mut ease = Ease::default();
            ease.hide(ms(0), jump(metres, 0.0), Easing { by: way, ms: length, speed }, 5.0);
            let mut before = metres;
            for at in 0..400 {
                let left = ease.offset(ms(at * 25)).x;
                prop_assert!((0.0..=before).contains(&left), "{left} after {before}");
                before = left;
            }
            prop_assert_eq!(ease.offset(ms(60_000)), Vec3::ZERO);
        }
    }
}
