//! Luck as a function.
//!
//! Nothing draws from a stream that others draw from too: each question ("is the input message of tick 412 on plover's
//! way up lost?") has its own answer, a function of the seed and of what is asked. Turning one knob leaves all other
//! luck as it was, so two runs can be compared.

use std::hash::Hasher;

use siphasher::sip::SipHasher13;

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

/// A few draws that belong together: SipHash-1-3 (Aumasson and Bernstein 2012) of what is asked and of the number of
/// the draw, keyed with the seed.
#[derive(Clone, Debug)]
pub struct Chance {
    asked: SipHasher13,
    drawn: u64,
}

impl Chance {
    /// The draws for one question: `place` says where (link and direction, or host), `kind` and `index` which.
    pub fn of(seed: u64, purpose: Purpose, place: u32, kind: u32, index: u64) -> Self {
        Self::of_several(seed, purpose, place, kind, index, 0)
    }

    /// The same where there are several of a kind and index.
    pub fn of_several(seed: u64, purpose: Purpose, place: u32, kind: u32, index: u64, ordinal: u32) -> Self {
        let both = |high: u32, low: u32| u64::from(high) << 32 | u64::from(low);
        let mut asked = SipHasher13::new_with_keys(seed, both(purpose as u32, place));
        // In one piece: two take more instructions.
        asked.write(&(u128::from(both(kind, ordinal)) | u128::from(index) << 64).to_le_bytes());
        Self { asked, drawn: 0 }
    }

    /// Uniform in 0..1, with 53 bits.
    pub fn uniform(&mut self) -> f64 {
        self.drawn += 1;
        self.uniform_at(self.drawn - 1)
    }

    /// Draw number `number` of these, counted from 0.
    pub fn uniform_at(&self, number: u64) -> f64 {
        let mut hasher = self.asked;
        hasher.write(&number.to_le_bytes());
        (hasher.finish() >> 11) as f64 / (1u64 << 53) as f64
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
    fn answers_are_what_they_were() {
        // Another answer is another run, and every take that was kept says that it came out otherwise.
        let mut chance = Chance::of_several(7, Purpose::Datagram, 3, 2, 412, 1);
        let bits = |x: f64| (x * (1u64 << 53) as f64) as u64;
        let drawn = [chance.uniform(), chance.uniform()].map(bits);
        let by_hand = |n: u64| {
            let mut hasher = SipHasher13::new_with_keys(7, 1 << 32 | 3);
            let bytes: Vec<u8> = [2u64 << 32 | 1, 412, n].iter().flat_map(|x| x.to_le_bytes()).collect();
            hasher.write(&bytes);
            hasher.finish() >> 11
        };
        assert_eq!(drawn, [by_hand(0), by_hand(1)]);
    }

    #[test]
    fn neighbouring_questions_have_nothing_to_do_with_each_other() {
        // Of draws a step apart in seed, place, index or number, the products of what they lie off the middle vanish.
        let of = |seed, place, index, draws: usize| {
            let mut chance = Chance::of(seed, Purpose::Datagram, place, 0, index);
            (0..draws).map(|_| chance.uniform()).last().map_or(0.0, |x| x - 0.5)
        };
        type Step = fn(&dyn Fn(u64, u32, u64, usize) -> f64, u64) -> f64;
        let steps: [Step; 4] = [
            |of, i| of(3, 0, i, 1) * of(4, 0, i, 1),
            |of, i| of(3, 0, i, 1) * of(3, 1, i, 1),
            |of, i| of(3, 0, i, 1) * of(3, 0, i + 1, 1),
            |of, i| of(3, 0, i, 1) * of(3, 0, i, 2),
        ];
        let n = 20_000;
        for step in steps {
            let mean = (0..n).map(|i| step(&of, i)).sum::<f64>() / n as f64;
            // Four deviations: each product varies by a twelfth.
            assert!(mean.abs() < 4.0 / 12.0 / libm::sqrt(n as f64), "{mean}");
        }
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
