//! Reads a record file back to the record that it was written from.

use std::io::{self, Read, Seek};
use std::sync::Arc;

use thiserror::Error;
use velocitas_analysis::cause::Findings;
use velocitas_analysis::metrics::Meter;
use velocitas_core::Motion;
use velocitas_record::record::{Record, Unpacker};
use velocitas_record::time::LabTime;

use super::block::{Blocks, Damage, Holds};
use super::coded::{Expected, Key, MADE, Tag, entity, take};
use super::restore::{Restored, Restoring, STRANGE, Strange};
use crate::export::{Ending, RECORD_FORMAT};
use crate::run::{Keep, Run, RunError};
use crate::take::{Take, TakeError};

/// A record that was read from a file.
#[derive(Clone, Debug)]
pub struct Stored {
    /// Course, gaits, seed and what was commanded.
    pub take: Take,
    /// What happened.
    pub record: Record,
    /// Its figures so far, and what was found for them.
    pub(super) meter: Meter,
    pub(super) findings: Findings,
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
    #[error("expected a record that this version wrote (`velocitas record 2`); write it anew from its course or take")]
    Foreign,
    /// What it says of its course is not sound.
    #[error("what it says of its course cannot be read: {0}")]
    Take(#[from] TakeError),
    /// It is no JSON Lines of a record.
    #[error("expected a record in JSON Lines, whose first line is a whole object of kind `run`")]
    NoRecord,
    /// It is of another format.
    #[error("expected a record of format {RECORD_FORMAT}; found {0}; write it anew from its course or take")]
    Format(String),
    /// Nothing says what it is a record of.
    #[error(
        "expected `take` in its first line, with course, gaits and commands; it has none: it can be read, and not be opened"
    )]
    NoTake,
    /// Its course cannot be run.
    #[error(transparent)]
    Run(#[from] RunError),
}

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
        let take = Take::read_over(&text, own)?;
        let mut into = Restoring::new(&take, keep)?;
        blocks.rewind()?;
        loop {
            let place = blocks.place();
            let Some(block) = blocks.next()? else { break };
            if block.holds == Holds::Facts
                && let Err(why) = facts(&mut into, block.bytes, block.span)
            {
                blocks.give_up(place, why);
            }
        }
        let Restored { record, meter, findings, ending } = into.finish(blocks.until());
        Ok(Self { record, meter, findings, ending, damage: blocks.damage, take })
    }
}

impl Stored {
    /// The run that it is of: it is over.
    ///
    /// # Errors
    /// When the cast of its course does not fit a snapshot.
    pub fn run(&self) -> Result<Run, RunError> {
        let seen = (self.record.clone(), self.meter.clone(), self.findings.same());
        Run::over(&self.take, seen, self.ending)
    }
}

/// Puts the facts of a block back.
fn facts(into: &mut Restoring<'_>, bytes: &[u8], span: (LabTime, LabTime)) -> Result<(), Strange> {
    let mut unpacker = Unpacker::new(bytes);
    let mut expected = Expected::default();
    into.within(span);
    while !unpacker.is_empty() {
        let tag = Tag::from_number(unpacker.take()).ok_or("an entry of an unknown kind")?;
        let mut key: Key = [0; 3];
        for part in &mut key[..tag.keys()] {
            *part = u32::try_from(unpacker.take()).map_err(|_| STRANGE)?;
        }
        match tag {
            Tag::Seldom => {
                let length = unpacker.take() as usize;
                let bytes = unpacker.bytes(length).ok_or("an entry is cut short")?;
                into.seldom(postcard::from_bytes(bytes).map_err(|_| STRANGE)?)?;
            }
            Tag::Frame | Tag::Own | Tag::Otherwise | Tag::Seen => drawn(into, tag, key, &mut unpacker, &mut expected)?,
            _ => told(into, tag, key, &mut unpacker, &mut expected)?,
        }
    }
    into.pass();
    Ok(())
}

/// Something that a client or the server told, or a datagram.
fn told(
    into: &mut Restoring<'_>,
    tag: Tag,
    key: Key,
    unpacker: &mut Unpacker<'_>,
    expected: &mut Expected,
) -> Result<(), Strange> {
    let (first, machine) = (into.record().cast.first, into.machine(key[0])?);
    match tag {
        Tag::State => {
            let note = take(unpacker, &mut expected.states, key);
            let made = *MADE.get(key[2] as usize).ok_or(STRANGE)?;
            note.tell(first, entity(key[1]), made, |state| into.state(note.at, machine, state))
        }
        Tag::Input => {
            let note = take(unpacker, &mut expected.inputs, key);
            into.input(note.at, machine, note.fact(first, entity(key[1])).ok_or(STRANGE)?)
        }
        Tag::Measure => {
            let note = take(unpacker, &mut expected.measures, key);
            into.measure(note.at, machine, &note.measure(first).ok_or(STRANGE)?)
        }
        Tag::Clock => into.clock(machine, take(unpacker, &mut expected.clocks, key)),
        Tag::Received => into.received(machine, take(unpacker, &mut expected.received, key)),
        Tag::Message => {
            let to = into.machine(key[1])?;
            into.message((machine, to), take(unpacker, &mut expected.messages, key))
        }
        Tag::Unread => {
            let to = into.machine(key[1])?;
            into.unread((machine, to), unpacker.take());
            Ok(())
        }
        _ => Err(STRANGE),
    }
}

/// Something of a frame.
fn drawn(
    into: &mut Restoring<'_>,
    tag: Tag,
    key: Key,
    unpacker: &mut Unpacker<'_>,
    expected: &mut Expected,
) -> Result<(), Strange> {
    let machine = into.machine(key[0])?;
    match tag {
        Tag::Frame => into.frame(machine, take(unpacker, &mut expected.frames, key)),
        Tag::Own => into.own(machine, key[1] as usize, take(unpacker, &mut expected.own, key)),
        Tag::Otherwise => into.otherwise(machine, take(unpacker, &mut expected.otherwise, key)),
        Tag::Seen => into.seen(machine, take(unpacker, &mut expected.seen, key)),
        _ => Err(STRANGE),
    }
}
