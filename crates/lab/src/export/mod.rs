//! The record as JSON Lines, one object a line, in the order in which things happened. What there is to a row stands in one
//! table, from which `docs/record.md` is made.

mod comings;
mod head;
mod inputs;
mod kind;
mod table;

pub use kind::RowSpec;
pub use table::row_kinds;

use std::collections::BTreeMap;
use std::io::{self, Write};

use serde_json::{Value, json};

use comings::SEEN;
use head::{head, state_value};
use inputs::{INPUT, InputHere};
use kind::{Kind, Place};
use table::{
    AUTHORITY, CLOCK, DRAWN, Datagram, DrawnHere, GROUND, MEASURE, MESSAGE, PREDICTED, REWRITTEN, RULE, Seen, StateRow,
    WINDOW, happening,
};

use crate::ids::{ActorId, MachineId, RecordTick};
use crate::known::Changed;
use crate::metrics::Reel;
use crate::record::{Column, Pack, Packed, Record, Timed, Track};
use crate::time::LabTime;

/// The format of the lines.
pub const RECORD_FORMAT: u32 = 2;

/// Rows are gathered and sorted a second at a time.
const SLICE: LabTime = LabTime(1_000_000_000);

/// What is said in the last row: what is known of a run besides its record.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Ending {
    /// The digest of everything.
    pub digest: u64,
    /// Datagrams that could not be read.
    pub refused_datagrams: u64,
}

/// Writes the whole record.
///
/// # Errors
/// Those of the writer.
pub fn write(record: &Record, ending: &Ending, out: &mut impl Write) -> io::Result<()> {
    line(out, &head(record))?;
    let mut done = Ok(());
    slices(record, None, |rows| {
        if done.is_ok() {
            done = rows.iter().try_for_each(|(_, row)| line(out, row));
        }
    });
    done?;
    line(
        out,
        &json!({
            "kind": "end", "at_ns": record.end.0, "digest": format!("{:016x}", ending.digest),
            "refused_datagrams": ending.refused_datagrams,
        }),
    )
}

/// Calls back with each row of a kind, in the order of the record.
pub fn each_of(record: &Record, kind: &str, mut each: impl FnMut(&Value)) {
    slices(record, Some(kind), |rows| {
        rows.iter().filter(|(_, row)| row["kind"] == kind).for_each(|(_, row)| each(row));
    });
}

/// Calls back with the rows of each second, in order; those of one kind at least, where only that is wanted.
fn slices(record: &Record, only: Option<&str>, mut each: impl FnMut(&[(LabTime, Value)])) {
    let order: BTreeMap<&str, usize> = row_kinds().iter().enumerate().map(|(i, kind)| (kind.name, i)).collect();
    let mut reel = Reel::default();
    let mut from = LabTime::ZERO;
    while from <= record.end {
        let to = from.plus(SLICE);
        let mut slice = Slice { record, only, from, to, rows: Vec::new() };
        slice.gather(&mut reel);
        // By time; of the same moment in the order of the table, then of machines.
        slice.rows.sort_by_key(|(at, row)| (*at, row["kind"].as_str().and_then(|kind| order.get(kind)).copied()));
        each(&slice.rows);
        from = to;
    }
}

fn line(out: &mut impl Write, value: &Value) -> io::Result<()> {
    serde_json::to_writer(&mut *out, value)?;
    out.write_all(b"\n")
}

/// A slice of the record on its way out.
struct Slice<'a> {
    record: &'a Record,
    only: Option<&'a str>,
    from: LabTime,
    to: LabTime,
    rows: Vec<(LabTime, Value)>,
}

impl<'a> Slice<'a> {
    fn place(&self, machine: MachineId, at: LabTime, tick: Option<RecordTick>) -> Place<'a> {
        Place { record: self.record, machine, at, tick }
    }

    /// Whether rows of a kind are wanted.
    fn wants<R>(&self, kind: &Kind<R>) -> bool {
        self.only.is_none_or(|only| only == kind.name)
    }

    /// The rows of a column in this slice.
    fn of<T: Timed>(&self, column: &'a Column<T>) -> impl Iterator<Item = &'a T> + use<'a, T> {
        column.range(column.before(self.from), column.before(self.to))
    }

    fn packed<T: Pack + Timed>(&self, rows: &'a Packed<T>) -> impl Iterator<Item = T> + use<'a, T> {
        rows.range(rows.before(self.from), rows.before(self.to))
    }

    fn gather(&mut self, reel: &mut Reel) {
        let record = self.record;
        for actor in record.cast.actors() {
            self.track(&AUTHORITY, MachineId::SERVER, actor, record.authority(actor));
        }
        for machine in record.cast.machines() {
            for own in &record.of(machine).own {
                self.track(&PREDICTED, machine, own.actor, &own.predicted);
                self.track(&REWRITTEN, machine, own.actor, &own.rewritten);
                for row in self.packed(own.inputs.rows()).filter(|_| self.wants(&INPUT)).collect::<Vec<_>>() {
                    let here = InputHere { actor: own.actor, row };
                    self.rows.push(INPUT.row(&self.place(machine, row.at, Some(row.tick)), &here));
                }
            }
            if self.wants(&DRAWN) {
                self.frames(machine);
            }
            if self.wants(&WINDOW) {
                self.windows(machine, reel);
            }
            self.machine(machine);
        }
        for change in record.changes.iter().filter(|c| c.at >= self.from && c.at < self.to) {
            let place = self.place(MachineId::SERVER, change.at, Some(change.tick));
            match change.what {
                Changed::Reloaded { .. } => self.rows.push(RULE.row(&place, change)),
                Changed::Solid { solid, there } => {
                    self.rows.push(GROUND.row(&place, &(change.reach, solid, there)));
                }
                Changed::Tuned { .. } => {}
            }
        }
        for (from, to, column) in record.links().filter(|_| self.only.is_none_or(|only| only == MESSAGE.name)) {
            for row in self.packed(column) {
                let place = self.place(from, row.at, row.tick);
                self.rows.push(MESSAGE.row(&place, &Datagram { from, to, row }));
            }
        }
    }

    fn machine(&mut self, machine: MachineId) {
        let rows = self.record.of(machine);
        for row in self.of(&rows.seen) {
            self.rows.push(SEEN.row(&self.place(machine, row.at, None), &row.actor));
        }
        for row in self.packed(&rows.clocks).filter(|_| self.wants(&CLOCK)).collect::<Vec<_>>() {
            self.rows.push(CLOCK.row(&self.place(machine, row.at, None), &row));
        }
        for row in self.packed(&rows.measures).filter(|_| self.wants(&MEASURE)).collect::<Vec<_>>() {
            self.rows.push(MEASURE.row(&self.place(machine, row.at, Some(row.tick)), &row));
        }
        for row in self.of(&rows.happenings) {
            self.rows.push(happening(&self.place(machine, row.at, row.tick), row.part, &row.what));
        }
    }

    /// A row for each entity that a machine drew in each frame.
    fn frames(&mut self, machine: MachineId) {
        let record = self.record;
        let frames = &record.of(machine).frames;
        for number in frames.before(self.from)..frames.before(self.to) {
            for actor in record.cast.actors() {
                if let Some(row) = record.drawn_in(machine, actor, number) {
                    self.rows.push(DRAWN.row(&self.place(machine, row.at, Some(row.tick)), &DrawnHere { actor, row }));
                }
            }
        }
    }

    /// A row for each entity that a machine saw in a second, once all of it is known.
    fn windows(&mut self, machine: MachineId, reel: &mut Reel) {
        if self.to > self.record.end.plus(LabTime(1)) {
            return;
        }
        let (record, at) = (self.record, self.from);
        reel.play(record, machine, at, |actor, own, sights, window| {
            let seen = Seen { actor, own, frames: sights.len(), window };
            self.rows.push(WINDOW.row(&self.place(machine, at, None), &seen));
        });
    }

    fn track(&mut self, kind: &Kind<StateRow>, machine: MachineId, actor: ActorId, track: &Track) {
        if !self.wants(kind) {
            return;
        }
        for i in track.between(self.from, LabTime(self.to.0 - 1)) {
            let Some(head) = track.head(i) else { continue };
            let place = self.place(machine, head.at, Some(head.tick));
            let mut map = kind.map(&place, &StateRow { actor, head });
            map.extend(state_value(self.record.layout(actor, head.tick).schema(), &track.state(i)));
            self.rows.push((head.at, Value::Object(map)));
        }
    }
}
