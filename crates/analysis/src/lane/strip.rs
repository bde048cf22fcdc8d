//! A lane by columns: what was read once is kept as long as it holds, so that a frame reads little.

use std::collections::BTreeMap;

use velocitas_record::time::LabTime;

use super::screenings::Screenings;
use super::{Lane, MOST_SERIES, Reading, Subject, Together};
use crate::history::History;
use crate::metrics::WINDOW;

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
    /// Each with how far the run was when it was read.
    columns: BTreeMap<u64, (Column, LabTime)>,
    /// What the run had been when they were read: up to when, and what stands for it.
    past: (LabTime, u64),
    /// From where on it had everything.
    kept_from: LabTime,
    /// How far it was.
    end: LabTime,
}

/// How much may be read at once.
#[derive(Clone, Copy, Debug)]
pub struct Effort {
    /// Lab time; at least one column.
    pub most: LabTime,
    /// Samples that may still change are read again once the run has gone on for this long.
    pub pace: LabTime,
}

impl Effort {
    /// All that there is, as it is now.
    pub const WHOLE: Self = Self { most: LabTime(u64::MAX), pace: LabTime::ZERO };
}

impl Strip {
    /// Nothing of it has been read; `slice` is the length of a column.
    pub const fn new(lane: &'static Lane, subject: Subject, slice: LabTime) -> Self {
        let past = (LabTime::ZERO, 0);
        Self { lane, subject, slice, columns: BTreeMap::new(), past, kept_from: LabTime::ZERO, end: LabTime::ZERO }
    }

    /// Of which lane, subject and length it is.
    pub const fn of(&self) -> (&'static Lane, Subject, LabTime) {
        (self.lane, self.subject, self.slice)
    }

    /// A column by its number, counted from the beginning of time; `None` where it has not been read.
    pub fn column(&self, number: u64) -> Option<&Column> {
        self.columns.get(&number).map(|(column, _)| column)
    }

    /// What it says at a moment, from what was read: the newest not more than two seconds before.
    pub fn last(&self, at: LabTime) -> [Option<f64>; MOST_SERIES] {
        let (to, from) = (at.0 / self.slice.0, at.minus(LabTime(2 * WINDOW.0)).0 / self.slice.0);
        let mut columns = self.columns.range(from..=to).rev().map(|(_, (column, _))| column);
        let newest = columns.find(|column| column.iter().any(Option::is_some));
        newest.map_or([None; MOST_SERIES], |column| column.map(|cell| cell.map(|cell| cell.last)))
    }

    /// Whether all of these that there can be have been read, and need not be read again at this pace.
    pub fn has(&self, run: &impl History, (first, count): (u64, u64), pace: LabTime) -> bool {
        !self.reachable(run, (first, count), pace).any(|n| self.needs(run, n, pace))
    }

    /// Whether all of these that there can be have been read, be it a while ago.
    pub fn is_read(&self, run: &impl History, (first, count): (u64, u64)) -> bool {
        // The newest may have begun only now.
        let there = self.reachable(run, (first, count), WINDOW);
        let newest = run.now().0 / WINDOW.0 * WINDOW.0 / self.slice.0;
        there.into_iter().all(|n| self.columns.contains_key(&n) || n + 3 > newest)
    }

    /// Whether a column is to be read: never read, or read before it had settled.
    fn needs(&self, run: &impl History, number: u64, pace: LabTime) -> bool {
        let Some((_, read)) = self.columns.get(&number) else { return true };
        let settles = LabTime((number + 1) * self.slice.0).plus(self.lane.settles);
        *read < settles && run.now() > *read && run.now() >= read.plus(pace)
    }

    /// Which of some columns there can be: kept, and begun; at a pace of seconds those of whole ones.
    fn reachable(&self, run: &impl History, (first, count): (u64, u64), pace: LabTime) -> std::ops::Range<u64> {
        let kept = run.record().kept_from.0.div_ceil(self.slice.0);
        let begun = if pace >= WINDOW {
            run.now().0 / WINDOW.0 * WINDOW.0 / self.slice.0
        } else {
            run.now().0 / self.slice.0 + 1
        };
        first.max(kept)..(first + count).min(begun).max(first.max(kept))
    }

    /// Reads what is to be read of some columns: those never read first, and of them the newest.
    pub fn read(&mut self, run: &impl History, (first, count): (u64, u64), effort: Effort, reader: &mut Reader) {
        if run.past(self.past.0) != self.past.1 || run.record().kept_from < self.kept_from {
            self.columns.clear();
        }
        self.kept_from = run.record().kept_from;
        if std::mem::replace(&mut self.end, run.now()) > run.now() {
            // What was read of a later moment than there is has not happened.
            self.columns.retain(|_, (_, read)| *read <= run.now());
        }
        let mut left = effort.most;
        for again in [false, true] {
            let wanted: Vec<u64> = self
                .reachable(run, (first, count), effort.pace)
                .filter(|n| self.columns.contains_key(n) == again && self.needs(run, *n, effort.pace))
                .collect();
            let mut stretches = wanted.chunk_by(|a, b| a + 1 == *b).rev();
            while let Some(stretch) = stretches.next().filter(|_| left.0 > 0) {
                let fits = (left.0.div_ceil(self.slice.0) as usize).clamp(1, stretch.len());
                // What is read again goes from the oldest on, so that each has its turn.
                let part = if again { &stretch[..fits] } else { &stretch[stretch.len() - fits..] };
                self.take(run, part[0], part.len() as u64, reader);
                left = left.minus(LabTime(self.slice.0.saturating_mul(part.len() as u64)));
            }
        }
        let until = run.now().minus(self.lane.settles);
        self.past = (until, run.past(until));
    }

    fn take(&mut self, run: &impl History, first: u64, count: u64, reader: &mut Reader) {
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
        self.columns.extend((first..).zip(read.into_iter().map(|column| (column, run.now()))));
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
    /// As [`value_at`](super::value_at), with what was judged already.
    pub fn value_at(
        &mut self,
        run: &impl History,
        lane: &Lane,
        subject: Subject,
        at: LabTime,
    ) -> [Option<f64>; MOST_SERIES] {
        self.follow(run);
        super::value_with(&mut self.screenings, run.record(), lane, subject, at)
    }

    fn follow(&mut self, run: &impl History) {
        let of = (run.now(), run.past(run.now()));
        if std::mem::replace(&mut self.of, of) != of {
            self.screenings.forget();
        }
    }
}
