//! Writes a record while it runs.

use std::io::{self, Write};

use velocitas_core::{Event, Fact, Tick};
use velocitas_record::ids::{MachineId, Part};
use velocitas_record::record::{ClockRow, Packer, ReceivedRow, Record};
use velocitas_record::time::LabTime;

use super::block::{self, Holds, MAGIC};
use super::coded::{Expected, InputNote, MADE, MeasureNote, StateNote, Tag, begin, of_entity, put};
use super::seldom::{ChangeNote, Seldom};
use crate::export::Ending;
use crate::run::{Follow, Told};

/// A block is of no longer a time than this …
const LONGEST: LabTime = LabTime(1_000_000_000);
/// … and holds little more than this number of bytes.
const LARGE: usize = 1 << 20;

/// Writes what is told to a file, block by block.
pub struct Store<W> {
    out: W,
    first: Tick,
    packer: Packer,
    expected: Expected,
    /// The block at hand: since when.
    from: LabTime,
    to: LabTime,
    /// What went wrong first.
    failed: Option<io::Error>,
}

impl<W: Write> Store<W> {
    /// Begins a file.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn new(mut out: W, record: &Record) -> io::Result<Self> {
        out.write_all(MAGIC)?;
        Ok(Self {
            out,
            first: record.cast.first,
            packer: Packer::default(),
            expected: Expected::default(),
            from: record.end,
            to: record.end,
            failed: None,
        })
    }

    /// Writes lines of the take that are new.
    ///
    /// # Errors
    /// When it, or something before it, could not be written.
    pub fn text(&mut self, lines: &str) -> io::Result<()> {
        self.flush()?;
        if lines.is_empty() {
            Ok(())
        } else {
            block::write(&mut self.out, Holds::Text, (self.to, self.to), lines.as_bytes())
        }
    }

    /// Writes the block at hand, and sees to it that it lands.
    ///
    /// # Errors
    /// When it, or something before it, could not be written.
    pub fn flush(&mut self) -> io::Result<()> {
        self.write_block();
        self.failed.take().map_or(Ok(()), Err)?;
        self.out.flush()
    }

    /// Ends the file at a moment.
    ///
    /// # Errors
    /// When it could not be written.
    pub fn finish(mut self, at: LabTime, ending: &Ending) -> io::Result<W> {
        self.seldom(at, &Seldom::Ended(at, ending.digest, ending.refused_datagrams));
        self.flush()?;
        self.out.flush()?;
        Ok(self.out)
    }

    fn write_block(&mut self) {
        if self.packer.bytes.is_empty() {
            return;
        }
        if self.failed.is_none() {
            let written = block::write(&mut self.out, Holds::Facts, (self.from, self.to), &self.packer.bytes);
            self.failed = written.err();
        }
        self.packer.bytes.clear();
        self.expected = Expected::default();
    }

    /// Something is told of a moment.
    fn reach(&mut self, at: LabTime) {
        if at.minus(self.from) >= LONGEST || self.packer.bytes.len() >= LARGE {
            self.write_block();
        }
        if self.packer.bytes.is_empty() {
            self.from = at.max(self.to);
        }
        self.to = self.to.max(at);
    }

    fn seldom(&mut self, at: LabTime, what: &Seldom) {
        self.reach(at);
        // Nothing of it cannot be written.
        let bytes = postcard::to_stdvec(what).unwrap_or_default();
        begin(&mut self.packer, Tag::Seldom, [0; 3]);
        self.packer.put(bytes.len() as u64);
        self.packer.bytes.extend_from_slice(&bytes);
    }

    fn event(&mut self, (at, machine, part): (LabTime, MachineId, Part), event: &Event<'_>) {
        self.reach(at);
        let (m, first) = (machine.place(), self.first);
        let (packer, expected) = (&mut self.packer, &mut self.expected);
        match event {
            Event::State(state) => {
                let made = MADE.iter().position(|made| *made == state.made).unwrap_or(0) as u32;
                let key = [m, of_entity(state.entity), made];
                put(packer, &mut expected.states, Tag::State, key, StateNote::of(at, first, state));
            }
            Event::Input(fact, value) => {
                let key = [m, of_entity(fact.entity), u32::from(part == Part::Server)];
                let before = expected.inputs.get(&key).copied().unwrap_or_default();
                let note = InputNote::of((at, first), fact, *value, &before);
                put(packer, &mut expected.inputs, Tag::Input, key, note);
            }
            Event::Measure(measure) => {
                put(packer, &mut expected.measures, Tag::Measure, [m, 0, 0], MeasureNote::of(at, first, measure));
            }
            Event::Fact(Fact::Clock(fact)) => {
                put(packer, &mut expected.clocks, Tag::Clock, [m, 0, 0], ClockRow { at, fact: *fact });
            }
            Event::Fact(Fact::Received { tick }) => {
                let tick = velocitas_record::ids::RecordTick::of(first, *tick);
                put(packer, &mut expected.received, Tag::Received, [m, 0, 0], ReceivedRow { at, tick });
            }
            // No record keeps it.
            Event::Fact(Fact::Agreed { .. }) => {}
            Event::Fact(fact) => self.seldom(at, &Seldom::Fact(at, machine, part, *fact)),
        }
    }

    /// What the record kept of a frame, as far as it was drawn.
    fn frame(&mut self, at: LabTime, viewer: MachineId, record: &Record) {
        self.reach(at);
        let (m, rows) = (viewer.place(), record.of(viewer));
        if let Some((_, words)) = record.newest_refusal(viewer).filter(|(told, _)| *told == at) {
            self.seldom(at, &Seldom::Refused(at, viewer, words.to_owned()));
        }
        let (packer, expected) = (&mut self.packer, &mut self.expected);
        let Some(frame) = rows.frames.last().filter(|frame| frame.at == at) else { return };
        put(packer, &mut expected.frames, Tag::Frame, [m, 0, 0], frame);
        for own in &rows.own {
            if let Some(row) = own.drawn.last().filter(|row| row.at == at) {
                put(packer, &mut expected.own, Tag::Own, [m, own.actor.index() as u32, 0], row);
            }
        }
        if rows.otherwise.last().is_some_and(|row| row.at == at) {
            for row in rows.otherwise.span(at, at) {
                put(packer, &mut expected.otherwise, Tag::Otherwise, [m, 0, 0], row);
            }
        }
        for row in rows.seen.span(at, at) {
            put(packer, &mut expected.seen, Tag::Seen, [m, 0, 0], *row);
        }
    }
}

impl<W: Write> Follow for Store<W> {
    fn told(&mut self, record: &Record, told: Told<'_>) {
        match told {
            Told::Event(at, machine, part, event) => self.event((at, machine, part), event),
            Told::Message(from, to, row) => {
                self.reach(row.at);
                let key = [from.place(), to.place(), 0];
                put(&mut self.packer, &mut self.expected.messages, Tag::Message, key, *row);
            }
            Told::Unread(from, to, number) => {
                begin(&mut self.packer, Tag::Unread, [from.place(), to.place(), 0]);
                self.packer.put(number);
            }
            Told::Frame(at, viewer) => self.frame(at, viewer, record),
            Told::Happening(machine, row) => self.seldom(row.at, &Seldom::Happening(machine, *row)),
            Told::Changed(change) => {
                let (at, tick, reach, what) = (change.at, change.tick, change.reach, ChangeNote::of(&change.what));
                self.seldom(at, &Seldom::Changed { at, tick, reach, what });
            }
        }
    }
}

impl<W> std::fmt::Debug for Store<W> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Store").field("to", &self.to).finish_non_exhaustive()
    }
}
