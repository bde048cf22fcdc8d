//! One number in a fixed count of bits.

use serde::{Deserialize, Serialize};

use crate::float::clamp;

/// Rounds to multiples of a step and holds within what the bits can count.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "(f32, u32)", into = "(f32, u32)")]
pub struct Quantiser {
    step: f32,
    bits: u32,
}

impl From<Quantiser> for (f32, u32) {
    fn from(it: Quantiser) -> Self {
        (it.step, it.bits)
    }
}

impl TryFrom<(f32, u32)> for Quantiser {
    type Error = &'static str;

    fn try_from((step, bits): (f32, u32)) -> Result<Self, Self::Error> {
        if (2..=24).contains(&bits) && step.is_finite() && step > 0.0 {
            Ok(Self { step, bits })
        } else {
            Err("expected a positive step and 2 to 24 bits")
        }
    }
}

impl Quantiser {
    /// Steps of `step` in `bits` bits (2 to 24), centred on zero.
    pub const fn new(step: f32, bits: u32) -> Self {
        assert!(bits >= 2 && bits <= 24 && step > 0.0, "2 to 24 bits and a positive step");
        Self { step, bits }
    }

    /// The step: neighbouring values differ by this.
    pub const fn step(self) -> f32 {
        self.step
    }

    /// Bits on the wire.
    pub const fn bits(self) -> u32 {
        self.bits
    }

    /// The largest magnitude it can carry.
    pub fn reach(self) -> f32 {
        self.step * self.top()
    }

    fn top(self) -> f32 {
        ((1u32 << (self.bits - 1)) - 1) as f32
    }

    /// As the whole number that travels. What lies out of reach becomes the end of the range.
    pub fn encode(self, x: f32) -> u32 {
        (self.steps(x) as u32) & ((1 << self.bits) - 1)
    }

    /// As a number of steps.
    pub(crate) fn steps(self, x: f32) -> i32 {
        let steps = clamp(x / self.step, -self.top() - 1.0, self.top());
        // To the nearest, halves away from zero: of 24 bits both parts are exact.
        let whole = steps as i32;
        let rest = steps - whole as f32;
        whole + i32::from(rest >= 0.5) - i32::from(rest <= -0.5)
    }

    /// From the whole number that travelled.
    pub fn decode(self, code: u32) -> f32 {
        let shift = 32 - self.bits;
        self.of_steps(((code << shift) as i32) >> shift)
    }

    /// From a number of steps.
    pub(crate) fn of_steps(self, steps: i32) -> f32 {
        steps as f32 * self.step
    }

    /// To the nearest value that can travel.
    pub fn round(self, x: f32) -> f32 {
        self.decode(self.encode(x))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn halves_go_away_from_zero_and_what_is_out_of_reach_to_the_end() {
        let q = Quantiser::new(1.0, 4);
        let rounded = [0.5, -0.5, 0.499_999_97, 2.5, -7.5, 7.5, 1e9, -1e9, f32::NAN].map(|x| q.round(x));
        assert_eq!(rounded, [1.0, -1.0, 0.0, 3.0, -8.0, 7.0, 7.0, -8.0, -8.0]);
    }

    proptest! {
        #[test]
        fn it_rounds_as_the_library_does(x in -70_000.0f32..70_000.0, step in 0.001f32..2.0, bits in 2u32..=24) {
            let q = Quantiser::new(step, bits);
            let steps = clamp(libm::roundf(x / step), -q.top() - 1.0, q.top());
            prop_assert_eq!(q.decode(q.encode(x)), steps * step);
        }
    }
}
