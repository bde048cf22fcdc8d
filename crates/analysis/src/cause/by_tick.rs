//! Values by tick, put in mostly in the order of ticks.

use velocitas_record::ids::RecordTick;

/// Each with its tick, in that order.
pub(super) struct ByTick<T>(Vec<(RecordTick, T)>);

impl<T> ByTick<T> {
    /// None yet.
    pub(super) const fn new() -> Self {
        Self(Vec::new())
    }

    /// Puts a value in, in the place of one of the same tick.
    pub(super) fn put(&mut self, tick: RecordTick, value: T) {
        if self.0.last().is_none_or(|(last, _)| *last < tick) {
            return self.0.push((tick, value));
        }
        match self.0.binary_search_by_key(&tick, |(tick, _)| *tick) {
            Ok(place) => self.0[place].1 = value,
            Err(place) => self.0.insert(place, (tick, value)),
        }
    }

    /// That of a tick.
    pub(super) fn get(&self, tick: RecordTick) -> Option<&T> {
        let place = self.0.binary_search_by_key(&tick, |(tick, _)| *tick).ok()?;
        Some(&self.0[place].1)
    }

    /// All of them.
    pub(super) fn iter(&self) -> impl DoubleEndedIterator<Item = &(RecordTick, T)> {
        self.0.iter()
    }

    /// Those up to a tick.
    pub(super) fn until(&self, tick: RecordTick) -> impl DoubleEndedIterator<Item = &(RecordTick, T)> {
        self.0[..self.0.partition_point(|(of, _)| *of <= tick)].iter()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    proptest! {
        #[test]
        fn it_is_a_map(put in prop::collection::vec((0u32..40, any::<u8>()), 0..60), asked in 0u32..40) {
            let (mut by_tick, mut map) = (ByTick::new(), BTreeMap::new());
            for (tick, value) in put {
                by_tick.put(RecordTick(tick), value);
                map.insert(tick, value);
            }
            let plain = |(tick, value): &(RecordTick, u8)| (tick.0, *value);
            prop_assert!(by_tick.iter().map(plain).eq(map.iter().map(|(t, v)| (*t, *v))));
            prop_assert!(by_tick.until(RecordTick(asked)).map(plain).eq(map.range(..=asked).map(|(t, v)| (*t, *v))));
            prop_assert_eq!(by_tick.get(RecordTick(asked)), map.get(&asked));
        }
    }
}
