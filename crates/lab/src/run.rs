//! A run: the lab, its record, and the way back.
//!
//! Going back to look is reading the record. Going back to go on is restoring a checkpoint, running the few seconds up
//! to the moment again with the same commands, and dropping what came after.

use std::sync::Arc;

use thiserror::Error;
use velocitas_core::{Server, ServerConfig, SpawnError, Tick};

use crate::command::Command;
use crate::course::{Course, KnownTo};
use crate::lab::Lab;
use crate::record::{Record, Unrecorded};
use crate::time::LabTime;

/// Between checkpoints while they are fresh.
const CHECKPOINT: LabTime = LabTime(2_000_000_000);
/// How long they are fresh; older ones are thinned to one in eight.
const FRESH: LabTime = LabTime(60_000_000_000);
const THINNED: u64 = 8;

/// Why a course cannot be run.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RunError {
    /// The whole cast does not fit a snapshot.
    #[error("the cast is too large: {0}")]
    Cast(#[from] SpawnError),
}

/// A lab with its record and checkpoints.
#[derive(Clone, Debug)]
pub struct Run {
    lab: Lab,
    record: Record,
    checkpoints: Vec<(LabTime, Lab)>,
    commands: Vec<(LabTime, Command)>,
}

impl Run {
    /// A course at its beginning.
    ///
    /// # Errors
    /// When the cast does not fit a snapshot.
    pub fn new(course: Course) -> Result<Self, RunError> {
        let course = Arc::new(course);
        let mut trial = Server::new(ServerConfig {
            kinds: course.kinds.clone(),
            rate: course.rate,
            base: Tick(0),
            start: course.server.offset,
            ingredients: velocitas_core::Ingredients::new(Arc::new(course.ground(KnownTo::Server)), &course.kinds),
        });
        for member in &course.cast {
            trial.spawn(member.kind, course.kinds.motion(member.kind).spawn(member.spawn, member.facing))?;
        }
        let lab = Lab::new(course.clone());
        let checkpoints = vec![(LabTime::ZERO, lab.clone())];
        Ok(Self { lab, record: Record::new(course), checkpoints, commands: Vec::new() })
    }

    /// The simulation.
    pub const fn lab(&self) -> &Lab {
        &self.lab
    }

    /// What happened.
    pub const fn record(&self) -> &Record {
        &self.record
    }

    /// What is run.
    pub const fn course(&self) -> &Arc<Course> {
        self.record.course()
    }

    /// How far it has come.
    pub const fn now(&self) -> LabTime {
        self.lab.now()
    }

    /// Runs on to a moment.
    pub fn advance(&mut self, to: LabTime) {
        while self.lab.now() < to {
            let last = self.checkpoints.last().map_or(LabTime::ZERO, |(at, _)| *at);
            let stop = to.min(last.plus(CHECKPOINT));
            self.lab.advance(stop, &mut self.record);
            if stop == last.plus(CHECKPOINT) {
                self.checkpoints.push((stop, self.lab.clone()));
                self.thin();
            }
        }
        self.record.end = self.lab.now();
    }

    /// One old checkpoint in eight is enough: running sixteen seconds again is quick.
    fn thin(&mut self) {
        let fresh = self.lab.now().minus(FRESH);
        let keep = |at: LabTime| at >= fresh || (at.0 / CHECKPOINT.0).is_multiple_of(THINNED);
        self.checkpoints.retain(|(at, _)| keep(*at));
    }

    /// Does something now.
    pub fn command(&mut self, command: Command) {
        self.commands.push((self.lab.now(), command));
        self.lab.command(command, &mut self.record);
    }

    /// Everything that was commanded, and when.
    pub fn commands(&self) -> &[(LabTime, Command)] {
        &self.commands
    }

    /// Goes back to a moment and drops what came after it. Does nothing for a moment not yet reached.
    pub fn resume_from(&mut self, at: LabTime) {
        if at >= self.lab.now() {
            return;
        }
        let index = self.checkpoints.partition_point(|(when, _)| *when <= at).saturating_sub(1);
        self.checkpoints.truncate(index + 1);
        let mut lab = self.checkpoints[index].1.clone();
        let from = lab.now();
        self.commands.retain(|(when, _)| *when <= at);
        // Commands of the very moment of a checkpoint came after it was made.
        for &(when, command) in self.commands.iter().filter(|(when, _)| *when >= from) {
            lab.advance(when, &mut Unrecorded);
            lab.command(command, &mut Unrecorded);
        }
        lab.advance(at, &mut Unrecorded);
        self.lab = lab;
        self.record.truncate(at);
        self.record.end = at;
    }

    /// The digest of everything so far.
    pub fn digest(&self) -> u64 {
        self.lab.digest()
    }
}
