//! What a machine remembers and what a player presses, as plain lanes of 32 bits.
//!
//! A [`State`] has 32 lanes, an [`Input`] 16; both are `Copy`, so a history is an array and a checkpoint a copy. What
//! a lane means stands in the [`Schema`](crate::Schema). Integers and flags are stored as whole-numbered values of
//! their own bits, reals as `f32` bits made canonical, so equality is equality of bits.

use serde::{Deserialize, Serialize};

use crate::float::canonical_bits;
use crate::vec3::{Vec3, vec3};

/// Lanes of a [`State`].
pub const STATE_LANES: usize = 32;
/// Lanes of an [`Input`].
pub const INPUT_LANES: usize = 16;

/// N lanes of 32 bits.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(try_from = "Vec<u32>", into = "Vec<u32>")]
pub struct Lanes<const N: usize>([u32; N]);

impl<const N: usize> From<Lanes<N>> for Vec<u32> {
    /// All lanes up to the last that is not zero.
    fn from(lanes: Lanes<N>) -> Self {
        let used = lanes.0.iter().rposition(|lane| *lane != 0).map_or(0, |last| last + 1);
        lanes.0[..used].to_vec()
    }
}

impl<const N: usize> TryFrom<Vec<u32>> for Lanes<N> {
    type Error = &'static str;

    fn try_from(given: Vec<u32>) -> Result<Self, Self::Error> {
        let mut lanes = [0; N];
        let used = lanes.get_mut(..given.len()).ok_or("more lanes than there are")?;
        used.copy_from_slice(&given);
        Ok(Self(lanes))
    }
}

/// What an entity is at the end of a tick.
pub type State = Lanes<STATE_LANES>;

/// What its owner pressed for a tick.
pub type Input = Lanes<INPUT_LANES>;

impl<const N: usize> Default for Lanes<N> {
    fn default() -> Self {
        Self([0; N])
    }
}

impl<const N: usize> Lanes<N> {
    /// From the bits of all lanes. Reals must be canonical: see [`canonical_bits`](crate::canonical_bits).
    pub const fn from_bits(bits: [u32; N]) -> Self {
        Self(bits)
    }

    /// All lanes, as bits.
    pub const fn bits(&self) -> &[u32; N] {
        &self.0
    }

    /// The lane as a real number.
    pub fn real(&self, lane: usize) -> f32 {
        f32::from_bits(self.0[lane])
    }

    /// The lane as a whole number.
    pub fn int(&self, lane: usize) -> u32 {
        self.0[lane]
    }

    /// The lane as a flag.
    pub fn flag(&self, lane: usize) -> bool {
        self.0[lane] != 0
    }

    /// Three lanes as a vector.
    pub fn vec3(&self, lane: usize) -> Vec3 {
        let lanes = &self.0[lane..lane + 3];
        vec3(f32::from_bits(lanes[0]), f32::from_bits(lanes[1]), f32::from_bits(lanes[2]))
    }

    /// Sets a real lane, canonically.
    pub fn set_real(&mut self, lane: usize, x: f32) {
        self.0[lane] = canonical_bits(x);
    }

    /// Sets a whole-number lane.
    pub fn set_int(&mut self, lane: usize, x: u32) {
        self.0[lane] = x;
    }

    /// Sets a flag lane.
    pub fn set_flag(&mut self, lane: usize, x: bool) {
        self.0[lane] = u32::from(x);
    }

    /// Sets three lanes from a vector.
    pub fn set_vec3(&mut self, lane: usize, v: Vec3) {
        self.set_real(lane, v.x);
        self.set_real(lane + 1, v.y);
        self.set_real(lane + 2, v.z);
    }
}

/// A running 64-bit digest (FNV-1a over words) of what a simulation did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Digest(u64);

impl Default for Digest {
    fn default() -> Self {
        Self(0xcbf2_9ce4_8422_2325)
    }
}

impl Digest {
    /// Takes in one word.
    pub fn word(&mut self, word: u64) {
        self.0 = (self.0 ^ word).wrapping_mul(0x0000_0100_0000_01b3);
        self.0 ^= self.0 >> 29;
    }

    /// Takes in the first `used` lanes.
    pub fn lanes<const N: usize>(&mut self, lanes: &Lanes<N>, used: usize) {
        for &lane in &lanes.0[..used] {
            self.word(u64::from(lane));
        }
    }

    /// The digest so far.
    pub const fn value(self) -> u64 {
        self.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn equality_is_of_canonical_bits() {
        let (mut a, mut b) = (State::default(), State::default());
        a.set_real(3, 0.0);
        b.set_real(3, -0.0);
        assert_eq!(a, b);
        a.set_real(4, f32::NAN);
        b.set_real(4, -f32::NAN);
        assert_eq!(a, b);
        b.set_real(5, 1.0e-40);
        assert_ne!(a, b);
    }

    #[test]
    fn vectors_flags_and_counters_come_back() {
        let mut state = State::default();
        state.set_vec3(STATE_LANES - 3, vec3(1.0, -2.5, 3.25));
        state.set_flag(0, true);
        state.set_int(1, u32::MAX);
        assert_eq!(state.vec3(STATE_LANES - 3), vec3(1.0, -2.5, 3.25));
        assert!(state.flag(0) && !state.flag(2));
        assert_eq!(state.int(1), u32::MAX);
    }

    #[test]
    fn a_digest_depends_on_every_lane_used_and_on_order() {
        let digest = |lanes: &[(usize, f32)], used: usize| {
            let mut state = State::default();
            lanes.iter().for_each(|&(lane, x)| state.set_real(lane, x));
            let mut digest = Digest::default();
            digest.lanes(&state, used);
            digest.value()
        };
        assert_eq!(digest(&[(0, 1.0)], 4), digest(&[(0, 1.0)], 4));
        assert_ne!(digest(&[(0, 1.0)], 4), digest(&[(1, 1.0)], 4));
        assert_eq!(digest(&[(5, 1.0)], 4), digest(&[], 4), "beyond what is used");
    }
}
