//! Reads a record file back to the record that it was written from.

use std::io::{self, Read, Seek};
use std::sync::Arc;

use thiserror::Error;
use velocitas_core::{Event, Fact, Motion};

use super::block::{Blocks, Damage, Holds};
use super::coded::{ChangeNote, Expected, Key, MADE, Seldom, Tag, entity, take};
use crate::command::Command;
use crate::export::Ending;
use crate::ids::{MachineId, Part, RecordTick};
use crate::known::{Change, Changed, Reach};
use crate::record::{Record, Recorder, Unpacker};
use crate::run::{Keep, LEAST_KEPT, Run, RunError};
use crate::take::{Take, TakeError};
use crate::time::LabTime;
use crate::watch::{Happening, Watch};

/// A record that was read from a file.
#[derive(Clone, Debug)]
pub struct Stored {
    /// Course, gaits, seed and what was commanded.
    pub take: Take,
    /// What happened.
    pub record: Record,
    /// How it ended; `None` where the file was cut short, or is still being written.
    pub ending: Option<Ending>,
    /// Where the file is not sound, if it is not.
    pub damage: Option<Damage>,
}

/// Why a file cannot be read as a record.
#[derive(Debug, Error)]
pub enum StoredError {
    /// It cannot be read at all.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// It is none, or of another version.
    #[error("expected a record that this version wrote (`velocitas record 1`); write it anew from its course or take")]
    Foreign,
    /// What it says of its course is not sound.
    #[error("what it says of its course cannot be read: {0}")]
    Take(#[from] TakeError),
    /// Its course cannot be run.
    #[error(transparent)]
    Run(#[from] RunError),
}

/// Most entities that a record may have.
const MOST_ACTORS: usize = 1 << 14;
/// A tick may be so far ahead of its moment: machines begin anywhere, and clocks are set.
const AHEAD: LabTime = LabTime(600_000_000_000);

impl Stored {
    /// Reads a file. `own` are rules in Rust that its course may name; of what happened so much is kept.
    ///
    /// # Errors
    /// When it is no record, or what it says of its course is not sound.
    pub fn read(from: impl Read + Seek, own: &[Arc<dyn Motion>], keep: Keep) -> Result<Self, StoredError> {
        let mut blocks = Blocks::of(from)?.ok_or(StoredError::Foreign)?;
        let mut text = Vec::new();
        while let Some(block) = blocks.next()? {
            if block.holds == Holds::Text {
                text.extend_from_slice(block.bytes);
            }
        }
        let take = Take::read(&text, own)?;
        let begun = Run::of_take(&take)?;
        let mut reading = Reading {
            making: Recorder::of(begun.record().clone()),
            take: &take,
            keep,
            last: LabTime::ZERO,
            ending: None,
        };
        blocks.rewind()?;
        loop {
            let place = blocks.place();
            let Some(block) = blocks.next()? else { break };
            if block.holds == Holds::Facts
                && let Err(why) = reading.block(block.bytes, block.span)
            {
                blocks.give_up(place, why);
            }
        }
        let Reading { making: Recorder { mut record, .. }, ending, .. } = reading;
        record.end = record.end.max(blocks.until());
        Ok(Self { record, ending, damage: blocks.damage, take })
    }
}

impl Stored {
    /// The run that it is of: it is over.
    ///
    /// # Errors
    /// When the cast of its course does not fit a snapshot.
    pub fn run(&self) -> Result<Run, RunError> {
        Run::over(&self.take, self.record.clone(), self.ending)
    }
}

/// A record on its way.
struct Reading<'a> {
    making: Recorder,
    take: &'a Take,
    keep: Keep,
    last: LabTime,
    ending: Option<Ending>,
}

const NO_MACHINE: &str = "a machine that is not there";
const NO_ENTITY: &str = "an entity that is not there";
const OTHER_TIME: &str = "a row that is not of the time of its block";
const STRANGE: &str = "a row that no machine writes";

impl Reading<'_> {
    fn machine(&self, number: u32) -> Result<MachineId, &'static str> {
        self.making.record.cast.machines().nth(number as usize).ok_or(NO_MACHINE)
    }

    /// A moment lies in its block, and not before those before it.
    fn at(&mut self, at: LabTime, (from, to): (LabTime, LabTime)) -> Result<(), &'static str> {
        if at < from || at > to || at < self.last {
            return Err(OTHER_TIME);
        }
        self.last = at;
        Ok(())
    }

    /// A tick may be one of this moment.
    fn tick(&self, tick: RecordTick, at: LabTime) -> Result<(), &'static str> {
        let most = at.plus(AHEAD).secs() * f64::from(self.making.record.cast.rate.hz());
        if f64::from(tick.0) > most { Err(STRANGE) } else { Ok(()) }
    }

    fn block(&mut self, bytes: &[u8], span: (LabTime, LabTime)) -> Result<(), &'static str> {
        let mut unpacker = Unpacker::new(bytes);
        let mut expected = Expected::default();
        while !unpacker.is_empty() {
            let tag = Tag::from_number(unpacker.take()).ok_or("an entry of an unknown kind")?;
            let mut key: Key = [0; 3];
            for part in &mut key[..tag.keys()] {
                *part = u32::try_from(unpacker.take()).map_err(|_| STRANGE)?;
            }
            self.entry(tag, key, &mut unpacker, (&mut expected, span))?;
        }
        self.forget();
        Ok(())
    }

    fn entry(
        &mut self,
        tag: Tag,
        key: Key,
        unpacker: &mut Unpacker<'_>,
        (expected, span): (&mut Expected, (LabTime, LabTime)),
    ) -> Result<(), &'static str> {
        let first = self.making.record.cast.first;
        if tag == Tag::Seldom {
            let length = unpacker.take() as usize;
            let bytes = unpacker.bytes(length).ok_or("an entry is cut short")?;
            let seldom = postcard::from_bytes(bytes).map_err(|_| STRANGE)?;
            return self.seldom(seldom, span);
        }
        let machine = self.machine(key[0])?;
        match tag {
            Tag::State => {
                let note = take(unpacker, &mut expected.states, key);
                let made = *MADE.get(key[2] as usize).ok_or(STRANGE)?;
                self.at(note.at, span)?;
                self.tick(note.tick(), note.at)?;
                let part = if key[2] == 0 { Part::Server } else { Part::Client };
                let making = &mut self.making;
                note.tell(first, entity(key[1]), made, |state| {
                    making.event(note.at, machine, part, &Event::State(*state));
                });
            }
            Tag::Input => {
                let note = take(unpacker, &mut expected.inputs, key);
                self.at(note.at, span)?;
                self.tick(note.tick(), note.at)?;
                let part = if key[2] == 1 { Part::Server } else { Part::Client };
                let (fact, value) = note.fact(first, entity(key[1])).ok_or(STRANGE)?;
                self.making.event(note.at, machine, part, &Event::Input(fact, value));
            }
            Tag::Measure => {
                let note = take(unpacker, &mut expected.measures, key);
                self.at(note.at, span)?;
                let measure = note.measure(first).ok_or(STRANGE)?;
                self.making.event(note.at, machine, Part::Server, &Event::Measure(measure));
            }
            Tag::Message => {
                let to = self.machine(key[1])?;
                let row = take(unpacker, &mut expected.messages, key);
                self.at(row.at, span)?;
                self.making.message(machine, to, row);
            }
            Tag::Unread => {
                let to = self.machine(key[1])?;
                self.making.unread(machine, to, unpacker.take());
            }
            Tag::Clock => {
                let row = take(unpacker, &mut expected.clocks, key);
                self.at(row.at, span)?;
                self.making.event(row.at, machine, Part::Client, &Event::Fact(Fact::Clock(row.fact)));
            }
            Tag::Received => {
                let row = take(unpacker, &mut expected.received, key);
                self.at(row.at, span)?;
                self.tick(row.tick, row.at)?;
                let fact = Fact::Received { tick: row.tick.tick(first) };
                self.making.event(row.at, machine, Part::Client, &Event::Fact(fact));
            }
            Tag::Frame => {
                let row = take(unpacker, &mut expected.frames, key);
                self.at(row.at, span)?;
                self.making.record.note_frame(machine, row);
            }
            Tag::Own => {
                let row = take(unpacker, &mut expected.own, key);
                self.at(row.at, span)?;
                self.making.record.note_own(machine, key[1] as usize, row).ok_or(NO_ENTITY)?;
            }
            Tag::Otherwise => {
                let row = take(unpacker, &mut expected.otherwise, key);
                self.at(row.at, span)?;
                self.making.record.note_otherwise(machine, row).ok_or(NO_ENTITY)?;
            }
            Tag::Seen => {
                let row = take(unpacker, &mut expected.seen, key);
                self.at(row.at, span)?;
                self.making.record.note_seen(machine, row).ok_or(NO_ENTITY)?;
            }
            Tag::Seldom => {}
        }
        Ok(())
    }

    fn seldom(&mut self, seldom: Seldom, span: (LabTime, LabTime)) -> Result<(), &'static str> {
        match seldom {
            Seldom::Fact(at, machine, part, fact) => {
                self.at(at, span)?;
                self.machine(machine.place())?;
                self.is_sound(&fact, at)?;
                self.making.event(at, machine, part, &Event::Fact(fact));
            }
            Seldom::Happening(machine, row) => {
                self.at(row.at, span)?;
                self.machine(machine.place())?;
                let is_sound = match row.what {
                    Happening::Command(command) => self.may_be_said(&command),
                    Happening::Fact(_) => false,
                    _ => true,
                };
                if !is_sound {
                    return Err(STRANGE);
                }
                self.making.happening(machine, row);
            }
            Seldom::Changed { at, tick, reach, what } => {
                self.at(at, span)?;
                if let Reach::One(machine) = reach {
                    self.machine(machine.place())?;
                }
                let what = self.changed(what)?;
                self.making.changed(Change { at, tick, reach, what });
            }
            Seldom::Refused(at, machine, words) => {
                self.at(at, span)?;
                self.machine(machine.place())?;
                self.making.record.note_refusal(at, machine, words);
            }
            Seldom::Ended(at, digest, refused_datagrams) => {
                self.at(at, span)?;
                self.making.record.end = self.making.record.end.max(at);
                self.ending = Some(Ending { digest, refused_datagrams });
            }
        }
        Ok(())
    }

    /// Whether a fact may be one of this moment.
    fn is_sound(&self, fact: &Fact, at: LabTime) -> Result<(), &'static str> {
        let cast = &self.making.record.cast;
        if let Some(tick) = fact.tick() {
            self.tick(cast.tick(tick), at)?;
        }
        match fact {
            Fact::Corrected(c) => [c.agreed, c.newest].iter().try_for_each(|tick| self.tick(cast.tick(*tick), at)),
            Fact::Verdict(v) | Fact::Note(v) => {
                [v.evidence.from, v.evidence.to].iter().try_for_each(|tick| self.tick(cast.tick(*tick), at))
            }
            Fact::Dropped { count, .. } if *count > u64::from(u32::MAX) => Err(STRANGE),
            Fact::Born { kind, .. } if cast.kinds().get(*kind).is_none() => Err(STRANGE),
            Fact::Born { .. } if cast.actors.len() >= MOST_ACTORS => Err(STRANGE),
            _ => Ok(()),
        }
    }

    /// Whether a command speaks of what is there.
    fn may_be_said(&self, command: &Command) -> bool {
        let course = &self.take.course;
        let is_there = command.member().is_none_or(|member| member.index() < course.cast.len());
        let kind = match command {
            Command::Tune { kind, .. } | Command::Reload { kind, .. } => Some(*kind),
            _ => None,
        };
        is_there && kind.is_none_or(|kind| course.kinds.get(kind).is_some())
    }

    fn changed(&self, what: ChangeNote) -> Result<Changed, &'static str> {
        Ok(match what {
            ChangeNote::Tuned { kind, tunable, value } => {
                let rule = self.making.record.cast.kinds().get(kind).ok_or(STRANGE)?;
                // A rule that was read later may have others.
                let later = self.take.rules.iter().map(|read| &*read.rule);
                let mut all = std::iter::once(rule).chain(later).flat_map(|rule| rule.tunables());
                let tunable = all.find(|known| known.name == tunable).ok_or(STRANGE)?.name;
                Changed::Tuned { kind, tunable, value }
            }
            ChangeNote::Reloaded { kind, version } => {
                let read = self.take.rules.get(usize::from(version).wrapping_sub(1)).ok_or(STRANGE)?;
                Changed::Reloaded { kind, version, rule: read.rule.clone() }
            }
            ChangeNote::Solid { solid, there } => Changed::Solid { solid, there },
        })
    }

    /// Lets go of the oldest until the rest is within bounds.
    fn forget(&mut self) {
        let newest = self.last.minus(LEAST_KEPT);
        let wanted = match self.keep {
            Keep::All | Keep::Figures => return,
            Keep::Time(lasts) => self.last.minus(lasts).min(newest),
            Keep::Bytes(_) => newest,
        };
        while self.making.record.kept_from < wanted
            && !matches!(self.keep, Keep::Bytes(most) if self.making.record.bytes() <= most)
        {
            let from = self.making.record.kept_from.plus(LabTime(4_000_000_000)).min(wanted);
            self.making.record.forget(from);
        }
    }
}
