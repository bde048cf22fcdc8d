//! How a row names its fields, whoever writes or reads them.

use crate::time::LabTime;

/// Either writes what differs from what is expected, or reads it and puts it in.
pub trait Coder {
    /// A number that is mostly near what is expected.
    fn number(&mut self, value: &mut u64, expected: u64);

    /// A moment that is mostly soon after what is expected.
    fn time(&mut self, at: &mut LabTime, expected: LabTime) {
        self.number(&mut at.0, expected.0);
    }

    /// Bits that have much in common with what is expected.
    fn bits(&mut self, value: &mut u32, expected: u32);

    /// A real number near what is expected.
    fn real(&mut self, value: &mut f32, expected: f32) {
        let mut bits = value.to_bits();
        self.bits(&mut bits, expected.to_bits());
        *value = f32::from_bits(bits);
    }

    /// A small number of any type.
    fn small<T: Copy + TryFrom<u64> + Into<u64>>(&mut self, value: &mut T, expected: T) {
        let mut number = (*value).into();
        self.number(&mut number, expected.into());
        // What was written came from such a value.
        *value = T::try_from(number).unwrap_or(expected);
    }
}

/// A row that can be packed.
pub trait Pack: Copy + Default {
    /// Names every field, each with what the row before lets one expect.
    fn code(&mut self, before: &Self, coder: &mut impl Coder);
}
