//! Many values of one kind, for percentiles: all of them while they are few, sorted into fine bins when they become many.
//!
//! Up to [`MOST_EXACT`] values a percentile is the nearest rank among all. Beyond that it is the greatest value in the bin
//! that the rank falls into, at most 0.1 % above. Mean and greatest are always of all values.

use std::collections::BTreeMap;

/// Values kept one by one.
pub const MOST_EXACT: usize = 1 << 16;
/// Bits of the mantissa that tell bins apart: a bin is 1/1024 of its values wide.
const BIN_BITS: u32 = 10;

/// How many values a bin holds, and the greatest of them.
#[derive(Clone, Copy, Debug)]
struct Bin {
    count: u64,
    most: f64,
}

/// Values of one kind.
#[derive(Clone, Debug)]
pub struct Samples {
    exact: Vec<f64>,
    bins: BTreeMap<i64, Bin>,
    count: u64,
    sum: f64,
    /// The greatest, [`ordered`]; of none the least there is.
    most: i64,
}

impl Default for Samples {
    fn default() -> Self {
        Self { exact: Vec::new(), bins: BTreeMap::new(), count: 0, sum: 0.0, most: i64::MIN }
    }
}

/// The number of the bin of a value: rising with it.
const fn bin(value: f64) -> i64 {
    ordered(value) >> (52 - BIN_BITS)
}

/// A value as a whole number in the order of [`f64::total_cmp`]: cheaper to compare.
const fn ordered(value: f64) -> i64 {
    turned(value.to_bits() as i64)
}

/// The value again.
const fn value_of(ordered: i64) -> f64 {
    f64::from_bits(turned(ordered) as u64)
}

/// Turns the magnitude of negative ones round; doing it twice undoes it.
const fn turned(bits: i64) -> i64 {
    bits ^ (((bits >> 63) as u64) >> 1) as i64
}

impl Samples {
    /// Adds a value.
    pub fn push(&mut self, value: f64) {
        self.count += 1;
        self.sum += value;
        self.most = self.most.max(ordered(value));
        if self.bins.is_empty() && self.exact.len() < MOST_EXACT {
            self.exact.push(value);
            return;
        }
        for value in std::mem::take(&mut self.exact).into_iter().chain([value]) {
            let bin = self.bins.entry(bin(value)).or_insert(Bin { count: 0, most: value });
            bin.count += 1;
            bin.most = value_of(ordered(bin.most).max(ordered(value)));
        }
    }

    /// Adds values in their order.
    pub fn push_all(&mut self, values: &[f64]) {
        if self.bins.is_empty() && self.exact.len() + values.len() <= MOST_EXACT {
            self.count += values.len() as u64;
            self.sum = values.iter().fold(self.sum, |sum, value| sum + value);
            self.most = values.iter().fold(self.most, |most, value| most.max(ordered(*value)));
            self.exact.extend_from_slice(values);
            return;
        }
        values.iter().for_each(|value| self.push(*value));
    }

    /// How many there are.
    pub const fn len(&self) -> u64 {
        self.count
    }

    /// Their mean.
    pub fn mean(&self) -> Option<f64> {
        (self.count > 0).then(|| self.sum / self.count as f64)
    }

    /// The greatest.
    pub fn most(&self) -> Option<f64> {
        (self.count > 0).then(|| value_of(self.most))
    }

    /// The values at these shares (nearest rank).
    pub fn percentiles<const N: usize>(&self, shares: [f64; N]) -> [Option<f64>; N] {
        let mut values: Vec<i64> = match self.bins.is_empty() {
            true => self.exact.iter().map(|value| ordered(*value)).collect(),
            false => Vec::new(),
        };
        // From the place found last on, all are at least what lies there.
        let mut known = 0;
        shares.map(|share| {
            let rank = ((share * self.count as f64).ceil() as u64).clamp(1, self.count.max(1));
            if self.bins.is_empty() {
                let place = rank as usize - 1;
                let from = if place < known { 0 } else { known };
                let rest = values.get_mut(from..).filter(|rest| place - from < rest.len())?;
                known = place;
                return Some(value_of(*rest.select_nth_unstable(place - from).1));
            }
            let mut passed = 0;
            self.bins.values().find_map(|bin| {
                passed += bin.count;
                (passed >= rank).then_some(bin.most)
            })
        })
    }
}

impl Extend<f64> for Samples {
    fn extend<T: IntoIterator<Item = f64>>(&mut self, values: T) {
        values.into_iter().for_each(|v| self.push(v));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn percentiles_are_those_of_the_nearest_rank() {
        let none = Samples::default();
        let mut hundred = Samples::default();
        hundred.extend((1..=100).rev().map(f64::from));
        assert_eq!(hundred.percentiles([0.0, 0.05, 0.5, 1.0]), [Some(1.0), Some(5.0), Some(50.0), Some(100.0)]);
        assert_eq!(hundred.percentiles([0.95, 0.95, 0.05, 0.5]), [Some(95.0), Some(95.0), Some(5.0), Some(50.0)]);
        assert_eq!((none.percentiles([0.5]), none.mean(), none.most()), ([None], None, None));
    }

    proptest! {
        #[test]
        fn few_are_exact_and_many_are_near(seed in 0u32..1000, many in prop::bool::ANY, share in 0.0f64..=1.0) {
            let count = if many { MOST_EXACT + 5000 } else { 700 };
            let value = |i: usize| {
                let x = f64::from((i as u32).wrapping_mul(2_654_435_761).wrapping_add(seed) >> 8) / 65_536.0;
                (x - 20.0) * x
            };
            let mut samples = Samples::default();
            samples.extend((0..count).map(value));
            let mut sorted: Vec<f64> = (0..count).map(value).collect();
            sorted.sort_by(f64::total_cmp);
            let rank = ((share * count as f64).ceil() as usize).clamp(1, count);
            let (found, truth) = (samples.percentiles([share])[0].expect("some"), sorted[rank - 1]);
            if many {
                prop_assert!(found >= truth && found - truth <= truth.abs() / 1000.0, "{found} {truth}");
            } else {
                prop_assert_eq!(found, truth);
            }
            prop_assert_eq!(samples.most(), sorted.last().copied());
        }
    }
}
