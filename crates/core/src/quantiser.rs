//! One number in a fixed count of bits.

use crate::float::clamp;

/// Rounds to multiples of a step and holds within what the bits can count.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Quantiser {
    step: f32,
    bits: u32,
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
        let steps = clamp(libm::roundf(x / self.step), -self.top() - 1.0, self.top());
        (steps as i32 as u32) & ((1 << self.bits) - 1)
    }

    /// From the whole number that travelled.
    pub fn decode(self, code: u32) -> f32 {
        let shift = 32 - self.bits;
        let steps = ((code << shift) as i32) >> shift;
        steps as f32 * self.step
    }

    /// To the nearest value that can travel.
    pub fn round(self, x: f32) -> f32 {
        self.decode(self.encode(x))
    }
}
