//! An append-only row of values in segments that copies of the record share.

use std::sync::Arc;

use crate::time::LabTime;

/// Values in a segment.
const SEGMENT: usize = 512;

/// An append-only sequence whose beginning may be forgotten. Cloning copies the unfinished segment only. Positions count
/// from the oldest value kept: they hold until something is forgotten.
#[derive(Clone, Debug)]
pub struct Column<T> {
    full: Vec<Arc<Vec<T>>>,
    tail: Vec<T>,
}

impl<T> Default for Column<T> {
    fn default() -> Self {
        Self { full: Vec::new(), tail: Vec::new() }
    }
}

impl<T: Copy> Column<T> {
    /// Adds a value.
    pub fn push(&mut self, value: T) {
        self.tail.push(value);
        if self.tail.len() == SEGMENT {
            // What comes next may be little; mostly it is more.
            let tail = Vec::with_capacity(SEGMENT / 4);
            self.full.push(Arc::new(std::mem::replace(&mut self.tail, tail)));
        }
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.full.len() * SEGMENT + self.tail.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The value at a position.
    pub fn get(&self, at: usize) -> Option<&T> {
        match self.full.get(at / SEGMENT) {
            Some(segment) => segment.get(at % SEGMENT),
            None => self.tail.get(at.checked_sub(self.full.len() * SEGMENT)?),
        }
    }

    /// The newest value.
    pub fn last(&self) -> Option<&T> {
        self.get(self.len().checked_sub(1)?)
    }

    /// The values at these positions, as far as there are any.
    pub fn range(&self, from: usize, to: usize) -> impl DoubleEndedIterator<Item = &T> {
        (from..to.min(self.len())).filter_map(|i| self.get(i))
    }

    /// All values.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = &T> {
        self.range(0, self.len())
    }

    /// The first position for which `before` no longer holds, given that it holds for a beginning and no more.
    pub fn partition(&self, mut before: impl FnMut(&T) -> bool) -> usize {
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = low + (high - low) / 2;
            if self.get(middle).is_some_and(&mut before) { low = middle + 1 } else { high = middle }
        }
        low
    }

    /// Forgets everything from a position on.
    pub fn truncate(&mut self, len: usize) {
        if len >= self.len() {
            return;
        }
        let segment = len / SEGMENT;
        if segment < self.full.len() {
            self.full.truncate(segment + 1);
            self.full.shrink_to_fit();
            // The segment itself becomes the tail where nobody shares it: what is let go can leave the program.
            self.tail = self.full.pop().map(Arc::unwrap_or_clone).unwrap_or_default();
        }
        self.tail.truncate(len % SEGMENT);
    }

    /// How many whole segments at the beginning hold nothing but what is `old`, given that it holds for a beginning.
    pub(super) fn old_segments(&self, old: impl Fn(&T) -> bool) -> usize {
        self.full.partition_point(|segment| segment.last().is_some_and(&old))
    }

    /// Forgets the first `count` segments.
    pub(super) fn forget_segments(&mut self, count: usize) {
        self.full.drain(..count.min(self.full.len()));
    }

    /// Forgets whole segments of what is `old`.
    pub(super) fn forget(&mut self, old: impl Fn(&T) -> bool) {
        self.forget_segments(self.old_segments(old));
    }

    /// Bytes it takes.
    pub fn bytes(&self) -> usize {
        (self.full.len() * SEGMENT + self.tail.capacity()) * size_of::<T>()
    }
}

/// A row that knows its moment; along a column moments rise.
pub trait Timed: Copy {
    /// When.
    fn at(&self) -> LabTime;
}

impl<T: Timed> Column<T> {
    /// Adds a row where it belongs: others may tell of later ones before.
    pub fn put(&mut self, row: T) {
        let place = self.len() - self.iter().rev().take_while(|before| before.at() > row.at()).count();
        let later: Vec<T> = self.range(place, self.len()).copied().collect();
        self.truncate(place);
        self.push(row);
        later.into_iter().for_each(|row| self.push(row));
    }

    /// How many rows lie before a moment.
    pub fn before(&self, at: LabTime) -> usize {
        self.partition(|row| row.at() < at)
    }

    /// How many rows lie before a moment or at it.
    pub fn until(&self, at: LabTime) -> usize {
        self.partition(|row| row.at() <= at)
    }

    /// The rows between two moments, both included.
    pub fn span(&self, from: LabTime, to: LabTime) -> impl DoubleEndedIterator<Item = &T> {
        self.range(self.before(from), self.until(to))
    }
}

/// A column of any rows, to be cut at a moment.
pub(super) trait Cut {
    /// Forgets what came after a moment.
    fn cut_after(&mut self, at: LabTime);
    /// Forgets whole segments of what came before a moment.
    fn forget_before(&mut self, at: LabTime);
}

impl<T: Timed> Cut for Column<T> {
    fn cut_after(&mut self, at: LabTime) {
        self.truncate(self.until(at));
    }

    fn forget_before(&mut self, at: LabTime) {
        self.forget(|row| row.at() < at);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn it_is_a_vec_that_grows_at_its_end_and_is_cut_at_both(pushes in 0usize..3000, cut in 0usize..3000, more in 0usize..50, forgotten in 0usize..3000) {
            let mut column = Column::default();
            let mut vec: Vec<usize> = (0..pushes).collect();
            vec.iter().for_each(|&v| column.push(v));
            column.truncate(cut);
            vec.truncate(cut);
            (0..more).for_each(|v| { column.push(v + 9000); vec.push(v + 9000) });
            prop_assert_eq!(column.len(), vec.len());
            let segments = column.old_segments(|&v| v < forgotten);
            column.forget(|&v| v < forgotten);
            prop_assert!(vec.drain(..segments * SEGMENT).all(|v| v < forgotten));
            prop_assert!(vec.get(SEGMENT - 1).is_none_or(|&v| v >= forgotten) || column.full.is_empty());
            prop_assert!(column.iter().eq(vec.iter()));
            prop_assert_eq!(column.partition(|&v| v < 4000), vec.partition_point(|&v| v < 4000));
            prop_assert_eq!(column.last(), vec.last());
        }
    }
}
