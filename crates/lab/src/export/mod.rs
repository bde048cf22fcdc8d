//! The record as JSON Lines, one object a line, in the order in which things happened. What there is to a row stands in one
//! table, from which `docs/record.md` is made.

mod comings;
mod kind;
mod table;

pub use kind::RowSpec;
pub use table::row_kinds;

use std::io::{self, Write};

use serde_json::{Value, json};
use velocitas_core::Shape;

use comings::SEEN;
use kind::{Kind, Place};
use table::{
    AUTHORITY, CLOCK, DRAWN, Datagram, DrawnHere, INPUT, InputHere, MESSAGE, PREDICTED, REWRITTEN, StateRow, happening,
};

use crate::ids::{ActorId, MachineId, RecordTick};
use crate::record::{Column, Pack, Packed, Record, Timed, Track};
use crate::time::LabTime;

/// The format of the lines.
pub const RECORD_FORMAT: u32 = 1;

/// Rows are gathered and sorted a second at a time.
const SLICE: LabTime = LabTime(1_000_000_000);

/// Writes the whole record.
///
/// # Errors
/// Those of the writer.
pub fn write(record: &Record, digest: u64, out: &mut impl Write) -> io::Result<()> {
    line(out, &head(record))?;
    let mut from = LabTime::ZERO;
    while from <= record.end {
        let to = from.plus(SLICE);
        let mut slice = Slice { record, from, to, rows: Vec::new() };
        slice.gather();
        slice.rows.sort_by_key(|(at, _)| *at);
        for (_, row) in &slice.rows {
            line(out, row)?;
        }
        from = to;
    }
    line(out, &json!({ "kind": "end", "at_ns": record.end.0, "digest": format!("{digest:016x}") }))
}

fn line(out: &mut impl Write, value: &Value) -> io::Result<()> {
    serde_json::to_writer(&mut *out, value)?;
    out.write_all(b"\n")
}

fn head(record: &Record) -> Value {
    let cast = &record.cast;
    let actors: Vec<Value> = cast
        .actors
        .iter()
        .map(|actor| {
            let rule = cast.kinds().motion(actor.kind);
            let fields = rule.schema().state.iter().map(|f| json!({ "name": f.name, "unit": f.unit }));
            json!({ "name": actor.name, "id": actor.id.to_string(), "rule": rule.name(), "fields": fields.collect::<Vec<_>>() })
        })
        .collect();
    json!({
        "kind": "run", "format": RECORD_FORMAT, "course": cast.title, "seed": cast.seed,
        "tick_rate": cast.rate.hz(), "first_tick": cast.first.0, "cast": actors,
    })
}

/// A slice of the record on its way out.
struct Slice<'a> {
    record: &'a Record,
    from: LabTime,
    to: LabTime,
    rows: Vec<(LabTime, Value)>,
}

impl<'a> Slice<'a> {
    fn place(&self, machine: MachineId, at: LabTime, tick: Option<RecordTick>) -> Place<'a> {
        Place { record: self.record, machine, at, tick }
    }

    /// The rows of a column in this slice.
    fn of<T: Timed>(&self, column: &'a Column<T>) -> impl Iterator<Item = &'a T> + use<'a, T> {
        column.range(column.before(self.from), column.before(self.to))
    }

    fn packed<T: Pack + Timed>(&self, rows: &'a Packed<T>) -> impl Iterator<Item = T> + use<'a, T> {
        rows.range(rows.before(self.from), rows.before(self.to))
    }

    fn gather(&mut self) {
        let record = self.record;
        for actor in record.cast.actors() {
            self.track(&AUTHORITY, MachineId::SERVER, actor, record.authority(actor));
        }
        for machine in record.cast.machines() {
            for own in &record.of(machine).own {
                self.track(&PREDICTED, machine, own.actor, &own.predicted);
                self.track(&REWRITTEN, machine, own.actor, &own.rewritten);
                for row in self.packed(own.inputs.rows()) {
                    let here = InputHere { actor: own.actor, row };
                    self.rows.push(INPUT.row(&self.place(machine, row.at, Some(row.tick)), &here));
                }
            }
            self.frames(machine);
            self.machine(machine);
        }
        for (from, to, column) in record.links() {
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
        for row in self.packed(&rows.clocks) {
            self.rows.push(CLOCK.row(&self.place(machine, row.at, None), &row));
        }
        for row in self.of(&rows.happenings) {
            self.rows.push(happening(&self.place(machine, row.at, row.tick), &row.what));
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

    fn track(&mut self, kind: &Kind<StateRow>, machine: MachineId, actor: ActorId, track: &Track) {
        for i in track.between(self.from, LabTime(self.to.0 - 1)) {
            let Some(head) = track.head(i) else { continue };
            let place = self.place(machine, head.at, Some(head.tick));
            let mut map = kind.map(&place, &StateRow { actor, head });
            for f in &self.record.layout(actor, head.tick).schema().state {
                let value = match f.shape {
                    Shape::Point | Shape::Vector => {
                        let v = track.vec3(i, f.lane);
                        json!([v.x, v.y, v.z])
                    }
                    Shape::Number | Shape::Bearing => json!(track.real(i, f.lane)),
                    Shape::Flag => json!(track.lane(i, f.lane) != Some(0)),
                    Shape::Counter => json!(track.lane(i, f.lane)),
                };
                map.insert(f.name.into(), value);
            }
            self.rows.push((head.at, Value::Object(map)));
        }
    }
}
