//! Luck as a function.
//!
//! Nothing draws from a stream that others draw from too: each question ("is the input message of tick 412 on plover's
//! way up lost?") has its own answer, a function of the seed and of what is asked. Turning one knob leaves all other
//! luck as it was, so two runs can be compared.

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

/// What a draw is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// A datagram's fate on a link.
    Datagram = 1,
    /// The slow wandering of a link's delay.
    Jitter = 2,
    /// A host's frame.
    Frame = 3,
    /// A search for inputs that exceed a limit.
    Attack = 4,
    /// When a bot's hands move.
    Hands = 5,
    /// When bursts of loss and outages begin and end.
    Spells = 6,
}

/// A few draws that belong together.
#[derive(Clone, Debug)]
pub struct Chance(ChaCha8Rng);

impl Chance {
    /// The draws for one question: `place` says where (link and direction, or host), `kind` and `index` which.
    pub fn of(seed: u64, purpose: Purpose, place: u32, kind: u32, index: u64) -> Self {
        Self::of_several(seed, purpose, place, kind, index, 0)
    }

    /// The same where there are several of a kind and index.
    pub fn of_several(seed: u64, purpose: Purpose, place: u32, kind: u32, index: u64, ordinal: u32) -> Self {
        let mut key = [0; 32];
        key[..8].copy_from_slice(&seed.to_le_bytes());
        key[8..12].copy_from_slice(&(purpose as u32).to_le_bytes());
        key[12..16].copy_from_slice(&place.to_le_bytes());
        key[16..20].copy_from_slice(&kind.to_le_bytes());
        key[20..24].copy_from_slice(&ordinal.to_le_bytes());
        key[24..].copy_from_slice(&index.to_le_bytes());
        Self(ChaCha8Rng::from_seed(key))
    }

    /// Uniform in 0..1, with 53 bits.
    pub fn uniform(&mut self) -> f64 {
        (self.0.next_u64() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Normal with mean 0 and deviation 1 (Box and Muller 1958).
    pub fn normal(&mut self) -> f64 {
        let (u, v) = (1.0 - self.uniform(), self.uniform());
        libm::sqrt(-2.0 * libm::log(u)) * libm::cos(std::f64::consts::TAU * v)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_question_has_the_same_answer_and_others_differ() {
        let ask = |seed, place, index| Chance::of(seed, Purpose::Datagram, place, 0, index).uniform();
        assert_eq!(ask(7, 1, 5), ask(7, 1, 5));
        assert!([ask(8, 1, 5), ask(7, 2, 5), ask(7, 1, 6)].iter().all(|&other| other != ask(7, 1, 5)));
    }

    #[test]
    fn draws_have_the_moments_they_should() {
        let n = 20_000;
        let mut uniform = 0.0;
        let (mut sum, mut squares) = (0.0, 0.0);
        for i in 0..n {
            let mut chance = Chance::of(3, Purpose::Jitter, 0, 0, i);
            uniform += chance.uniform();
            let z = chance.normal();
            sum += z;
            squares += z * z;
        }
        let n = n as f64;
        assert!((uniform / n - 0.5).abs() < 0.01);
        assert!((sum / n).abs() < 0.02 && (squares / n - 1.0).abs() < 0.03);
    }
}
