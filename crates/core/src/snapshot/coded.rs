//! Differences through the range coder: the model of what is frequent.
//!
//! A difference is first whether there is any, then its length in unary, then its highest bit behind the first; what is below is as good as chance. Each
//! class of lanes has chances of its own, which begin in every datagram as [trained](super::trained).

use super::chances::{Chances, LENGTHS};
use super::coder::{Coder, Question};
use super::range::{Chance, Decoder, Encoder, WHOLE};
use super::trained::TRAINED;
use crate::ids::EntityId;
use crate::plan::LaneClass;
use crate::wire::{FieldValue, LaneCoder, Passed, WireError, WireField};

/// The case of a difference beside it: none, of few bits, of more.
const fn case(beside: u32) -> usize {
    match beside {
        0 => 0,
        1..=14 => 1,
        _ => 2,
    }
}

/// Bits of the longest difference.
const LONGEST: u32 = 32;

/// Decides one way or the other, by a chance.
pub(super) trait Decide {
    const READS: bool;
    fn decide(&mut self, chance: &mut Chance, yes: bool) -> bool;
    fn plain(&mut self, value: u32, bits: u32) -> u32;
}

impl Decide for Encoder {
    const READS: bool = false;

    fn decide(&mut self, chance: &mut Chance, yes: bool) -> bool {
        self.bit(chance, yes);
        yes
    }

    fn plain(&mut self, value: u32, bits: u32) -> u32 {
        Self::plain(self, value, bits);
        value
    }
}

impl Decide for Decoder<'_> {
    const READS: bool = true;

    fn decide(&mut self, chance: &mut Chance, _: bool) -> bool {
        self.bit(chance)
    }

    fn plain(&mut self, _: u32, bits: u32) -> u32 {
        Self::plain(self, bits)
    }
}

/// Reads, and notes what everything took.
pub(super) struct Metered<'a> {
    decoder: Decoder<'a>,
    /// In parts of a bit, and how many whole ones of them are noted.
    cost: u64,
    told: u64,
}

/// Parts of a bit.
const PARTS: f64 = 65_536.0;

impl Decide for Metered<'_> {
    const READS: bool = true;

    fn decide(&mut self, chance: &mut Chance, _: bool) -> bool {
        let no = f64::from(chance.0) / f64::from(WHOLE);
        let yes = self.decoder.bit(chance);
        self.cost += (-libm::log2(if yes { 1.0 - no } else { no }) * PARTS) as u64;
        yes
    }

    fn plain(&mut self, _: u32, bits: u32) -> u32 {
        self.cost += u64::from(bits) * PARTS as u64;
        self.decoder.plain(bits)
    }
}

/// A number from one on, by the chances of its length and of its highest bit.
fn number<D: Decide>(by: &mut D, value: u32, longer: &mut [Chance], high: &mut [Chance]) -> Result<u32, WireError> {
    let mut length = 0;
    let known = 31 - (value | 1).leading_zeros();
    while by.decide(&mut longer[(length as usize).min(LENGTHS - 1)], length < known) {
        length += 1;
        if length >= LONGEST {
            return Err(WireError::Count {
                what: "length of a difference",
                found: length,
                least: 0,
                most: LONGEST - 1,
            });
        }
    }
    if length == 0 {
        return Ok(1);
    }
    let below = length - 1;
    let first = by.decide(&mut high[(length as usize).min(LENGTHS - 1)], value >> below & 1 != 0);
    let rest = if below > 0 { by.plain(value & ((1 << below) - 1), below) } else { 0 };
    Ok(1 << length | u32::from(first) << below | rest)
}

/// Everything through a range coder.
pub(super) struct Coded<D> {
    by: D,
    chances: Box<Chances>,
    noted: Vec<WireField>,
}

impl Coded<Encoder> {
    pub(super) fn writing() -> Self {
        Self { by: Encoder::new(), chances: Box::new(TRAINED), noted: Vec::new() }
    }

    pub(super) fn finish(self) -> Vec<u8> {
        self.by.finish()
    }
}

#[cfg(test)]
impl<D> Coded<D> {
    /// With something that counts.
    pub(super) fn counting(by: D) -> Self {
        Self { by, chances: Box::new(TRAINED), noted: Vec::new() }
    }

    /// The chances, where they have lain all the time.
    pub(super) fn into_chances(self) -> Box<Chances> {
        self.chances
    }
}

impl<'a> Coded<Decoder<'a>> {
    pub(super) fn reading(bytes: &'a [u8]) -> Self {
        Self { by: Decoder::new(bytes), chances: Box::new(TRAINED), noted: Vec::new() }
    }

    /// Bits that lie behind all that was read.
    pub(super) fn left(&self) -> u32 {
        self.by.left()
    }
}

impl<'a> Coded<Metered<'a>> {
    pub(super) fn noting(bytes: &'a [u8]) -> Self {
        let by = Metered { decoder: Decoder::new(bytes), cost: 0, told: 0 };
        Self { by, chances: Box::new(TRAINED), noted: Vec::new() }
    }

    /// What was noted; what pads the last byte is noted at the end.
    pub(super) fn noted(mut self, bytes: &[u8]) -> Result<Vec<WireField>, u32> {
        if self.by.decoder.left() > 0 {
            return Err(self.by.decoder.left());
        }
        let all = bytes.len() as u64 * 8;
        if all > self.by.told {
            let rest = (all - self.by.told) as u32;
            self.noted.push(WireField::new("end of what is coded", rest, FieldValue::Nothing));
        }
        // Noughts at the end need no bytes: what comes last costs so much less.
        let mut over = self.by.told.saturating_sub(all) as u32;
        for field in self.noted.iter_mut().rev() {
            let less = field.bits.min(over);
            (field.bits, over) = (field.bits - less, over - less);
        }
        Ok(self.noted)
    }
}

/// What notes what it reads.
pub(super) trait Notes {
    /// Whole bits read since it was asked last.
    fn took(&mut self) -> Option<u32> {
        None
    }
}

impl Notes for Encoder {}

impl Notes for Decoder<'_> {}

impl Notes for Metered<'_> {
    fn took(&mut self) -> Option<u32> {
        let whole = (self.cost as f64 / PARTS) as u64;
        let took = whole - self.told;
        self.told = whole;
        Some(took as u32)
    }
}

impl<D: Decide + Notes> LaneCoder for Coded<D> {
    fn apart(&mut self, class: LaneClass, beside: u32, folded: &mut u32) -> Passed {
        let (of, case) = (&mut self.chances.classes[class as usize], case(beside));
        if !self.by.decide(&mut of.differs[case], *folded != 0) {
            *folded = 0;
        } else if class == LaneClass::Flag {
            *folded = 1;
        } else {
            *folded = number(&mut self.by, *folded, &mut of.longer[case], &mut of.high)?;
        }
        Ok(())
    }

    fn mark(&self) -> usize {
        self.noted.len()
    }

    fn merge(&mut self, mark: usize, show: impl FnOnce() -> (String, FieldValue)) {
        let Some(took) = self.by.took() else { return };
        let bits = took + self.noted.drain(mark..).map(|field| field.bits).sum::<u32>();
        let (name, value) = show();
        self.noted.push(WireField::new(&name, bits, value));
    }
}

impl<D: Decide + Notes> Coder for Coded<D> {
    const READS: bool = D::READS;

    fn ask(&mut self, about: Question, answer: &mut bool) -> Passed {
        *answer = self.by.decide(&mut self.chances.asked[about as usize], *answer);
        Ok(())
    }

    fn plain(&mut self, value: &mut u32, bits: u32) -> Passed {
        *value = self.by.plain(*value, bits);
        Ok(())
    }

    fn small(&mut self, value: &mut u32) -> Passed {
        let mut even = [Chance(1 << 11); LENGTHS];
        *value = number(&mut self.by, value.wrapping_add(1), &mut self.chances.small, &mut even)? - 1;
        Ok(())
    }

    fn belongs(&mut self, mark: usize, entity: EntityId) {
        self.noted[mark..].iter_mut().for_each(|field| field.of = Some(entity));
    }
}
