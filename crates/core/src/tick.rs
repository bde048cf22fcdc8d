//! Counting ticks and telling time.
//!
//! A [`Tick`] never wraps; a [`WireTick`] is its low 16 bits and is unwrapped against the tick the *local clock*
//! expects, so that neither a long silence nor an old packet can bend the count. [`HostNanos`] is a reading of one
//! machine's own clock: it is handed in, never asked for. Two machines' readings must not be compared.

use std::fmt;

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// The number of a simulation step. `state[t] = step(state[t - 1], input[t])`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Tick(pub u64);

impl Tick {
    /// The low 16 bits, as they travel.
    pub const fn wire(self) -> WireTick {
        WireTick(self.0 as u16)
    }

    /// The tick after this one.
    #[must_use]
    pub const fn next(self) -> Self {
        Self(self.0 + 1)
    }

    /// The tick before this one; tick 0 stays.
    #[must_use]
    pub const fn prev(self) -> Self {
        Self(self.0.saturating_sub(1))
    }

    /// This tick moved by `ticks`, stopping at 0.
    #[must_use]
    pub const fn offset(self, ticks: i64) -> Self {
        Self(self.0.saturating_add_signed(ticks))
    }

    /// Signed distance `self - earlier` in ticks.
    pub const fn since(self, earlier: Self) -> i64 {
        self.0.wrapping_sub(earlier.0) as i64
    }
}

impl fmt::Display for Tick {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&self.0, f)
    }
}

/// How far from the expected tick a wire tick may lie, either way. Beyond it the order of 16-bit numbers
/// (RFC 1982, half of the number space) would soon be a guess, so the tick is refused.
pub const WIRE_REACH: u64 = 16_384;

/// A tick number modulo 2^16, as sent in datagrams.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct WireTick(pub u16);

/// A wire tick lies too far from the tick expected now to be told apart from another.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("wire tick {wire} is {distance} ticks from the expected tick {expected}; at most 16384 can be told apart")]
pub struct TickOutOfReach {
    /// The 16 bits received.
    pub wire: u16,
    /// What the local clock expected.
    pub expected: u64,
    /// Signed distance under serial-number arithmetic.
    pub distance: i64,
}

impl WireTick {
    /// The full tick nearest to `expected` (serial-number arithmetic, RFC 1982).
    ///
    /// # Errors
    /// When it lies more than [`WIRE_REACH`] away, or before tick 0.
    ///
    /// ```
    /// use velocitas_core::{Tick, WireTick};
    /// assert_eq!(WireTick(2).unwrap_near(Tick(65_530)), Ok(Tick(65_538)));
    /// ```
    pub fn unwrap_near(self, expected: Tick) -> Result<Tick, TickOutOfReach> {
        let distance = i64::from(self.0.wrapping_sub(expected.wire().0) as i16);
        let refused = TickOutOfReach { wire: self.0, expected: expected.0, distance };
        if distance.unsigned_abs() > WIRE_REACH {
            return Err(refused);
        }
        expected.0.checked_add_signed(distance).map(Tick).ok_or(refused)
    }
}

/// A reading of one machine's clock, in nanoseconds since an origin only that machine knows.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct HostNanos(pub i64);

impl HostNanos {
    /// Nanoseconds from `earlier` to `self`; negative if it is later.
    pub const fn since(self, earlier: Self) -> i64 {
        self.0.wrapping_sub(earlier.0)
    }

    /// This reading moved by `nanos`.
    #[must_use]
    pub const fn plus(self, nanos: i64) -> Self {
        Self(self.0.wrapping_add(nanos))
    }
}

/// Ticks per second, 1 to 1000.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rate(u32);

impl Rate {
    /// `None` unless `per_second` is within 1 to 1000.
    pub const fn new(per_second: u32) -> Option<Self> {
        if per_second >= 1 && per_second <= 1000 { Some(Self(per_second)) } else { None }
    }

    /// Ticks per second.
    pub const fn hz(self) -> u32 {
        self.0
    }

    /// Length of a tick in seconds: the `dt` of every step.
    pub fn dt(self) -> f32 {
        (1.0 / f64::from(self.0)) as f32
    }

    /// Length of a tick in whole nanoseconds, rounded down; only for limits, never for adding up.
    pub const fn nanos(self) -> i64 {
        1_000_000_000 / self.0 as i64
    }

    /// When the n-th tick after the origin is due: floor(n × 10⁹ / rate), with no accumulated rounding. Nanoseconds
    /// hold 292 years.
    pub const fn due(self, n: u64) -> i64 {
        (n as u128 * 1_000_000_000 / self.0 as u128) as i64
    }

    /// How many whole ticks lie in `millis` milliseconds.
    pub const fn ticks_of(self, millis: u32) -> u32 {
        (millis as u64 * self.0 as u64 / 1000) as u32
    }

    /// The largest n with `due(n) <= elapsed`; 0 for negative times.
    pub const fn ticks_in(self, elapsed: i64) -> u64 {
        if elapsed < 0 {
            return 0;
        }
        let product = (elapsed as u128 + 1) * self.0 as u128;
        (product.div_ceil(1_000_000_000) - 1) as u64
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn unwrapping_returns_every_tick_within_reach(expected in 0u64..1 << 40, distance in -16_384i64..=16_384) {
            prop_assume!(expected as i64 + distance >= 0);
            let truth = Tick(expected).offset(distance);
            prop_assert_eq!(truth.wire().unwrap_near(Tick(expected)), Ok(truth));
        }

        #[test]
        fn unwrapping_refuses_what_lies_beyond_reach(expected in 1u64 << 20..1 << 40, beyond in 16_385i64..=32_767, ahead: bool) {
            let distance = if ahead { beyond } else { -beyond };
            prop_assert!(Tick(expected).offset(distance).wire().unwrap_near(Tick(expected)).is_err());
        }

        #[test]
        fn ticks_in_is_the_inverse_of_due(hz in 1u32..=1000, n in 0u64..1 << 32) {
            let rate = Rate::new(hz).unwrap();
            prop_assert_eq!(rate.ticks_in(rate.due(n)), n);
            prop_assert_eq!(rate.ticks_in(rate.due(n + 1) - 1), n);
        }
    }

    #[test]
    fn a_tick_before_zero_is_refused() {
        assert!(WireTick(65_535).unwrap_near(Tick(3)).is_err());
    }
}
