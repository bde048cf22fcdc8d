//! A run: the lab, its record, and the way back.
//!
//! Going back to look is reading the record. Going back to go on is restoring a checkpoint, running the few seconds up
//! to the moment again with the same commands, and dropping what came after.

use std::sync::Arc;

use thiserror::Error;
use velocitas_core::{Motion, Server, ServerConfig, SpawnError, Tick};

use crate::command::Command;
use crate::course::{Course, KnownTo};
use crate::known::Reach;
use crate::lab::Lab;
use crate::record::{Machine, Record, Unrecorded};
use crate::time::LabTime;

/// Between checkpoints while they are fresh.
const CHECKPOINT: LabTime = LabTime(4_000_000_000);
/// How long they are fresh; older ones are thinned to one in four.
const FRESH: LabTime = LabTime(60_000_000_000);
const THINNED: u64 = 4;

/// Why a course cannot be run.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RunError {
    /// The whole cast does not fit a snapshot.
    #[error("the cast is too large: {0}")]
    Cast(#[from] SpawnError),
}

/// Why a rule cannot take the place of another while it runs.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ReloadError {
    /// A snapshot of everybody would no longer fit a datagram.
    #[error("the new rule is too large: {0}")]
    Size(#[from] SpawnError),
    /// One machine alone would read and write other bits than the rest.
    #[error("the new rule has another layout; on one machine alone only step and tunables may differ")]
    Layout,
}

/// A lab with its record and checkpoints.
#[derive(Clone, Debug)]
pub struct Run {
    lab: Lab,
    record: Record,
    checkpoints: Vec<(LabTime, Lab)>,
    commands: Vec<(LabTime, Command)>,
    /// Rules read while it ran, in that order.
    rules: Vec<Arc<dyn Motion>>,
}

impl Run {
    /// A course at its beginning.
    ///
    /// # Errors
    /// When the cast does not fit a snapshot.
    pub fn new(course: Course) -> Result<Self, RunError> {
        let course = Arc::new(course);
        let mut trial = Server::new(ServerConfig {
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
        Ok(Self { lab, record: Record::new(course), checkpoints, commands: Vec::new(), rules: Vec::new() })
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

    /// One old checkpoint in four is enough: running sixteen seconds again is quick.
    fn thin(&mut self) {
        let fresh = self.lab.now().minus(FRESH);
        let keep = |at: LabTime| at >= fresh || (at.0 / CHECKPOINT.0).is_multiple_of(THINNED);
        self.checkpoints.retain(|(at, _)| keep(*at));
    }

    /// Does something now.
    pub fn command(&mut self, command: Command) {
        self.commands.push((self.lab.now(), command));
        self.lab.command(command, &self.rules, &mut self.record);
    }

    /// Puts a rule that was read again in the place of the one in force, from one tick on that lies ahead of every
    /// machine.
    ///
    /// # Errors
    /// When one machine alone would read and write other bits than the rest, or a snapshot would grow too long.
    pub fn reload(&mut self, kind: u8, rule: Arc<dyn Motion>, reach: Reach) -> Result<(), ReloadError> {
        self.lab.fits(kind, &rule)?;
        let before = self.lab.known(Machine::Server).kinds.motion(kind).schema();
        if reach != Reach::All && before.fingerprint() != rule.schema().fingerprint() {
            return Err(ReloadError::Layout);
        }
        self.rules.push(rule);
        let version = self.rules.len().min(usize::from(u16::MAX)) as u16;
        self.command(Command::Reload { kind, version, reach });
        Ok(())
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
            lab.command(command, &self.rules, &mut Unrecorded);
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
