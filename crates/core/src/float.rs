//! Arithmetic that gives the same bits on every machine.
//!
//! Rust's `f32::min`/`max` leave the sign of zero open and std's transcendental functions are the platform's. Inside
//! a simulation only these are used; the transcendental ones come from a pinned `libm`.

use std::f32::consts::{PI, TAU};

/// The smaller of two; `a` when they are equal or not comparable.
pub fn min(a: f32, b: f32) -> f32 {
    if b < a { b } else { a }
}

/// The larger of two; `a` when they are equal or not comparable.
pub fn max(a: f32, b: f32) -> f32 {
    if b > a { b } else { a }
}

/// `x` held within `low..=high`; `low` for NaN.
pub fn clamp(x: f32, low: f32, high: f32) -> f32 {
    if x > high {
        high
    } else if x >= low {
        x
    } else {
        low
    }
}

/// The bits by which values are compared and digested: −0 becomes 0, every NaN the same NaN.
pub fn canonical_bits(x: f32) -> u32 {
    if x == 0.0 {
        0
    } else if x.is_nan() {
        0x7fc0_0000
    } else {
        x.to_bits()
    }
}

/// Less than π by more than rounding.
const WITHIN: f32 = PI - 1e-3;

/// An angle brought into −π..π.
#[inline]
pub fn wrap_angle(angle: f32) -> f32 {
    // Most lie well within, and are what they are.
    if angle > -WITHIN && angle < WITHIN {
        return angle;
    }
    wrap_far(angle)
}

fn wrap_far(angle: f32) -> f32 {
    if !angle.is_finite() {
        return 0.0;
    }
    let turns = libm::floorf((angle + PI) / TAU);
    let wrapped = angle - turns * TAU;
    if wrapped >= PI { wrapped - TAU } else { wrapped }
}

/// From `a` to `b` by `t` in 0..1; exactly `a` at 0 and `b` at 1.
#[inline]
pub fn mix(a: f32, b: f32, t: f32) -> f32 {
    if t >= 1.0 { b } else { a + (b - a) * t }
}

/// From angle `a` to angle `b` along the shorter arc.
#[inline]
pub fn mix_angle(a: f32, b: f32, t: f32) -> f32 {
    wrap_angle(a + wrap_angle(b - a) * t)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn wrapped_angles_stay_in_range_and_keep_their_direction(angle in -1000.0f32..1000.0) {
            let wrapped = wrap_angle(angle);
            prop_assert!((-PI..=PI).contains(&wrapped));
            prop_assert!((libm::cosf(wrapped) - libm::cosf(angle)).abs() < 1e-3);
            prop_assert!((libm::sinf(wrapped) - libm::sinf(angle)).abs() < 1e-3);
        }

        #[test]
        fn the_shorter_arc_is_at_most_half_a_turn(a in -PI..PI, b in -PI..PI) {
            let half_way = mix_angle(a, b, 0.5);
            prop_assert!(wrap_angle(half_way - a).abs() <= PI / 2.0 + 1e-4);
        }
    }

    #[test]
    fn zeros_and_nans_are_canonical() {
        assert_eq!(canonical_bits(-0.0), canonical_bits(0.0));
        assert_eq!(canonical_bits(f32::NAN), canonical_bits(-f32::NAN));
        assert_eq!(clamp(f32::NAN, -1.0, 1.0), -1.0);
    }
}
