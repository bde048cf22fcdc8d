//! The record as JSON Lines, one object a line, in the order in which things happened. What there is to a row stands in one
//! table, from which `docs/record.md` is made.

mod cell;
mod comings;
mod head;
mod inputs;
mod kind;
mod lines;
mod page;
mod table;

pub use kind::RowSpec;
pub use lines::Lines;
pub use table::row_kinds;

use std::io::{self, Write};

use serde_json::{Value, json};

use comings::SEEN;
use head::{head, state_cells};
use inputs::{INPUT, InputHere};
use kind::{Kind, Place};
use lines::SLICE;
use page::Page;
use table::{
    AUTHORITY, CLOCK, DRAWN, Datagram, DrawnHere, GROUND, MEASURE, MESSAGE, PREDICTED, REWRITTEN, RULE, Seen, StateRow,
    WINDOW, happening,
};

use crate::ids::{ActorId, MachineId, RecordTick};
use crate::known::Changed;
use crate::metrics::Reel;
use crate::record::{Column, Pack, Packed, Record, Samples, Timed, Track};
use crate::time::LabTime;

/// The format of the lines.
pub const RECORD_FORMAT: u32 = 2;

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
    first_row(record, out)?;
    Lines::default().rest(record, out)?;
    last_row(record, ending, out)
}

/// Writes the first row: it tells of all that ever was, so it is known at the end.
///
/// # Errors
/// Those of the writer.
pub fn first_row(record: &Record, out: &mut impl Write) -> io::Result<()> {
    line(out, &head(record))
}

/// Writes the last row.
///
/// # Errors
/// Those of the writer.
pub fn last_row(record: &Record, ending: &Ending, out: &mut impl Write) -> io::Result<()> {
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
    let read = Lines::of(Some(kind)).until(record, record.end.plus(SLICE), |row| {
        each(&serde_json::from_slice(row)?);
        Ok(())
    });
    // It was written just now.
    debug_assert!(read.is_ok(), "{read:?}");
}

fn line(out: &mut impl Write, value: &Value) -> io::Result<()> {
    serde_json::to_writer(&mut *out, value)?;
    out.write_all(b"\n")
}

/// A slice of the record on its way out.
struct Slice<'a, 'p> {
    record: &'a Record,
    from: LabTime,
    to: LabTime,
    page: &'p mut Page,
    /// What viewers drew from, all of them in this second.
    samples: Samples,
}

impl<'a> Slice<'a, '_> {
    fn place(&self, machine: MachineId, at: LabTime, tick: Option<RecordTick>) -> Place<'a> {
        Place { record: self.record, machine, at, tick }
    }

    /// The rows of a column in this slice.
    fn of<T: Timed>(&self, column: &'a Column<T>) -> impl Iterator<Item = &'a T> + use<'a, T> {
        column.range(column.before(self.from), column.before(self.to))
    }

    /// Those of packed rows, if rows of a kind are wanted.
    fn packed<R, T: Pack + Timed>(
        &self,
        kind: &Kind<R>,
        rows: &'a Packed<T>,
    ) -> impl Iterator<Item = T> + use<'a, R, T> {
        let (from, to) = if self.page.wants(kind) { (rows.before(self.from), rows.before(self.to)) } else { (0, 0) };
        rows.range(from, to)
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
                for row in self.packed(&INPUT, own.inputs.rows()) {
                    let place = self.place(machine, row.at, Some(row.tick));
                    self.page.put_of(&INPUT, &place, own.actor, &InputHere::of(&place, own.actor, row));
                }
            }
            self.frames(machine);
            self.windows(machine, reel);
            self.machine(machine);
        }
        for change in record.changes.iter().filter(|c| c.at >= self.from && c.at < self.to) {
            let place = self.place(MachineId::SERVER, change.at, Some(change.tick));
            match change.what {
                Changed::Reloaded { .. } => self.page.put(&RULE, &place, change),
                Changed::Solid { solid, there } => self.page.put(&GROUND, &place, &(change.reach, solid, there)),
                Changed::Tuned { .. } => {}
            }
        }
        for (from, to, column) in record.links() {
            for row in self.packed(&MESSAGE, column) {
                let datagram = Datagram { from, to, row };
                self.page.put(&MESSAGE, &self.place(datagram.end(), row.at, row.tick), &datagram);
            }
        }
    }

    fn machine(&mut self, machine: MachineId) {
        let rows = self.record.of(machine);
        for row in self.of(&rows.seen) {
            self.page.put_of(&SEEN, &self.place(machine, row.at, None), row.actor, &row.actor);
        }
        for row in self.packed(&CLOCK, &rows.clocks) {
            self.page.put(&CLOCK, &self.place(machine, row.at, None), &row);
        }
        for row in self.packed(&MEASURE, &rows.measures) {
            self.page.put(&MEASURE, &self.place(machine, row.at, Some(row.tick)), &row);
        }
        for row in self.of(&rows.happenings) {
            let place = self.place(machine, row.at, row.tick);
            happening(self.page, &place, row.part, &row.what);
        }
    }

    /// A row for each entity that a machine drew in each frame.
    fn frames(&mut self, machine: MachineId) {
        if !self.page.wants(&DRAWN) {
            return;
        }
        let (record, rows) = (self.record, self.record.of(machine));
        // Of all that ever were few are there: those, as long as that does not change.
        let (mut stamp, mut there) = (None, Vec::new());
        for number in rows.frames.before(self.from)..rows.frames.before(self.to) {
            let Some(at) = rows.frames.get(number).map(|frame| frame.at) else { continue };
            let frame = record.frame(machine, number);
            let now = (rows.knows.until(at), rows.joined_by(at));
            if stamp.replace(now) != Some(now) {
                let known = record.cast.actors().map(|actor| (actor, rows.knows(actor, at)));
                there = known.filter(|(actor, known)| *known || rows.own(*actor).is_some()).collect();
            }
            for &(actor, known) in &there {
                let samples = &mut self.samples;
                let other = || record.drawn_of(machine, actor, frame.as_ref().filter(|_| known)?, samples);
                if let Some(row) = record.drawn_own(machine, actor, at).or_else(other) {
                    let place = self.place(machine, row.at, Some(row.tick));
                    self.page.put_of(&DRAWN, &place, actor, &DrawnHere { actor, row });
                }
            }
        }
    }

    /// A row for each entity that a machine saw in a second, once all of it is known.
    fn windows(&mut self, machine: MachineId, reel: &mut Reel) {
        if !self.page.wants(&WINDOW) || self.to > self.record.end.plus(LabTime(1)) {
            return;
        }
        let place = self.place(machine, self.from, None);
        reel.play(self.record, machine, self.from, |actor, own, sights, window| {
            self.page.put_of(&WINDOW, &place, actor, &Seen { actor, own, frames: sights.len(), window });
        });
    }

    fn track(&mut self, kind: &Kind<StateRow>, machine: MachineId, actor: ActorId, track: &Track) {
        if !self.page.wants(kind) {
            return;
        }
        for i in track.between(self.from, LabTime(self.to.0 - 1)) {
            let Some(head) = track.head(i) else { continue };
            let place = self.place(machine, head.at, Some(head.tick));
            let (layout, state) = (self.record.layout(actor, head.tick), track.state(i));
            let fields = state_cells(layout.schema(), &state);
            self.page.put_with(kind, &place, Some(actor), &StateRow { actor, head }, fields);
        }
    }
}
