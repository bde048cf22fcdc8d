//! What is due when.
//!
//! Things stay where they were put; what is ordered is small. Of one moment what was put there first comes first.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use velocitas_record::time::LabTime;

/// When, in which order of those of that moment, and in which place it is: one number, for these are compared all the time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Entry(u128);

impl Entry {
    /// Bits of a place. Those of the order, 40, count a thousand a second for thirty years.
    const PLACE_BITS: u32 = 24;

    const fn new(at: LabTime, order: u64, place: usize) -> Self {
        debug_assert!(place >> Self::PLACE_BITS == 0, "more than are ever due at once");
        Self((at.0 as u128) << 64 | ((order << Self::PLACE_BITS) | place as u64) as u128)
    }

    const fn at(self) -> LabTime {
        LabTime((self.0 >> 64) as u64)
    }

    const fn place(self) -> usize {
        self.0 as usize % (1 << Self::PLACE_BITS)
    }
}

/// Things to come, at most 16 million.
#[derive(Clone, Debug)]
pub(crate) struct Agenda<T> {
    order: BinaryHeap<Reverse<Entry>>,
    places: Vec<Option<T>>,
    free: Vec<usize>,
    put: u64,
}

impl<T> Default for Agenda<T> {
    fn default() -> Self {
        Self { order: BinaryHeap::new(), places: Vec::new(), free: Vec::new(), put: 0 }
    }
}

impl<T> Agenda<T> {
    /// Puts something at a moment.
    pub(crate) fn put(&mut self, at: LabTime, what: T) {
        self.put += 1;
        let place = self.free.pop().unwrap_or_else(|| {
            self.places.push(None);
            self.places.len() - 1
        });
        self.places[place] = Some(what);
        self.order.push(Reverse(Entry::new(at, self.put, place)));
    }

    /// Takes the next thing that is due at a moment or before, and when it is.
    pub(crate) fn next(&mut self, by: LabTime) -> Option<(LabTime, T)> {
        self.order.peek().filter(|Reverse(entry)| entry.at() <= by)?;
        let Reverse(entry) = self.order.pop()?;
        let what = self.places[entry.place()].take();
        self.free.push(entry.place());
        what.map(|what| (entry.at(), what))
    }

    /// Keeps only what is wanted.
    pub(crate) fn retain(&mut self, wanted: impl Fn(&T) -> bool) {
        let Self { order, places, free, .. } = self;
        order.retain(|Reverse(entry)| {
            let is_wanted = places[entry.place()].as_ref().is_some_and(&wanted);
            if !is_wanted {
                places[entry.place()] = None;
                free.push(entry.place());
            }
            is_wanted
        });
    }

    /// How many there are.
    pub(crate) fn len(&self) -> usize {
        self.order.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn it_comes_in_the_order_of_moments_and_of_being_put(
            steps in prop::collection::vec((0u64..20, 0u8..8, any::<bool>()), 0..60),
        ) {
            let (mut agenda, mut plain, mut number) = (Agenda::default(), Vec::new(), 0u32);
            for (at, what, take) in steps {
                if take {
                    let next = plain.iter().enumerate().filter(|(_, (when, _))| *when <= at).min_by_key(|(_, it)| **it);
                    let next = next.map(|(place, _)| place).map(|place| plain.remove(place));
                    prop_assert_eq!(agenda.next(LabTime(at)), next.map(|(when, what)| (LabTime(when), what)));
                } else if what == 0 {
                    agenda.retain(|kept: &u32| !kept.is_multiple_of(3));
                    plain.retain(|(_, kept)| !kept.is_multiple_of(3));
                } else {
                    number += 1;
                    agenda.put(LabTime(at), number);
                    plain.push((at, number));
                }
                prop_assert_eq!(agenda.len(), plain.len());
            }
        }
    }
}
