//! A run: the lab, its record, and the way back.
//!
//! Going back to look is reading the record. Going back to go on is restoring a checkpoint, running the few seconds up
//! to the moment again with the same commands, and dropping what came after.
//!
//! A branch is a run up to a moment with the later commands still to come ([`Run::branch`]). A stretch can be had again from the
//! checkpoint before it, watched by whoever wants to see more than the record keeps ([`Run::again`]), and its digests are held against
//! those of the checkpoints on the way. [`Run::recalled`] gives rows back that the memory bound let go.

mod back;
mod over;
mod told;

use told::{Alone, Both};
pub use told::{Follow, Told};

use std::collections::VecDeque;
use std::sync::Arc;

use thiserror::Error;
use velocitas_analysis::History;
use velocitas_core::{Digest, Motion, RULES, Server, ServerConfig, SpawnError, Tick};

use crate::course::{Course, KnownTo, Saved};
use crate::lab::{Lab, populate};
use crate::reread::{ReadLater, ReadRule, ReloadError};
use crate::take::Take;
use velocitas_analysis::cause::{Findings, Found};
use velocitas_analysis::metrics::{BEHIND, ClientMetrics, Measured, Meter, Totals, WINDOW};
use velocitas_analysis::moment::Moment;
use velocitas_analysis::stirs::Stirs;
use velocitas_record::addresses::token;
use velocitas_record::command::Command;
use velocitas_record::known::Reach;
use velocitas_record::record::{Cast, Record, Recorder};
use velocitas_record::time::LabTime;

/// Between checkpoints while they are fresh.
const CHECKPOINT: LabTime = LabTime(4_000_000_000);

/// How much is kept at least, whatever the bound: what happened a moment ago is always there to look at.
pub const LEAST_KEPT: LabTime = LabTime(60_000_000_000);
/// How much is taken into figures at a time.
const CATCH_UP: LabTime = LabTime(2_000_000_000);
/// How much of what is drawn is kept there: figures lag by less.
const DRAWN: LabTime = LabTime(BEHIND.0 + 1_500_000_000);
/// How much is kept where only figures are wanted, beside what they look back at.
const OF_FIGURES: LabTime = LabTime(BEHIND.0 + 3_000_000_000);

/// How much of a run is kept to look back at. The oldest goes first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keep {
    /// Everything.
    All,
    /// The last part of virtual time, of this length, at least [`LEAST_KEPT`].
    Time(LabTime),
    /// As much as fits into this number of bytes, at least [`LEAST_KEPT`].
    Bytes(usize),
    /// What figures and causes are had from while it runs: the last half minute, and nothing to go back to.
    Figures,
}

impl Keep {
    /// What is kept unless something else is asked for: 512 MB.
    pub const USUAL: Self = Self::Bytes(512_000_000);
}

/// Why a course cannot be run.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RunError {
    /// The whole cast does not fit a snapshot.
    #[error("the cast is too large: {0}")]
    Cast(#[from] SpawnError),
}

/// Why a stretch of a run cannot be had again.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum AgainError {
    /// It was not there yet.
    #[error("expected a moment up to {0}, where the run is")]
    NotReached(LabTime),
    /// It is over: it was read from a record.
    #[error("it was read from a record of a run that is over: nothing can be run there again")]
    Over,
    /// It does not come out as it did: this program, or what it read, is another.
    #[error("run again, it is no more what it was by {0}")]
    Parted(LabTime),
}

/// A lab with its record and checkpoints.
#[derive(Clone, Debug)]
pub struct Run {
    lab: Lab,
    recorder: Recorder,
    /// What was found behind corrections.
    findings: Findings,
    checkpoints: Vec<(LabTime, Arc<Lab>)>,
    commands: Vec<(LabTime, Command)>,
    /// What is to be commanded later, each at its moment: as it was in the run that this one branched off.
    ahead: VecDeque<(LabTime, Command)>,
    /// Its digest at every checkpoint there ever was, before what was commanded at that moment.
    digests: Vec<(LabTime, u64)>,
    /// What the digests are to be, where that is told by a take, and the first that was not so.
    told: VecDeque<(LabTime, u64)>,
    parted: Option<LabTime>,
    /// Rules read while it ran, in that order.
    rules: Vec<ReadRule>,
    /// Courses read while it ran, in that order.
    courses: Vec<Arc<Course>>,
    /// The one that it began with.
    began: Arc<Course>,
    keep: Keep,
    /// Figures of what was forgotten, where they are wanted.
    meter: Option<Meter>,
    /// What has stirred so far.
    stirs: Stirs,
    /// How it ended, where it is over.
    over: Option<over::Over>,
}

impl History for Run {
    fn record(&self) -> &Record {
        self.record()
    }

    fn now(&self) -> LabTime {
        self.now()
    }

    fn past(&self, at: LabTime) -> u64 {
        self.past(at)
    }
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
            patience: course.patience,
            policy: course.guard.policy.clone(),
            secret: 0,
        });
        populate(&course, &mut trial, course.server.offset)?;
        for member in course.members() {
            trial.bring(token(member), course.server.offset)?;
        }
        let (lab, began) = (Lab::new(course.clone()), course);
        let checkpoints = vec![(LabTime::ZERO, Arc::new(lab.clone()))];
        let recorder = Recorder::new(Cast::new(lab.beginning()));
        Ok(Self {
            lab,
            recorder,
            findings: Findings::default(),
            checkpoints,
            commands: Vec::new(),
            ahead: VecDeque::new(),
            digests: Vec::new(),
            told: VecDeque::new(),
            parted: None,
            rules: Vec::new(),
            courses: Vec::new(),
            began,
            keep: Keep::USUAL,
            meter: None,
            stirs: Stirs::default(),
            over: None,
        })
    }

    /// The run of a take, at its beginning: what was commanded in it is commanded again, each at its moment, as it is
    /// [advanced](Self::advance) to the take's end.
    ///
    /// # Errors
    /// When the cast does not fit a snapshot.
    pub fn of_take(take: &Take) -> Result<Self, RunError> {
        let mut run = Self::new(take.course.clone())?;
        run.ahead = take.commands.iter().copied().collect();
        run.told = take.digests.iter().copied().collect();
        run.rules.clone_from(&take.rules);
        run.courses.clone_from(&take.courses);
        Ok(run)
    }

    /// The first checkpoint at which the run is not what the take says that it was made of: the program is another.
    pub const fn parted(&self) -> Option<LabTime> {
        self.parted
    }

    /// Its digest at every checkpoint, each before what was commanded at that very moment.
    pub fn digests(&self) -> &[(LabTime, u64)] {
        &self.digests
    }

    /// Stands for everything that happened up to a moment: two runs in which it is the same were the same until then. It takes the
    /// digest of the last checkpoint and what was commanded by then.
    pub fn past(&self, at: LabTime) -> u64 {
        let mut past = Digest::default();
        let checkpoint = self.digests.partition_point(|(when, _)| *when <= at);
        let (when, digest) = checkpoint.checked_sub(1).map_or((0, 0), |i| (self.digests[i].0.0, self.digests[i].1));
        past.word(when);
        past.word(digest);
        let commanded = self.commands.partition_point(|(when, _)| *when <= at);
        past.word(commanded as u64);
        past.word(commanded.checked_sub(1).map_or(0, |i| self.commands[i].0.0));
        past.value()
    }

    /// The multiple of what the rules say that is allowed at a moment, in the order of [`RULES`].
    pub fn allowed(&self, at: LabTime) -> [f32; RULES.len()] {
        let mut allowed = self.course().guard.policy.allowed;
        for (_, command) in self.commands.iter().take_while(|(when, _)| *when <= at) {
            if let Command::Allow { rule, times } = command {
                allowed[*rule as usize] = *times;
            }
        }
        allowed
    }

    /// Rules that were read while it ran, in that order.
    pub fn rules(&self) -> &[ReadRule] {
        &self.rules
    }

    /// Courses that were taken over while it ran, in that order.
    pub fn courses(&self) -> &[Arc<Course>] {
        &self.courses
    }

    /// Sets how much is kept to look back at.
    pub const fn set_keep(&mut self, keep: Keep) {
        self.keep = keep;
    }

    /// Keeps no more than figures are had from while it runs: there are no checkpoints, and rows are let go as soon as a
    /// [meter](Self::meter) has no use for them. For a run at its beginning; one that is further on keeps at least [`LEAST_KEPT`].
    pub fn keep_figures(&mut self) {
        if self.is_over() {
            return;
        }
        if self.now() > LabTime::ZERO {
            return self.set_keep(Keep::Time(LEAST_KEPT));
        }
        self.keep = Keep::Figures;
        self.recorder = Recorder::rings(self.record().cast.clone());
    }

    /// From here on figures are taken while it runs, so that they are also of what is forgotten. Going back, they begin again
    /// with what is kept.
    pub fn meter(&mut self) {
        if !self.is_over() {
            self.begin_meter();
        }
    }

    fn begin_meter(&mut self) {
        self.meter = Some(Meter::of(self.record()));
    }

    /// The figures of everybody who plays from the beginning, and those of the whole. Without a
    /// [meter](Self::meter) they begin with what is kept.
    pub fn figures(&self) -> (Vec<ClientMetrics>, Totals) {
        let measured = self.measured();
        (measured.clients, measured.totals)
    }

    /// The same, with the moments at which to look.
    pub fn measured(&self) -> Measured {
        let mut meter = self.meter.clone().unwrap_or_else(|| Meter::of(self.record()));
        meter.take(self.found(), LabTime(self.now().0 + 1), self.now());
        meter.measured(self.record(), self.course().members().map(|member| self.course().machine(member)))
    }

    /// What has not stirred yet, in words: members that never moved, inputs never given, fields that never changed. Where
    /// nothing happened nothing was proven.
    pub fn still(&self) -> Vec<String> {
        let mut stirs = self.stirs.clone();
        stirs.follow(self.recorder.record(), self.now());
        stirs.still(self.record())
    }

    /// Bytes of memory that what is kept takes, roughly.
    pub fn bytes(&self) -> usize {
        self.recorder.record().bytes() + self.checkpoints.iter().map(|(_, lab)| lab.bytes()).sum::<usize>()
    }

    /// The simulation.
    pub const fn lab(&self) -> &Lab {
        &self.lab
    }

    /// What happened.
    pub const fn record(&self) -> &Record {
        self.recorder.record()
    }

    /// What happened, with what was found behind corrections: it is looked for once.
    pub const fn found(&self) -> Found<'_> {
        Found { record: self.record(), findings: &self.findings }
    }

    /// What everybody believed at a moment.
    pub const fn moment(&self, at: LabTime) -> Moment<'_> {
        Moment { record: self.record(), findings: &self.findings, at }
    }

    /// The course that it began with.
    pub const fn began(&self) -> &Arc<Course> {
        &self.began
    }

    /// What is run.
    pub const fn course(&self) -> &Arc<Course> {
        self.lab.course()
    }

    /// How far it has come.
    pub const fn now(&self) -> LabTime {
        match self.over {
            Some(over) => over.end,
            None => self.lab.now(),
        }
    }

    /// Runs on to a moment, unless it is over.
    pub fn advance(&mut self, to: LabTime) {
        self.advance_with(to, &mut Alone);
    }

    /// The same, followed by somebody.
    pub fn advance_with(&mut self, to: LabTime, follow: &mut dyn Follow) {
        if self.is_over() {
            return;
        }
        while let Some(&(when, command)) = self.ahead.front().filter(|(when, _)| *when <= to) {
            self.ahead.pop_front();
            self.run_to(when, follow);
            self.command_with(command, follow);
        }
        self.run_to(to, follow);
    }

    fn run_to(&mut self, to: LabTime, follow: &mut dyn Follow) {
        while self.lab.now() < to {
            let last = self.digests.last().map_or(LabTime::ZERO, |(at, _)| *at);
            let mut stop = to.min(last.plus(CHECKPOINT));
            if self.meter.is_some() {
                // Figures are taken second by second: what a screen waits for at once is little.
                stop = stop.min(LabTime((self.lab.now().0 / WINDOW.0 + 1) * WINDOW.0));
            }
            self.lab.advance(stop, &mut Both { recorder: &mut self.recorder, follow });
            self.recorder.record_mut().end = stop;
            if let Some(meter) = self.meter.as_mut().filter(|_| stop.0.is_multiple_of(WINDOW.0)) {
                // After going back it has much to take: not at once.
                let until = stop.minus(BEHIND).0.min(meter.to().plus(CATCH_UP).0 / WINDOW.0 * WINDOW.0);
                let found = Found { record: self.recorder.record(), findings: &self.findings };
                meter.take(found, LabTime(until), stop);
            }
            if self.keep == Keep::Figures {
                self.recorder.record_mut().forget_drawn(stop.minus(DRAWN));
            }
            if stop == last.plus(CHECKPOINT) {
                self.note_digest(stop);
                if self.keep != Keep::Figures {
                    self.checkpoints.push((stop, Arc::new(self.lab.clone())));
                    self.thin();
                }
                self.stirs.follow(self.recorder.record(), stop);
                self.forget();
            }
        }
        self.recorder.record_mut().end = self.lab.now();
    }

    fn note_digest(&mut self, at: LabTime) {
        let digest = self.lab.digest();
        self.digests.push((at, digest));
        while let Some(&(when, told)) = self.told.front().filter(|(when, _)| *when <= at) {
            self.told.pop_front();
            if when == at && told != digest {
                self.parted.get_or_insert(at);
            }
        }
    }

    /// Does something now.
    pub fn command(&mut self, command: Command) {
        self.command_with(command, &mut Alone);
    }

    /// The same, followed by somebody.
    pub fn command_with(&mut self, command: Command, follow: &mut dyn Follow) {
        if self.is_over() {
            return;
        }
        self.commands.push((self.lab.now(), command));
        let read = ReadLater { rules: &self.rules, courses: &self.courses };
        self.lab.command(command, read, &mut Both { recorder: &mut self.recorder, follow });
    }

    /// Puts a rule that was read again in the place of the one in force, from one tick on that lies ahead of every
    /// machine.
    ///
    /// # Errors
    /// When one machine alone would read and write other bits than the rest while it runs, or a snapshot would grow too long.
    pub fn reload(&mut self, kind: u8, rule: Arc<dyn Motion>, reach: Reach) -> Result<(), ReloadError> {
        self.reload_text(kind, ReadRule { rule, text: None }, reach)
    }

    /// The same for a rule with the text of its file, without which no [take](crate::take) can hold it.
    ///
    /// # Errors
    /// As [`reload`](Self::reload).
    pub fn reload_text(&mut self, kind: u8, read: ReadRule, reach: Reach) -> Result<(), ReloadError> {
        self.lab.may_reload(kind, &read.rule, reach)?;
        self.rules.push(read);
        let version = self.rules.len().min(usize::from(u16::MAX)) as u16;
        self.command(Command::Reload { kind, version, reach });
        Ok(())
    }

    /// Takes over what can be of a course that was saved, now. Says what was, and what holds from a new beginning on only.
    pub fn take_over(&mut self, saved: &Course) -> Saved {
        let came_of_it = self.course().take_over(saved, &self.began);
        if let Some(course) = came_of_it.course.clone().filter(|_| !came_of_it.taken.is_empty()) {
            self.courses.push(Arc::new(course));
            let version = self.courses.len().min(usize::from(u16::MAX)) as u16;
            self.command(Command::TakeOver { version });
        }
        came_of_it
    }

    /// What the file of a rule said in one of its versions; 0 is the course's. `None` for a rule without a file.
    pub fn rule_text(&self, kind: u8, version: u16) -> Option<Arc<str>> {
        match usize::from(version).checked_sub(1) {
            None => self.began.gait_file(kind).map(|file| file.text.as_str().into()),
            Some(place) => self.rules.get(place)?.text.clone(),
        }
    }

    /// Everything that was commanded, and when.
    pub fn commands(&self) -> &[(LabTime, Command)] {
        &self.commands
    }

    /// The digest of everything up to now; 0 where its record was cut short.
    pub fn digest(&self) -> u64 {
        self.ending().unwrap_or_default().digest
    }
}
