//! Bits in a row, least significant first.

use super::MAX_DATAGRAM;
use super::error::WireError;

/// Writes values of 1 to 32 bits one after the other.
#[derive(Clone, Debug, Default)]
pub struct BitWriter {
    bytes: Vec<u8>,
    pending: u64,
    /// Bits pending, fewer than 64.
    held: u32,
}

impl BitWriter {
    /// An empty row with room for most messages.
    pub fn new() -> Self {
        Self { bytes: Vec::with_capacity(256), pending: 0, held: 0 }
    }

    /// Appends the low `bits` bits of `value`.
    pub fn put(&mut self, value: u32, bits: u32) {
        debug_assert!((1..=32).contains(&bits));
        self.word(u64::from(value) & ((1u64 << bits) - 1), bits);
    }

    /// Appends `bits` bits, 1 to 64, of a word that is zero above them.
    fn word(&mut self, word: u64, bits: u32) {
        self.pending |= word << self.held;
        let free = 64 - self.held;
        if bits < free {
            self.held += bits;
            return;
        }
        self.bytes.extend_from_slice(&self.pending.to_le_bytes());
        // Shifting by all 64 bits is no shift.
        self.pending = word.checked_shr(free).unwrap_or(0);
        self.held = bits - free;
    }

    /// Appends one bit.
    pub fn flag(&mut self, value: bool) {
        self.put(u32::from(value), 1);
    }

    /// Appends 64 bits.
    pub fn long(&mut self, value: u64) {
        self.word(value, 64);
    }

    /// Appends what was written before.
    pub fn append(&mut self, row: &BitRow) {
        row.words.iter().for_each(|word| self.word(*word, 64));
        if row.held > 0 {
            self.word(row.rest, row.held);
        }
    }

    /// What was written, to be appended elsewhere.
    pub fn into_row(self) -> BitRow {
        let words = self
            .bytes
            .chunks_exact(8)
            .map(|eight| eight.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte)));
        BitRow { words: words.collect(), rest: self.pending, held: self.held }
    }

    /// Bits written so far.
    pub fn len_bits(&self) -> u32 {
        self.bytes.len() as u32 * 8 + self.held
    }

    /// Pads with zeros to a whole byte, where more may follow.
    pub(super) fn pad(&mut self) {
        let over = self.held % 8;
        if over > 0 {
            self.put(0, 8 - over);
        }
    }

    /// Pads with zeros to a whole byte.
    ///
    /// # Panics
    /// When the result would not fit a datagram: what is written is bounded by construction, so that is a broken
    /// invariant.
    pub fn finish(self) -> Vec<u8> {
        let bytes = self.finish_any();
        assert!(bytes.len() <= MAX_DATAGRAM, "a datagram of {} bytes exceeds {MAX_DATAGRAM}", bytes.len());
        bytes
    }

    /// The same, however long: whoever calls it sees to it that it fits.
    pub(crate) fn finish_any(mut self) -> Vec<u8> {
        let rest = self.held.div_ceil(8) as usize;
        self.bytes.extend_from_slice(&self.pending.to_le_bytes()[..rest]);
        self.bytes
    }
}

/// Bits that were written once, to be appended to several messages.
#[derive(Clone, Debug)]
pub struct BitRow {
    words: Vec<u64>,
    /// The bits left over, and how many they are.
    rest: u64,
    held: u32,
}

impl BitRow {
    /// How many bits they are.
    pub(crate) const fn len_bits(&self) -> u32 {
        self.words.len() as u32 * 64 + self.held
    }
}

/// Bits that are known to be there.
pub(super) struct BitsAhead<'a> {
    rest: &'a [u8],
    window: u64,
    /// Bits in the window.
    held: u32,
}

impl BitsAhead<'_> {
    /// Takes the next four bytes into the window, which holds at most 32 bits; beyond the end are zeros that nobody asks for.
    fn fill(&mut self) {
        let (next, rest) = match self.rest.split_first_chunk::<4>() {
            Some((four, rest)) => (u32::from_le_bytes(*four), rest),
            None => (self.rest.iter().rev().fold(0, |word, &byte| word << 8 | u32::from(byte)), &[][..]),
        };
        self.window |= u64::from(next) << self.held;
        (self.held, self.rest) = (self.held + 32, rest);
    }

    /// Passes the next `bits` bits, 1 to 32. They are the low ones of what is given back.
    #[inline]
    fn pass(&mut self, bits: u32) -> u64 {
        if self.held < bits {
            self.fill();
        }
        let window = self.window;
        self.window >>= bits;
        self.held -= bits;
        window
    }

    /// The next `bits` bits, 1 to 32.
    #[inline]
    pub(super) fn take(&mut self, bits: u32) -> u32 {
        (self.pass(bits) & ((1u64 << bits) - 1)) as u32
    }

    /// The next `bits` bits, 1 to 32, as a number in two's complement.
    #[inline]
    pub(super) fn take_signed(&mut self, bits: u32) -> i32 {
        let above = 64 - bits;
        ((self.pass(bits) << above) as i64 >> above) as i32
    }
}

/// Reads what a [`BitWriter`] wrote.
#[derive(Clone, Copy, Debug)]
pub struct BitReader<'a> {
    bytes: &'a [u8],
    at: u32,
}

impl<'a> BitReader<'a> {
    /// A reader at the first bit.
    pub const fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, at: 0 }
    }

    /// Bits not yet read.
    pub const fn left(&self) -> u32 {
        self.bytes.len() as u32 * 8 - self.at
    }

    /// The next `bits` bits, 1 to 32.
    ///
    /// # Errors
    /// [`WireError::Short`] when fewer are left.
    #[inline]
    pub fn take(&mut self, bits: u32) -> Result<u32, WireError> {
        debug_assert!((1..=32).contains(&bits));
        // Eight bytes from the first one hold any 32 bits.
        let Some(eight) = self.bytes.get((self.at / 8) as usize..).and_then(|rest| rest.first_chunk::<8>()) else {
            return self.take_near_the_end(bits);
        };
        let value = u64::from_le_bytes(*eight) >> (self.at % 8) & ((1u64 << bits) - 1);
        self.at += bits;
        Ok(value as u32)
    }

    /// The same where fewer than eight bytes are left: what is missing is zero and not asked for.
    fn take_near_the_end(&mut self, bits: u32) -> Result<u32, WireError> {
        if bits > self.left() {
            return Err(WireError::Short { wanted: bits, left: self.left() });
        }
        let rest = &self.bytes[(self.at / 8) as usize..];
        let window = rest.iter().rev().fold(0, |window, &byte| window << 8 | u64::from(byte));
        let value = window >> (self.at % 8) & ((1u64 << bits) - 1);
        self.at += bits;
        Ok(value as u32)
    }

    /// The next `bits` bits, to be taken piece by piece without checking again that they are there.
    ///
    /// # Errors
    /// [`WireError::Short`] when fewer are left.
    pub(super) fn row(&mut self, bits: u32) -> Result<BitsAhead<'a>, WireError> {
        if bits > self.left() {
            return Err(WireError::Short { wanted: bits, left: self.left() });
        }
        let (begin, skipped) = ((self.at / 8) as usize, self.at % 8);
        self.at += bits;
        let mut row = BitsAhead { rest: &self.bytes[begin..], window: 0, held: 0 };
        row.fill();
        row.window >>= skipped;
        row.held = row.held.saturating_sub(skipped);
        Ok(row)
    }

    /// Passes the noughts up to the next one, at most so many, and that one; says how many they were.
    ///
    /// # Errors
    /// [`WireError::Short`] at the end, and where there are more.
    pub(super) fn noughts(&mut self, most: u32) -> Result<u32, WireError> {
        let mut count = 0;
        while !self.flag()? {
            count += 1;
            if count > most {
                return Err(WireError::Count { what: "length of a difference", found: count, least: 0, most });
            }
        }
        Ok(count)
    }

    /// The next bit.
    ///
    /// # Errors
    /// [`WireError::Short`] at the end.
    pub fn flag(&mut self) -> Result<bool, WireError> {
        Ok(self.take(1)? != 0)
    }

    /// The next 64 bits.
    ///
    /// # Errors
    /// [`WireError::Short`] when fewer are left.
    pub fn long(&mut self) -> Result<u64, WireError> {
        Ok(u64::from(self.take(32)?) | u64::from(self.take(32)?) << 32)
    }

    /// Whether only zero padding of less than a byte is left.
    pub fn is_finished(&self) -> bool {
        let mut rest = *self;
        self.left() < 8 && (self.left() == 0 || rest.take(self.left()) == Ok(0))
    }
}
