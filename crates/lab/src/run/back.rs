//! The way back: what is kept to look back at, and runs that begin at a moment that was.

use velocitas_analysis::cause::Findings;
use velocitas_analysis::stirs::Stirs;
use velocitas_record::command::Command;
use velocitas_record::record::{CONTEXT, Cast, Recorder};
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Unrecorded, Watch};

use super::told::{Alone, Both};
use super::{AgainError, CHECKPOINT, Keep, LEAST_KEPT, OF_FIGURES, Run};
use crate::lab::Lab;
use crate::reread::ReadLater;

/// How long checkpoints are fresh; older ones are thinned to one in four.
const FRESH: LabTime = LabTime(60_000_000_000);
const THINNED: u64 = 4;
/// Checkpoints from before what is kept may take one part in this number of the memory that may be kept.
const FAR: usize = 4;

impl Run {
    /// One old checkpoint in four is enough: running sixteen seconds again is quick.
    pub(super) fn thin(&mut self) {
        let fresh = self.lab.now().minus(FRESH);
        let keep = |at: LabTime| at >= fresh || (at.0 / CHECKPOINT.0).is_multiple_of(THINNED);
        self.checkpoints.retain(|(at, _)| keep(*at));
    }

    /// Lets go of the oldest until the rest is within bounds.
    pub(super) fn forget(&mut self) {
        let newest = self.lab.now().minus(LEAST_KEPT);
        let wanted = match self.keep {
            Keep::All => return,
            Keep::Time(lasts) => self.lab.now().minus(lasts).min(newest),
            Keep::Bytes(_) => newest,
            Keep::Figures => self.lab.now().minus(OF_FIGURES),
        };
        let mut from = self.recorder.record().kept_from;
        // Until the next checkpoint it grows again.
        while from < wanted && !matches!(self.keep, Keep::Bytes(most) if self.bytes() <= most / 16 * 15) {
            from = from.plus(CHECKPOINT).min(wanted);
            self.recorder.forget(from);
            self.findings.forget(from.minus(CONTEXT));
            if self.keep != Keep::Figures {
                self.forget_checkpoints(from);
            }
        }
    }

    /// The checkpoint from which the oldest moment kept is had again stays. Those before it stay as far as they are light: what the
    /// record let go is had again from them.
    fn forget_checkpoints(&mut self, from: LabTime) {
        let first = self.checkpoints.partition_point(|(at, _)| *at <= from).saturating_sub(1);
        let Keep::Bytes(most) = self.keep else {
            self.checkpoints.drain(..first);
            return;
        };
        let mut far: Vec<_> = self.checkpoints.drain(..first).collect();
        // Where the least that is kept fills the bound, hardly any stay.
        let most = (most / FAR).min((most / 16 * 15).saturating_sub(self.bytes()));
        while far.iter().map(|(_, lab)| lab.bytes()).sum::<usize>() > most && far.len() > 1 {
            // Every second one, but the beginning.
            let mut number = 0;
            far.retain(|_| {
                number += 1;
                number % 2 == 1
            });
        }
        far.append(&mut self.checkpoints);
        self.checkpoints = far;
    }

    /// The earliest moment that can be had again, with what the record let go.
    pub fn reach(&self) -> LabTime {
        if self.is_over() { self.recorder.record().kept_from } else { self.checkpoints[0].0 }
    }

    /// The run at a checkpoint so long before a moment that, [advanced](Self::advance) beyond the moment, its record has all that is
    /// told of it, although this one has let it go. What was commanded later is ahead of it, and its digests are held against those
    /// that there were. `None` for a moment that cannot be had, or is not reached.
    pub fn recalled(&self, at: LabTime) -> Option<Self> {
        if self.is_over() || at < self.reach() || at > self.now() {
            return None;
        }
        // What figures of the moment look back at is had again as well.
        let first = self.checkpoints.partition_point(|(when, _)| *when <= at.minus(CONTEXT)).saturating_sub(1);
        let (begin, lab) = self.checkpoints[first].clone();
        let mut recorder = self.recorder.clone();
        recorder.begin_anew(begin);
        let before = self.commands.partition_point(|(when, _)| *when < begin);
        Some(Self {
            lab: (*lab).clone(),
            recorder,
            findings: Findings::default(),
            checkpoints: self.checkpoints[..=first].to_vec(),
            commands: self.commands[..before].to_vec(),
            ahead: self.commands[before..].iter().chain(&self.ahead).copied().collect(),
            digests: self.digests.iter().filter(|(when, _)| *when <= begin).copied().collect(),
            told: self.digests.iter().filter(|(when, _)| *when > begin).copied().collect(),
            parted: None,
            rules: self.rules.clone(),
            courses: self.courses.clone(),
            began: self.began.clone(),
            keep: self.keep,
            meter: None,
            stirs: Stirs::default(),
            over: None,
        })
    }

    /// Goes back to a moment and drops what came after it. Does nothing for a moment not yet reached, or no longer kept.
    pub fn resume_from(&mut self, at: LabTime) {
        if self.is_over() || at >= self.lab.now() || at < self.recorder.record().kept_from {
            return;
        }
        // What is dropped goes first, so that its memory can be used for what comes.
        self.recorder.truncate(at);
        self.findings.truncate(at);
        self.recorder.record_mut().end = at;
        if self.meter.is_some() {
            self.meter();
        }
        // What stirred later has not stirred yet.
        self.stirs = Stirs::default();
        self.stirs.follow(self.recorder.record(), at);
        let index = self.checkpoints.partition_point(|(when, _)| *when <= at).saturating_sub(1);
        self.checkpoints.truncate(index + 1);
        self.checkpoints.shrink_to_fit();
        self.lab.clone_from(&self.checkpoints[index].1);
        self.commands.retain(|(when, _)| *when <= at);
        self.digests.retain(|(when, _)| *when <= at);
        self.ahead.clear();
        self.told.clear();
        // Commands of the very moment of a checkpoint came after it was made.
        let from = self.lab.now();
        let again = &self.commands[self.commands.partition_point(|(when, _)| *when < from)..];
        let read = ReadLater { rules: &self.rules, courses: &self.courses };
        if at > LabTime::ZERO {
            return repeat(&mut self.lab, again, read, at, &mut Unrecorded);
        }
        // At its very beginning nothing was drawn yet, and nothing told but what was commanded then.
        let cast = Cast::new(self.lab.beginning());
        self.recorder = if self.keep == Keep::Figures { Recorder::rings(cast) } else { Recorder::new(cast) };
        repeat(&mut self.lab, again, read, at, &mut Both { recorder: &mut self.recorder, follow: &mut Alone });
    }

    /// Another run that was this one up to a moment. What was commanded later is commanded there as well, each at its moment, so
    /// that only what is changed there differs: luck hangs on the seed alone. `None` for a moment that is not kept or not
    /// reached.
    pub fn branch(&self, at: LabTime) -> Option<Self> {
        if self.is_over() || at > self.now() || at < self.recorder.record().kept_from {
            return None;
        }
        let mut branch = self.clone();
        branch.resume_from(at);
        branch.ahead =
            self.commands.iter().filter(|(when, _)| *when > at).copied().chain(self.ahead.iter().copied()).collect();
        Some(branch)
    }

    /// Of the commands that are to come, those that are meant never come.
    pub(crate) fn forget_commands(&mut self, is_meant: impl Fn(&Command) -> bool) {
        self.ahead.retain(|(_, command)| !is_meant(command));
    }

    /// Lets go of what came before a moment, but for what figures of later look back at: a copy is lighter then.
    pub(crate) fn forget_before(&mut self, at: LabTime) {
        self.recorder.forget(at);
        self.findings.forget(at.minus(CONTEXT));
        self.meter = None;
        let first = self.checkpoints.partition_point(|(when, _)| *when <= at).saturating_sub(1);
        self.checkpoints.drain(..first);
    }

    /// Runs from the checkpoint before `from` up to `to` once more, watched from `from` on, and gives the lab as it was then: its
    /// inner state, which no record keeps.
    ///
    /// # Errors
    /// When it was not there yet, or does not come out as it did.
    pub fn again<W: Watch>(&self, from: LabTime, to: LabTime, watch: &mut W) -> Result<Lab, AgainError> {
        if self.is_over() {
            return Err(AgainError::Over);
        }
        if to > self.now() || from > to {
            return Err(AgainError::NotReached(self.now()));
        }
        let first = self.checkpoints.partition_point(|(when, _)| *when <= from).saturating_sub(1);
        let mut lab = (*self.checkpoints[first].1).clone();
        let read = ReadLater { rules: &self.rules, courses: &self.courses };
        // What was commanded at a checkpoint's very moment came after it.
        let before = |when: LabTime| self.commands.partition_point(|(c, _)| *c < when);
        let up_to = |when: LabTime| self.commands.partition_point(|(c, _)| *c <= when);
        let mut next = up_to(from);
        repeat(&mut lab, &self.commands[before(self.checkpoints[first].0)..next], read, from, &mut Unrecorded);
        let passed = self.checkpoints[first + 1..].iter().take_while(|(when, _)| *when <= to);
        for (when, checkpoint) in passed {
            repeat(&mut lab, &self.commands[next..before(*when)], read, *when, watch);
            if lab.digest() != checkpoint.digest() {
                return Err(AgainError::Parted(*when));
            }
            next = before(*when);
        }
        repeat(&mut lab, &self.commands[next..up_to(to)], read, to, watch);
        Ok(lab)
    }
}

/// Runs a lab on to a moment, with what was commanded meanwhile.
fn repeat<W: Watch>(lab: &mut Lab, commanded: &[(LabTime, Command)], read: ReadLater<'_>, to: LabTime, watch: &mut W) {
    // What is due at its own moment is not due again: at the very beginning it comes after what was commanded then.
    let advance = |lab: &mut Lab, to: LabTime, watch: &mut W| {
        if to > lab.now() {
            lab.advance(to, watch);
        }
    };
    for &(when, command) in commanded {
        advance(lab, when, watch);
        lab.command(command, read, watch);
    }
    advance(lab, to, watch);
}
