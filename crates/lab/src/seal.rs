//! Lines with a checksum each.
//!
//! A line is eight hexadecimal digits, a space, a text without a line break, and a line break. The digits are the CRC-32
//! (ISO-HDLC, as in gzip and PNG) of the texts of all lines so far with their line breaks: a line that is changed, missing or
//! cut short is noticed, and so is everything behind it.

use crc32fast::Hasher;

/// Digits of a checksum, and the space behind them.
const HEAD: usize = 9;

/// Seals line after line of one file, or follows how another was sealed.
#[derive(Clone, Debug, Default)]
pub(crate) struct Seal {
    so_far: Hasher,
}

/// Why a line is not sound.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Unsound {
    /// It does not end, or has no checksum.
    Cut,
    /// Its checksum is another than that of what it says.
    Checksum {
        /// What the line says.
        said: u32,
        /// What it should say.
        is: u32,
    },
}

impl Seal {
    /// The next line.
    pub(crate) fn line(&mut self, text: &str) -> String {
        format!("{:08x} {text}\n", self.next(text.as_bytes()))
    }

    fn next(&mut self, text: &[u8]) -> u32 {
        self.so_far.update(text);
        self.so_far.update(b"\n");
        self.so_far.clone().finalize()
    }

    /// The text of the next line, given with its line break.
    pub(crate) fn open<'a>(&mut self, line: &'a [u8]) -> Result<&'a str, Unsound> {
        let line = line.strip_suffix(b"\n").ok_or(Unsound::Cut)?;
        let said = checksum(line).ok_or(Unsound::Cut)?;
        let text = &line[HEAD..];
        let is = self.next(text);
        if said != is {
            return Err(Unsound::Checksum { said, is });
        }
        // Whoever seals bytes that are no text means no take.
        std::str::from_utf8(text).map_err(|_| Unsound::Cut)
    }
}

/// The checksum that a line begins with.
fn checksum(line: &[u8]) -> Option<u32> {
    let head = line.get(..HEAD)?.strip_suffix(b" ")?;
    let is_digit = |b: &u8| matches!(b, b'0'..=b'9' | b'a'..=b'f');
    if !head.iter().all(is_digit) {
        return None;
    }
    u32::from_str_radix(std::str::from_utf8(head).ok()?, 16).ok()
}

/// Whether a file that begins with these bytes is meant to be a take.
pub fn is_take(bytes: &[u8]) -> bool {
    checksum(bytes).is_some() && bytes[HEAD..].starts_with(b"{\"take\":")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_checksum_is_that_of_gzip() {
        // As `printf "123456789\n" | gzip` has it.
        assert_eq!(Seal::default().line("123456789"), "e0117757 123456789\n");
    }

    proptest! {
        #[test]
        fn what_was_sealed_opens_and_any_other_byte_does_not(
            texts in proptest::collection::vec("[ -~]{0,40}", 1..6), place in any::<prop::sample::Index>(), other in 1u8..,
        ) {
            let mut seal = Seal::default();
            let lines: Vec<String> = texts.iter().map(|text| seal.line(text)).collect();
            let mut seal = Seal::default();
            for (line, text) in lines.iter().zip(&texts) {
                prop_assert_eq!(seal.open(line.as_bytes()), Ok(text.as_str()));
            }
            let mut all = lines.concat().into_bytes();
            let place = place.index(all.len());
            all[place] ^= other;
            let mut seal = Seal::default();
            let sound = all.split_inclusive(|b| *b == b'\n').take_while(|line| seal.open(line).is_ok()).count();
            let damaged = lines.iter().scan(0, |end, line| { *end += line.len(); Some(*end) }).position(|end| place < end);
            prop_assert_eq!(Some(sound), damaged, "sound up to the line of the changed byte, and no further");
        }
    }
}
