//! A range coder: numbers that are frequent take less than a bit each.
//!
//! Every decision is between two, with a probability that begins where a table has it and follows what is seen within a datagram; each datagram begins
//! anew, so that nothing lost can break another. After G. N. N. Martin, "Range encoding", 1979; with carries held back as they are in common compressors.

/// Probabilities are in these parts.
pub(super) const WHOLE: u32 = 1 << BITS;
const BITS: u32 = 12;
/// How quickly they follow: by the 2^-n-th part of what is left.
const FOLLOWS: u32 = 4;
/// Below this range another byte is settled.
const LEAST: u32 = 1 << 24;

/// How probable a no is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Chance(pub(super) u16);

impl Chance {
    const fn follow(&mut self, yes: bool) {
        if yes {
            self.0 -= self.0 >> FOLLOWS;
        } else {
            self.0 += (WHOLE as u16 - self.0) >> FOLLOWS;
        }
    }
}

/// Writes decisions.
#[derive(Clone, Debug)]
pub(super) struct Encoder {
    low: u64,
    range: u32,
    /// The last byte that a carry may still change, once there is one, and how many behind it are all ones.
    held: Option<u8>,
    ones: usize,
    out: Vec<u8>,
}

impl Encoder {
    pub(super) fn new() -> Self {
        Self { low: 0, range: u32::MAX, held: None, ones: 0, out: Vec::with_capacity(128) }
    }

    /// A decision.
    pub(super) fn bit(&mut self, chance: &mut Chance, yes: bool) {
        let bound = (self.range >> BITS) * u32::from(chance.0);
        if yes {
            self.low += u64::from(bound);
            self.range -= bound;
        } else {
            self.range = bound;
        }
        chance.follow(yes);
        self.settle();
    }

    /// Bits of which each is as probable as not.
    pub(super) fn plain(&mut self, value: u32, bits: u32) {
        for bit in (0..bits).rev() {
            self.range >>= 1;
            if value >> bit & 1 != 0 {
                self.low += u64::from(self.range);
            }
            self.settle();
        }
    }

    fn settle(&mut self) {
        while self.range < LEAST {
            self.shift();
            self.range <<= 8;
        }
    }

    /// The highest byte is settled, but for a carry.
    fn shift(&mut self) {
        let (byte, carry) = ((self.low >> 24) as u8, self.low >> 32 != 0);
        if byte != 0xff || carry {
            if let Some(held) = self.held {
                self.out.push(held.wrapping_add(u8::from(carry)));
            }
            let ones = if carry { 0 } else { 0xff };
            self.out.extend(std::iter::repeat_n(ones, std::mem::take(&mut self.ones)));
            self.held = Some(byte);
        } else {
            self.ones += 1;
        }
        self.low = self.low << 8 & 0xffff_ffff;
    }

    /// All of it, in as few bytes as tell it from all else: what a reader finds missing it takes for noughts.
    pub(super) fn finish(mut self) -> Vec<u8> {
        // The number in the range that ends in most noughts.
        let end = self.low + u64::from(self.range);
        for noughts in (0..32).rev() {
            let up = (self.low + (1 << noughts) - 1) >> noughts << noughts;
            if up < end {
                self.low = up;
                break;
            }
        }
        (0..5).for_each(|_| self.shift());
        while self.out.last() == Some(&0) {
            self.out.pop();
        }
        self.out
    }
}

/// Reads them. Any bytes give decisions; whether they are as many as were written is to be seen by whether all bytes are used.
#[derive(Clone, Debug)]
pub(super) struct Decoder<'a> {
    bytes: &'a [u8],
    at: usize,
    code: u32,
    range: u32,
}

impl<'a> Decoder<'a> {
    pub(super) fn new(bytes: &'a [u8]) -> Self {
        let mut decoder = Self { bytes, at: 0, code: 0, range: u32::MAX };
        (0..4).for_each(|_| decoder.next());
        decoder
    }

    fn next(&mut self) {
        self.code = self.code << 8 | u32::from(self.bytes.get(self.at).copied().unwrap_or(0));
        self.at += 1;
    }

    pub(super) fn bit(&mut self, chance: &mut Chance) -> bool {
        let bound = (self.range >> BITS) * u32::from(chance.0);
        let yes = self.code >= bound;
        if yes {
            self.code -= bound;
            self.range -= bound;
        } else {
            self.range = bound;
        }
        chance.follow(yes);
        self.settle();
        yes
    }

    pub(super) fn plain(&mut self, bits: u32) -> u32 {
        let mut value = 0;
        for _ in 0..bits {
            self.range >>= 1;
            let yes = self.code >= self.range;
            if yes {
                self.code -= self.range;
            }
            value = value << 1 | u32::from(yes);
            self.settle();
        }
        value
    }

    fn settle(&mut self) {
        while self.range < LEAST {
            self.next();
            self.range <<= 8;
        }
    }

    /// Bits that lie behind all that was read: none of ours has any.
    pub(super) fn left(&self) -> u32 {
        self.bytes.len().saturating_sub(self.at) as u32 * 8
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[derive(Clone, Debug)]
    enum Step {
        Bit(usize, bool),
        Plain(u32, u32),
    }

    fn step() -> impl Strategy<Value = Step> {
        prop_oneof![
            4 => (0usize..4, prop::bool::weighted(0.1)).prop_map(|(of, yes)| Step::Bit(of, yes)),
            1 => (any::<u32>(), 1u32..=32).prop_map(|(value, bits)| Step::Plain(value, bits)),
            1 => Just(Step::Plain(u32::MAX, 32)),
            1 => Just(Step::Plain(0, 32)),
        ]
    }

    const fn chances() -> [Chance; 4] {
        [Chance(2048), Chance(31), Chance(4000), Chance(1000)]
    }

    proptest! {
        #[test]
        fn what_was_written_is_read_and_all_of_it(steps in prop::collection::vec(step(), 0..300)) {
            let (mut encoder, mut there) = (Encoder::new(), chances());
            for step in &steps {
                match step {
                    Step::Bit(of, yes) => encoder.bit(&mut there[*of], *yes),
                    Step::Plain(value, bits) => encoder.plain(*value, *bits),
                }
            }
            let bytes = encoder.finish();
            let (mut decoder, mut here) = (Decoder::new(&bytes), chances());
            for step in &steps {
                match step {
                    Step::Bit(of, yes) => prop_assert_eq!(decoder.bit(&mut here[*of]), *yes),
                    Step::Plain(value, bits) => {
                        prop_assert_eq!(u64::from(decoder.plain(*bits)), u64::from(*value) & ((1u64 << bits) - 1));
                    }
                }
            }
            prop_assert_eq!(decoder.left(), 0);
        }
    }

    #[test]
    fn what_is_frequent_takes_little_and_the_end_hardly_anything() {
        let bytes = |steps: u32| {
            let (mut encoder, mut chance) = (Encoder::new(), Chance(4000));
            (0..steps).for_each(|_| encoder.bit(&mut chance, false));
            encoder.finish().len()
        };
        assert_eq!(bytes(20), 0, "noughts are what is missing");
        let (mut encoder, mut chance) = (Encoder::new(), Chance(4000));
        (0..200).for_each(|i| encoder.bit(&mut chance, i == 100));
        assert!(encoder.finish().len() <= 3);
    }
}
