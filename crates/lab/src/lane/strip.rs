//! A lane by columns: what was read once is kept as long as it holds, so that a frame reads little.

use std::collections::BTreeMap;

use super::seen::Screenings;
use super::{Lane, MOST_SERIES, Reading, Subject, Together};
use crate::run::Run;
use crate::time::LabTime;

/// What the samples of a column of one series come to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Cell {
    /// The least.
    pub least: f64,
    /// The greatest.
    pub most: f64,
    /// The newest; of what is counted, how many.
    pub last: f64,
    /// When the newest was.
    pub at: LabTime,
}

impl Cell {
    fn take(slot: &mut Option<Self>, together: Together, at: LabTime, value: f64) {
        let new = Self { least: value, most: value, last: value, at };
        *slot = Some(match *slot {
            None => new,
            Some(old) if together == Together::Count => {
                let count = old.last + value;
                Self { least: count, most: count, last: count, at }
            }
            Some(old) => Self {
                least: old.least.min(value),
                most: old.most.max(value),
                last: if at >= old.at { value } else { old.last },
                at: old.at.max(at),
            },
        });
    }
}

/// A column, by series; nothing where there was no sample.
pub type Column = [Option<Cell>; MOST_SERIES];

/// A lane of a subject, by columns of one length.
#[derive(Debug)]
pub struct Strip {
    lane: &'static Lane,
    subject: Subject,
    slice: LabTime,
    columns: BTreeMap<u64, Column>,
    /// Those from this one on may become otherwise: they are read again as time goes on.
    settled: u64,
    /// What the run had been when they were read: up to when, and what stands for it.
    past: (LabTime, u64),
    /// How far the run was when the newest were read.
    end: LabTime,
    /// From where on it had everything.
    kept_from: LabTime,
}

impl Strip {
    /// Nothing of it has been read; `slice` is the length of a column.
    pub const fn new(lane: &'static Lane, subject: Subject, slice: LabTime) -> Self {
        let past = (LabTime::ZERO, 0);
        let columns = BTreeMap::new();
        Self { lane, subject, slice, columns, settled: 0, past, end: LabTime::ZERO, kept_from: LabTime::ZERO }
    }

    /// Of which lane, subject and length it is.
    pub const fn of(&self) -> (&'static Lane, Subject, LabTime) {
        (self.lane, self.subject, self.slice)
    }

    /// A column by its number, counted from the beginning of time; `None` where it has not been read.
    pub fn column(&self, number: u64) -> Option<&Column> {
        self.columns.get(&number)
    }

    /// Whether all of these that there can be have been read.
    pub fn has(&self, run: &Run, first: u64, count: u64) -> bool {
        let reachable = self.reachable(run, first, count);
        reachable.clone().all(|n| self.columns.contains_key(&n))
            && (self.end == run.now() || reachable.end <= self.settled)
    }

    /// Which of some columns there can be: kept, and begun.
    fn reachable(&self, run: &Run, first: u64, count: u64) -> std::ops::Range<u64> {
        let kept = run.record().kept_from.0.div_ceil(self.slice.0);
        let begun = run.now().0 / self.slice.0 + 1;
        first.max(kept)..(first + count).min(begun).max(first.max(kept))
    }

    /// Reads what is missing of some columns, the newest first, as far as `most` of lab time goes; that is lessened by what was
    /// read. One column at least is read where any is missing.
    pub fn read(&mut self, run: &Run, (first, count): (u64, u64), most: &mut LabTime, screenings: &mut Reader) {
        if run.past(self.past.0) != self.past.1 || run.record().kept_from < self.kept_from {
            self.columns.clear();
            self.settled = 0;
        }
        self.kept_from = run.record().kept_from;
        if self.end != run.now() {
            // What had not settled is read again.
            self.columns.split_off(&self.settled);
            self.end = run.now();
        }
        let missing: Vec<u64> = self.reachable(run, first, count).filter(|n| !self.columns.contains_key(n)).collect();
        let mut stretches = missing.chunk_by(|a, b| a + 1 == *b).rev();
        while let Some(stretch) = stretches.next().filter(|_| most.0 > 0) {
            let fits = (most.0.div_ceil(self.slice.0) as usize).clamp(1, stretch.len());
            let part = &stretch[stretch.len() - fits..];
            self.take(run, part[0], part.len() as u64, screenings);
            *most = most.minus(LabTime(self.slice.0 * part.len() as u64));
        }
        // The newest column that cannot become otherwise any more.
        let settled = run.now().minus(self.lane.settles);
        self.settled = settled.0 / self.slice.0;
        let until = LabTime((self.settled * self.slice.0).min(settled.0));
        self.past = (until, run.past(until));
    }

    fn take(&mut self, run: &Run, first: u64, count: u64, reader: &mut Reader) {
        reader.follow(run);
        let slice = self.slice.0;
        let (from, to) = (LabTime(first * slice), LabTime((first + count) * slice).min(run.now().plus(LabTime(1))));
        let mut read = vec![Column::default(); count as usize];
        let mut reading = Reading { record: run.record(), subject: self.subject, screenings: &mut reader.screenings };
        (self.lane.sample)(&mut reading, from, to, &mut |series, at, value| {
            let column = (at.0 / slice).saturating_sub(first) as usize;
            if let Some(column) = read.get_mut(column) {
                Cell::take(&mut column[series], self.lane.together, at, value);
            }
        });
        self.columns.extend((first..).zip(read));
        // Who looks at another stretch does not need what lies far off.
        const MOST: usize = 4096;
        while self.columns.len() > MOST {
            let far = self.columns.first_key_value().map(|(n, _)| *n);
            match far.filter(|n| *n < first) {
                Some(n) => self.columns.remove(&n),
                None => self.columns.pop_last().map(|(_, column)| column),
            };
        }
    }
}

/// What several strips are read with: seconds that were judged for one of them serve the others.
#[derive(Debug, Default)]
pub struct Reader {
    screenings: Screenings,
    /// Of which run: how far it was, and what stands for it.
    of: (LabTime, u64),
}

impl Reader {
    fn follow(&mut self, run: &Run) {
        let of = (run.now(), run.past(run.now()));
        if std::mem::replace(&mut self.of, of) != of {
            self.screenings.forget();
        }
    }
}
