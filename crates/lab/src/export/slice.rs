//! All rows of a span of the record, table by table.

use velocitas_analysis::cause::Findings;
use velocitas_analysis::metrics::Reel;
use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::known::Changed;
use velocitas_record::record::{Column, Pack, Packed, Record, Samples, StateTrack, Timed};
use velocitas_record::time::LabTime;

use super::changes::{GROUND, RULE};
use super::comings::SEEN;
use super::frames::{FRAME, RECEIVED, REFUSAL, TUNED};
use super::head::state_cells;
use super::inputs::{INPUT, InputHere};
use super::judged::MEASURE;
use super::kind::{Kind, RowContext};
use super::messages::{CLOCK, Datagram, MESSAGE};
use super::page::Page;
use super::states::{AUTHORITY, DRAWN, DrawnHere, ECHO, PREDICTED, REWRITTEN, Seen, StateRow, WINDOW};
use super::table::happening;
use crate::stored::seldom::Seldom;

/// A span of the record on its way out.
pub(super) struct Slice<'a, 'p> {
    pub(super) record: &'a Record,
    pub(super) findings: &'a Findings,
    pub(super) from: LabTime,
    pub(super) to: LabTime,
    pub(super) page: &'p mut Page,
    /// What viewers drew from, all of them in this second.
    pub(super) samples: Samples,
}

impl<'a> Slice<'a, '_> {
    fn place(&self, machine: MachineId, at: LabTime, tick: Option<RecordTick>) -> RowContext<'a> {
        RowContext { record: self.record, findings: self.findings, machine, at, tick }
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

    pub(super) fn gather(&mut self, reel: &mut Reel) {
        let record = self.record;
        for actor in record.cast.actors() {
            self.track(&AUTHORITY, MachineId::SERVER, actor, record.authority(actor));
            self.track(&ECHO, MachineId::SERVER, actor, record.echo(actor));
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
                Changed::Tuned { kind, tunable, value } => {
                    self.page.put(&TUNED, &place, &(change.reach, kind, tunable, value));
                }
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
        for row in self.packed(&RECEIVED, &rows.received) {
            self.page.put(&RECEIVED, &self.place(machine, row.at, Some(row.tick)), &());
        }
        let here = self.from..self.to;
        for (at, _, words) in self.record.refusals().filter(|(at, whose, _)| *whose == machine && here.contains(at)) {
            self.page.put(&REFUSAL, &self.place(machine, at, None), &words.to_owned());
        }
        let (mut newest, mut number) = (None, 0u32);
        for row in self.of(&rows.happenings) {
            number = if newest.replace(row.at) == Some(row.at) { number + 1 } else { 0 };
            self.page.fact = Some((number, Seldom::of(machine, *row)));
            let place = self.place(machine, row.at, row.tick);
            happening(self.page, &place, row.part, &row.what);
        }
        self.page.fact = None;
    }

    /// A row for each frame of a machine, and one for each entity drawn in it.
    fn frames(&mut self, machine: MachineId) {
        for row in self.packed(&FRAME, &self.record.of(machine).frames) {
            self.page.put(&FRAME, &self.place(machine, row.at, None), &row);
        }
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
                let frame = frame.as_ref().filter(|_| known);
                let other = || record.drawn_other((machine, actor, at), frame, samples);
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

    fn track(&mut self, kind: &Kind<StateRow>, machine: MachineId, actor: ActorId, track: &StateTrack) {
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
