//! Rows that take little room once they are old.
//!
//! The newest rows are kept as they are. Older ones are packed in segments: of each row only what differs from what the row
//! before lets one expect. A type says once, in [`Pack::code`], what there is to a row; writing and reading both follow
//! that. Whoever looks at old rows has a whole segment unpacked, which is kept for a while since the next look is
//! mostly beside the last.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

use super::column::{Cut, Timed};
use crate::coder::{Coder, Pack};
use crate::time::LabTime;

/// Rows in a packed segment.
const SEGMENT: usize = 256;
/// Rows kept as they are before the older half is packed.
const LOOSE: usize = 4 * SEGMENT;
/// Unpacked segments kept at hand of each column.
const AT_HAND: usize = 2;

/// Fields of a row at most.
const FIELDS: usize = 64;

/// Writes rows.
#[derive(Default)]
pub struct Packer {
    /// The rows so far.
    pub bytes: Vec<u8>,
    differs: u64,
    field: u32,
    values: Vec<u64>,
}

const fn zigzag(difference: u64) -> u64 {
    (difference << 1) ^ ((difference as i64) >> 63) as u64
}

const fn unzigzag(code: u64) -> u64 {
    (code >> 1) ^ (code & 1).wrapping_neg()
}

impl Packer {
    fn differ(&mut self, code: u64) {
        debug_assert!((self.field as usize) < FIELDS);
        if code != 0 {
            self.differs |= 1 << self.field;
            self.values.push(code);
        }
        self.field += 1;
    }

    /// Writes a number, small ones in few bytes.
    pub fn put(&mut self, mut value: u64) {
        while value >= 0x80 {
            self.bytes.push(value as u8 | 0x80);
            value >>= 7;
        }
        self.bytes.push(value as u8);
    }

    /// Ends a row.
    pub fn end(&mut self) {
        self.put(self.differs);
        for i in 0..self.values.len() {
            self.put(self.values[i]);
        }
        self.values.clear();
        (self.differs, self.field) = (0, 0);
    }
}

impl Coder for Packer {
    fn number(&mut self, value: &mut u64, expected: u64) {
        self.differ(zigzag(value.wrapping_sub(expected)));
    }

    fn bits(&mut self, value: &mut u32, expected: u32) {
        self.differ(u64::from(*value ^ expected));
    }
}

/// Reads rows.
pub struct Unpacker<'a> {
    bytes: &'a [u8],
    differs: u64,
}

impl<'a> Unpacker<'a> {
    /// Of rows that a [`Packer`] wrote.
    pub const fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, differs: 0 }
    }

    /// Begins a row.
    pub fn begin(&mut self) {
        self.differs = self.take();
    }

    /// Whether nothing is left.
    pub const fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }

    /// So many bytes as they are; `None` where there are fewer.
    pub fn bytes(&mut self, count: usize) -> Option<&'a [u8]> {
        let (bytes, rest) = self.bytes.split_at_checked(count)?;
        self.bytes = rest;
        Some(bytes)
    }

    /// Reads a number; 0 where nothing is left.
    pub fn take(&mut self) -> u64 {
        let mut value = 0;
        let mut shift = 0;
        while let Some((&byte, rest)) = self.bytes.split_first() {
            self.bytes = rest;
            value |= u64::from(byte & 0x7f) << shift;
            shift += 7;
            // A number has ten bytes at most.
            if byte < 0x80 || shift > 63 {
                break;
            }
        }
        value
    }

    fn differs(&mut self) -> u64 {
        let code = if self.differs & 1 == 1 { self.take() } else { 0 };
        self.differs >>= 1;
        code
    }
}

impl Coder for Unpacker<'_> {
    fn number(&mut self, value: &mut u64, expected: u64) {
        *value = expected.wrapping_add(unzigzag(self.differs()));
    }

    fn bits(&mut self, value: &mut u32, expected: u32) {
        *value = expected ^ self.differs() as u32;
    }
}

/// Segments that were looked at lately, unpacked.
#[derive(Debug)]
pub(super) struct AtHand<T>(Mutex<VecDeque<(usize, Arc<T>)>>);

impl<T> Default for AtHand<T> {
    fn default() -> Self {
        Self(Mutex::default())
    }
}

impl<T> Clone for AtHand<T> {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl<T> AtHand<T> {
    /// The segment of this number, unpacked unless it is at hand.
    pub(super) fn get(&self, number: usize, unpack: impl FnOnce() -> T) -> Arc<T> {
        // Whoever panicked while holding it left whole entries.
        let mut at_hand = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, segment)) = at_hand.iter().find(|(n, _)| *n == number) {
            return segment.clone();
        }
        let segment = Arc::new(unpack());
        at_hand.truncate(AT_HAND - 1);
        at_hand.push_front((number, segment.clone()));
        segment
    }

    /// Numbers mean something else from now on.
    pub(super) fn clear(&mut self) {
        self.0.get_mut().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

/// A packed segment, with its first and last row as they are.
#[derive(Clone, Debug)]
struct Segment<T> {
    first: T,
    last: T,
    bytes: Arc<[u8]>,
}

impl<T: Pack> Segment<T> {
    fn pack(rows: &[T], packer: &mut Packer) -> Self {
        packer.bytes.clear();
        let mut before = T::default();
        for row in rows {
            let mut row = *row;
            row.code(&before, packer);
            packer.end();
            before = row;
        }
        Self { first: rows[0], last: rows[rows.len() - 1], bytes: packer.bytes.as_slice().into() }
    }

    fn unpack(&self) -> Vec<T> {
        let mut from = Unpacker::new(&self.bytes);
        let mut before = T::default();
        (0..SEGMENT)
            .map(|_| {
                let mut row = T::default();
                from.begin();
                row.code(&before, &mut from);
                before = row;
                row
            })
            .collect()
    }
}

/// What becomes of rows that are no longer among the newest.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Old {
    /// They are packed.
    #[default]
    Packed,
    /// They stay as they are until they are forgotten, which is soon.
    LetGo,
}

/// An append-only sequence of rows whose beginning may be forgotten. Positions count from the oldest row kept: they hold
/// until something is forgotten.
#[derive(Clone, Debug)]
pub struct Packed<T> {
    packed: Vec<Segment<T>>,
    loose: VecDeque<T>,
    at_hand: AtHand<Vec<T>>,
    /// Rows forgotten so far.
    forgotten: usize,
    old: Old,
}

impl<T> Default for Packed<T> {
    fn default() -> Self {
        Self::of(Old::Packed)
    }
}

impl<T> Packed<T> {
    /// An empty one.
    pub fn of(old: Old) -> Self {
        Self { packed: Vec::new(), loose: VecDeque::new(), at_hand: AtHand::default(), forgotten: 0, old }
    }
}

impl<T: Pack> Packed<T> {
    /// Adds a row.
    pub fn push(&mut self, row: T) {
        self.loose.push_back(row);
        if self.old == Old::Packed && self.loose.len() == LOOSE {
            let rows = &self.loose.make_contiguous()[..SEGMENT];
            self.packed.push(Segment::pack(rows, &mut Packer::default()));
            self.loose.drain(..SEGMENT);
        }
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.packed.len() * SEGMENT + self.loose.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// How many were forgotten before the first.
    pub const fn forgotten(&self) -> usize {
        self.forgotten
    }

    fn segment(&self, number: usize) -> Arc<Vec<T>> {
        self.at_hand.get(number, || self.packed[number].unpack())
    }

    /// The row at a position.
    pub fn get(&self, at: usize) -> Option<T> {
        let number = at / SEGMENT;
        if number < self.packed.len() {
            return Some(self.segment(number)[at % SEGMENT]);
        }
        self.loose.get(at - self.packed.len() * SEGMENT).copied()
    }

    /// The newest row.
    pub fn last(&self) -> Option<T> {
        self.get(self.len().checked_sub(1)?)
    }

    /// The rows at these positions, as far as there are any.
    pub fn range(&self, from: usize, to: usize) -> impl DoubleEndedIterator<Item = T> + '_ {
        let mut held: Option<(usize, Arc<Vec<T>>)> = None;
        (from..to.min(self.len())).map(move |at| {
            let number = at / SEGMENT;
            if number >= self.packed.len() {
                return self.loose[at - self.packed.len() * SEGMENT];
            }
            match &held {
                Some((n, rows)) if *n == number => rows[at % SEGMENT],
                _ => {
                    let rows = self.segment(number);
                    let row = rows[at % SEGMENT];
                    held = Some((number, rows));
                    row
                }
            }
        })
    }

    /// All rows.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = T> + '_ {
        self.range(0, self.len())
    }

    /// The first position for which `before` no longer holds, given that it holds for a beginning and no more.
    pub fn partition(&self, mut before: impl FnMut(&T) -> bool) -> usize {
        let packed = self.packed.len() * SEGMENT;
        if self.loose.front().is_none_or(&mut before) {
            return packed + self.loose.partition_point(before);
        }
        let number = self.packed.partition_point(|segment| before(&segment.last));
        let Some(segment) = self.packed.get(number) else { return packed };
        if !before(&segment.first) {
            return number * SEGMENT;
        }
        number * SEGMENT + self.segment(number).partition_point(before)
    }

    /// Changes the row at a position, in place.
    pub fn update(&mut self, at: usize, change: impl FnOnce(&mut T)) {
        let number = at / SEGMENT;
        if number >= self.packed.len() {
            let loose = at - self.packed.len() * SEGMENT;
            if let Some(row) = self.loose.get_mut(loose) {
                change(row);
            }
            return;
        }
        let mut rows = self.packed[number].unpack();
        change(&mut rows[at % SEGMENT]);
        self.packed[number] = Segment::pack(&rows, &mut Packer::default());
        self.at_hand.clear();
    }

    /// Forgets everything from a position on.
    pub fn truncate(&mut self, len: usize) {
        let packed = self.packed.len() * SEGMENT;
        if len >= packed {
            return self.loose.truncate(len - packed);
        }
        self.at_hand.clear();
        self.loose = self.packed[len / SEGMENT].unpack().into();
        self.loose.truncate(len % SEGMENT);
        self.packed.truncate(len / SEGMENT);
        self.packed.shrink_to_fit();
    }

    /// Forgets whole segments of what is `old`, given that it holds for a beginning.
    pub(super) fn forget(&mut self, old: impl Fn(&T) -> bool) {
        if self.old == Old::LetGo {
            return self.forget_first(self.loose.partition_point(old));
        }
        self.forget_first(self.packed.partition_point(|segment| old(&segment.last)) * SEGMENT);
    }

    /// Forgets whole segments among the first `count` rows.
    pub(super) fn forget_first(&mut self, count: usize) {
        if self.old == Old::LetGo {
            let count = count.min(self.loose.len());
            self.loose.drain(..count);
            self.forgotten += count;
            // Nothing more may come: the room goes as well.
            if self.loose.is_empty() {
                self.loose.shrink_to_fit();
            }
            return;
        }
        let count = (count / SEGMENT).min(self.packed.len());
        if count > 0 {
            self.packed.drain(..count);
            self.forgotten += count * SEGMENT;
            self.at_hand.clear();
        }
    }

    /// Bytes it takes.
    pub fn bytes(&self) -> usize {
        let packed = self.packed.iter().map(|s| s.bytes.len() + 16).sum::<usize>();
        packed + self.packed.capacity() * size_of::<Segment<T>>() + self.loose.capacity() * size_of::<T>()
    }
}

impl<T: Pack + Timed> Packed<T> {
    /// How many rows lie before a moment.
    pub fn before(&self, at: LabTime) -> usize {
        self.partition(|row| row.at() < at)
    }

    /// How many rows lie before a moment or at it.
    pub fn until(&self, at: LabTime) -> usize {
        self.partition(|row| row.at() <= at)
    }

    /// The rows between two moments, both included.
    pub fn span(&self, from: LabTime, to: LabTime) -> impl DoubleEndedIterator<Item = T> + '_ {
        self.range(self.before(from), self.until(to))
    }
}

impl<T: Pack + Timed> Cut for Packed<T> {
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

    #[derive(Clone, Copy, Debug, Default, PartialEq)]
    struct Row {
        at: LabTime,
        x: f32,
        n: u16,
        wild: u64,
    }

    impl Pack for Row {
        fn code(&mut self, before: &Self, coder: &mut impl Coder) {
            coder.time(&mut self.at, before.at);
            coder.real(&mut self.x, before.x);
            coder.small(&mut self.n, before.n);
            coder.number(&mut self.wild, 0);
        }
    }

    impl Timed for Row {
        fn at(&self) -> LabTime {
            self.at
        }
    }

    fn row(i: usize, luck: u64) -> Row {
        let luck = luck.wrapping_mul(i as u64 + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        let x = if luck.is_multiple_of(97) { f32::NAN } else { i as f32 * 0.1 - (luck >> 60) as f32 };
        Row { at: LabTime(i as u64 * 16_666_667), x, n: (luck >> 48) as u16, wild: luck }
    }

    fn same(a: &Row, b: &Row) -> bool {
        (a.at, a.x.to_bits(), a.n, a.wild) == (b.at, b.x.to_bits(), b.n, b.wild)
    }

    proptest! {
        #[test]
        fn it_is_a_vec_that_grows_at_its_end_and_is_cut_at_both(
            luck in 1u64.., pushes in 0usize..1800, cut in 0usize..1800, more in 0usize..600, forgotten in 0usize..1800,
            changed in 0usize..1800, lets_go in any::<bool>(),
        ) {
            let (mut packed, mut vec) = (Packed::of(if lets_go { Old::LetGo } else { Old::Packed }), Vec::new());
            for i in 0..pushes {
                packed.push(row(i, luck));
                vec.push(row(i, luck));
            }
            packed.truncate(cut);
            vec.truncate(cut);
            for i in pushes..pushes + more {
                packed.push(row(i, luck));
                vec.push(row(i, luck));
            }
            packed.update(changed, |row| row.n ^= 1);
            vec.get_mut(changed).into_iter().for_each(|row| row.n ^= 1);
            let moment = LabTime(forgotten as u64 * 16_666_667);
            packed.forget_before(moment);
            prop_assert!(!lets_go || packed.forgotten() == vec.partition_point(|row| row.at < moment));
            prop_assert!(vec.drain(..packed.forgotten()).all(|row| row.at < moment));
            prop_assert_eq!(packed.len(), vec.len());
            prop_assert!(packed.iter().zip(&vec).all(|(a, b)| same(&a, b)));
            prop_assert!(packed.iter().rev().zip(vec.iter().rev()).all(|(a, b)| same(&a, b)));
            prop_assert_eq!(packed.before(moment), vec.partition_point(|row| row.at < moment));
            prop_assert!((0..vec.len()).all(|i| packed.get(i).is_some_and(|a| same(&a, &vec[i]))));
            prop_assert!(packed.get(vec.len()).is_none());
        }
    }

    #[test]
    fn rows_that_come_as_expected_take_little_room() {
        let mut packed = Packed::default();
        for i in 0..10_000 {
            packed.push(Row { at: LabTime(i * 16_666_667), x: 3.0, n: 7, wild: 0 });
        }
        assert!(packed.bytes() < 10_000 * 8, "{} bytes", packed.bytes());
    }

    #[test]
    fn room_is_given_back_when_everything_is_let_go() {
        let mut packed = Packed::of(Old::LetGo);
        let empty = packed.bytes();
        (0..4000).for_each(|i| packed.push(row(i, 0)));
        packed.forget_before(row(3999, 0).at);
        assert!(packed.len() == 1 && packed.bytes() > empty, "{} rows are left", packed.len());
        packed.forget_before(LabTime(u64::MAX));
        assert_eq!((packed.len(), packed.bytes()), (0, empty));
    }
}
