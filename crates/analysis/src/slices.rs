//! A span of lab time by columns of equal length, as a rail shows it: the worst of each machine, snapshots, jumps.

use velocitas_core::{Fact, MessageKind, Presence, Restored};
use velocitas_record::ids::MachineId;
use velocitas_record::record::{Mark, Record};
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

use crate::history::History;

/// What is cut: from when on, how long a column is, how many, of whose jumps.
pub type Cut = (LabTime, LabTime, usize, MachineId);

/// What a rail shows of a span of lab time.
#[derive(Clone, Debug)]
pub struct Slices {
    /// For each machine, for each column, the worst.
    pub worst: Vec<Vec<Option<Mark>>>,
    /// For each column, whether a snapshot left for anybody.
    pub snapshots: Vec<bool>,
    /// For each column, the largest jump at the machine asked for, in metres.
    pub jumps: Vec<Option<f32>>,
    /// For each machine how much trouble it had.
    pub trouble: Vec<u32>,
    /// For each machine, for each column, whether its program was out as the column ended.
    pub out: Vec<Vec<bool>>,
}

/// Cuts a span into columns of equal length.
pub fn slices(record: &Record, from: LabTime, column: LabTime, columns: usize, machine: MachineId) -> Slices {
    let to = LabTime(from.0 + column.0 * columns as u64);
    let place = |at: LabTime| ((at.0 - from.0) / column.0.max(1)) as usize;
    let count = record.cast.machines.len();
    let mut s = Slices {
        worst: vec![vec![None; columns]; count],
        snapshots: vec![false; columns],
        jumps: vec![None; columns],
        trouble: vec![0; count],
        out: vec![vec![false; columns]; count],
    };
    for id in record.cast.players() {
        for (n, out) in s.out[id.index()].iter_mut().enumerate() {
            let end = LabTime(from.0 + column.0 * (n as u64 + 1) - 1);
            *out = record.of(id).presence_at(end) == Presence::Left;
        }
    }
    for id in record.cast.machines() {
        let marks = &record.of(id).marks;
        for row in marks.range(marks.before(from), marks.before(to)) {
            let cell = &mut s.worst[id.index()][place(row.at)];
            *cell = (*cell).max(Some(row.mark));
            s.trouble[id.index()] += row.mark as u32;
        }
    }
    for (_, _, rows) in record.links() {
        for row in rows.range(rows.before(from), rows.before(to)) {
            s.snapshots[place(row.at)] |= row.kind == MessageKind::Snapshot;
        }
    }
    let rows = &record.of(machine).happenings;
    for row in rows.range(rows.before(from), rows.before(to)) {
        if let Happening::Fact(Fact::Corrected(c)) = &row.what
            && c.why != Restored::Settled
        {
            let cell = &mut s.jumps[place(row.at)];
            *cell = Some(velocitas_core::max(cell.unwrap_or(0.0), c.jump));
        }
    }
    s
}

/// The columns of a rail, kept while they hold: what has passed is cut once.
#[derive(Debug, Default)]
pub struct Sliced {
    /// From when on, how long a column is, how many, of whose jumps.
    of: Option<Cut>,
    slices: Option<Slices>,
    /// Columns that had passed when they were cut, what trouble there was in them, and what stands for what had happened by then.
    passed: usize,
    trouble: Vec<u32>,
    past: (LabTime, u64),
}

impl Sliced {
    /// Cuts what has not been cut, or all of it where something else is asked for or has happened.
    pub fn follow(&mut self, run: &impl History, of: Cut) {
        let (from, column, columns, machine) = of;
        let record = run.record();
        let holds = self.of == Some(of)
            && run.past(self.past.0) == self.past.1
            && self.past.0 <= run.now()
            && self.slices.as_ref().is_some_and(|s| s.worst.len() == record.cast.machines.len());
        if !holds {
            (self.of, self.passed, self.slices) = (Some(of), 0, None);
            self.trouble = vec![0; record.cast.machines.len()];
        }
        let first = self.passed;
        let begin = |n: usize| LabTime(from.0 + column.0 * n as u64);
        let new = slices(record, begin(first), column, columns - first, machine);
        let mut all = match self.slices.take() {
            Some(all) => all,
            None => new.clone(),
        };
        all.take_over(first, &new);
        all.trouble = self.trouble.iter().zip(&new.trouble).map(|(before, now)| before + now).collect();
        // What has passed now is as it is.
        let passed = ((run.now().minus(from).0 / column.0.max(1)) as usize).min(columns).max(first);
        if passed > first {
            let done = slices(record, begin(first), column, passed - first, machine);
            self.trouble.iter_mut().zip(done.trouble).for_each(|(sum, more)| *sum += more);
            self.passed = passed;
            self.past = (begin(passed), run.past(begin(passed)));
        }
        self.slices = Some(all);
    }

    /// What was cut, if it is of this.
    pub fn get(&self, of: Cut) -> Option<&Slices> {
        self.slices.as_ref().filter(|_| self.of == Some(of))
    }
}

impl Slices {
    /// Takes columns from one on over from what was cut of them anew.
    fn take_over(&mut self, first: usize, new: &Self) {
        fn put<T: Copy>(into: &mut [T], first: usize, new: &[T]) {
            into[first..].copy_from_slice(new);
        }
        for (into, new) in self.worst.iter_mut().zip(&new.worst) {
            put(into, first, new);
        }
        for (into, new) in self.out.iter_mut().zip(&new.out) {
            put(into, first, new);
        }
        put(&mut self.snapshots, first, &new.snapshots);
        put(&mut self.jumps, first, &new.jumps);
    }
}
