//! The record as JSON Lines, one object a line, in the order in which things happened. `docs/record.md` explains every
//! kind and key.

use std::io::{self, Write};

use serde_json::{Map, Value, json};
use velocitas_core::{Correction, Restored, Shape, Verdict};

use crate::cause::{causes, shown};
use crate::command::Command;
use crate::knob::Knob;
use crate::known::Reach;
use crate::record::{
    DrawnRow, Happening, HappeningRow, InputFate, InputRow, Machine, MessageRow, Record, Track, drawn_name,
};
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
        let mut rows = Rows { record, from, to, rows: Vec::new() };
        rows.gather();
        let mut rows = rows.rows;
        rows.sort_by_key(|(at, _)| *at);
        for (_, row) in &rows {
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
    let course = record.course();
    let cast: Vec<Value> = course
        .cast
        .iter()
        .map(|m| {
            let schema = course.kinds.motion(m.kind).schema();
            let fields: Vec<Value> = schema.state.iter().map(|f| json!({ "name": f.name, "unit": f.unit })).collect();
            json!({ "name": m.name, "rule": course.kinds.motion(m.kind).name(), "fields": fields })
        })
        .collect();
    json!({
        "kind": "run", "format": RECORD_FORMAT, "course": course.name, "seed": course.seed,
        "tick_rate": course.rate.hz(), "first_tick": course.first_tick, "cast": cast,
    })
}

/// A slice of the record on its way out.
struct Rows<'a> {
    record: &'a Record,
    from: LabTime,
    to: LabTime,
    rows: Vec<(LabTime, Value)>,
}

impl Rows<'_> {
    fn name(&self, member: usize) -> &str {
        &self.record.course().cast[member].name
    }

    fn machine(&self, machine: Machine) -> &str {
        match machine {
            Machine::Server => "server",
            Machine::Member(i) => self.name(i),
        }
    }

    fn gather(&mut self) {
        let record = self.record;
        for member in 0..record.course().cast.len() {
            self.track("authority", "entity", member, &record.authority[member]);
            self.track("predicted", "machine", member, &record.predicted[member]);
            self.track("rewritten", "machine", member, &record.rewritten[member]);
            for (entity, column) in record.drawn[member].iter().enumerate() {
                let start = column.partition(|r| r.at < self.from);
                let end = column.partition(|r| r.at < self.to);
                for row in column.range(start, end) {
                    let value = self.drawn(member, entity, row);
                    self.rows.push((row.at, value));
                }
            }
        }
        macro_rules! rows {
            ($column:expr, $each:ident) => {
                let start = $column.partition(|r| r.at < self.from);
                let end = $column.partition(|r| r.at < self.to);
                for row in $column.range(start, end) {
                    let value = self.$each(row);
                    self.rows.push((row.at, value));
                }
            };
        }
        rows!(record.inputs, input);
        rows!(record.messages, message);
        rows!(record.clocks, clock);
        rows!(record.happenings, happening);
    }

    fn track(&mut self, kind: &str, who: &str, member: usize, track: &Track) {
        let course = self.record.course();
        for i in track.between(self.from, LabTime(self.to.0 - 1)) {
            let Some(head) = track.head(i) else { continue };
            let mut row = Map::new();
            row.insert("kind".into(), kind.into());
            row.insert("at_ns".into(), head.at.0.into());
            row.insert(who.into(), self.name(member).into());
            row.insert("tick".into(), self.record.shown(head.tick).into());
            for f in &self.record.layout(member, head.tick).schema().state {
                let value = match f.shape {
                    Shape::Point | Shape::Vector => {
                        let v = track.vec3(i, f.lane);
                        json!([v.x, v.y, v.z])
                    }
                    Shape::Number | Shape::Bearing => json!(track.real(i, f.lane)),
                    Shape::Flag => json!(track.lane(i, f.lane) != Some(0)),
                    Shape::Counter => json!(track.lane(i, f.lane)),
                };
                row.insert(f.name.into(), value);
            }
            let touched: Vec<&str> =
                head.touched().map(|id| course.solid(id).map_or("edge", |s| s.name.as_str())).collect();
            if !touched.is_empty() {
                row.insert("contacts".into(), json!(touched));
            }
            if head.teleported {
                row.insert("teleported".into(), true.into());
            }
            self.rows.push((head.at, Value::Object(row)));
        }
    }

    fn drawn(&self, viewer: usize, entity: usize, r: &DrawnRow) -> Value {
        json!({
            "kind": "drawn", "at_ns": r.at.0, "machine": self.name(viewer), "entity": self.name(entity),
            "tick": self.record.shown(r.tick) as f64 + f64::from(r.fraction) / 65_536.0,
            "pos": r.pos, "bearing": r.bearing, "how": drawn_name(r.how),
        })
    }

    fn input(&self, r: &InputRow) -> Value {
        let (machine, tick) = (self.name(usize::from(r.member)), self.record.shown(r.tick));
        match r.fate {
            InputFate::Sampled => {
                json!({ "kind": "input_sampled", "at_ns": r.at.0, "machine": machine, "tick": tick })
            }
            InputFate::Arrived(margin) => json!({
                "kind": "input_arrived", "at_ns": r.at.0, "machine": machine, "tick": tick,
                "margin_ticks": f64::from(margin) / 4.0,
            }),
            InputFate::Used(provenance) => json!({
                "kind": "input_used", "at_ns": r.at.0, "machine": machine, "tick": tick,
                "provenance": format!("{provenance:?}").to_lowercase(),
            }),
        }
    }

    fn message(&self, r: &MessageRow) -> Value {
        json!({
            "kind": "message", "at_ns": r.at.0, "arrived_ns": r.arrived.map(|a| a.0),
            "machine": self.name(usize::from(r.member)), "way": if r.up { "up" } else { "down" },
            "message": format!("{:?}", r.kind).to_lowercase(), "bytes": r.bytes,
            "tick": r.tick.map(|t| self.record.shown(t)), "doubled": r.doubled,
        })
    }

    fn clock(&self, r: &crate::record::ClockRow) -> Value {
        json!({
            "kind": "clock", "at_ns": r.at.0, "machine": self.name(usize::from(r.member)), "behind_ticks": r.behind,
            "rtt_us": r.rtt_us, "rtt_sigma_us": r.rtt_sigma_us,
            "margin_ticks": r.margin.map(|m| f64::from(m) / 4.0), "view_delay_us": r.view_delay_us,
        })
    }

    fn happening(&self, r: &HappeningRow) -> Value {
        let mut row = match &r.what {
            Happening::Corrected(c) => self.correction(r, c),
            Happening::Verdict(v) => self.verdict(v),
            Happening::Resync => json!({ "kind": "resync" }),
            Happening::Dropped(count) => json!({ "kind": "dropped", "ticks": count }),
            Happening::Overrun(count) => json!({ "kind": "overrun", "datagrams": count }),
            Happening::ClockSet(shift) => json!({ "kind": "clock_set", "shift_ns": shift }),
            Happening::Joined => json!({ "kind": "joined" }),
            Happening::Pushed => json!({ "kind": "pushed" }),
            Happening::Frozen(lasts) => json!({ "kind": "frozen", "lasts_ns": lasts.0 }),
            Happening::Pressed => json!({ "kind": "pressed" }),
            Happening::Trick { lasts } => {
                json!({ "kind": "trick", "begins": lasts.is_some(), "lasts_ns": lasts.map(|l| l.0) })
            }
            Happening::Offence => json!({ "kind": "offence" }),
            Happening::StepFault(field) => json!({ "kind": "step_fault", "field": field }),
            Happening::Command(command) => self.command(command),
        };
        if let Value::Object(map) = &mut row {
            map.insert("at_ns".into(), r.at.0.into());
            map.insert("machine".into(), self.machine(r.machine).into());
            map.insert("tick".into(), json!(r.tick.map(|t| self.record.shown(t))));
        }
        row
    }

    fn correction(&self, r: &HappeningRow, c: &Correction) -> Value {
        let Machine::Member(member) = r.machine else { return Value::Null };
        let found = causes(self.record, member, r.at, c);
        let found: Vec<Value> =
            found.iter().map(|c| json!({ "cause": c.name(), "words": c.words(self.record) })).collect();
        json!({
            "kind": if c.why == Restored::Settled { "settled" } else { "correction" },
            "agreed_tick": self.record.shown(c.agreed.0 as u32), "newest_tick": self.record.shown(c.newest.0 as u32),
            "divergence_m": c.divergence, "jump_m": c.jump, "replayed_ticks": c.replayed, "causes": found,
        })
    }

    fn verdict(&self, v: &Verdict) -> Value {
        json!({
            "kind": "verdict", "rule": v.rule.name(), "from_tick": self.record.shown(v.from.0 as u32),
            "to_tick": self.record.shown(v.to.0 as u32), "measured": v.measured, "limit": v.limit, "slack": v.slack,
            "quantum": v.quantum, "gain_m": v.gain, "answer": format!("{:?}", v.answer).to_lowercase(),
        })
    }

    fn reach(&self, reach: Reach) -> &str {
        match reach {
            Reach::All => "all",
            Reach::One(machine) => self.machine(machine),
        }
    }

    fn command(&self, command: &Command) -> Value {
        let knob = |k: Knob, v| json!({ "kind": "command", "knob": k.spec().name, "value": shown(k, v) });
        match *command {
            Command::Set { knob: k, value, .. } => knob(k, value),
            Command::Helm(member) => json!({ "kind": "command", "helm": member.map(|m| self.name(m)) }),
            Command::Keys(c) => json!({
                "kind": "command", "stick": [c.stick.0, c.stick.1], "facing": c.facing, "sprint": c.sprint,
                "hops": c.hops,
            }),
            Command::Tune { kind, tunable, value, reach } => {
                let rule = self.record.course().kinds.motion(kind);
                json!({
                    "kind": "command", "tune": tunable, "value": value, "gait": rule.name(), "reach": self.reach(reach),
                })
            }
            Command::Reload { kind, version, reach } => {
                let rule = self.record.course().kinds.motion(kind).name();
                json!({ "kind": "command", "reload": rule, "version": version, "reach": self.reach(reach) })
            }
        }
    }
}
