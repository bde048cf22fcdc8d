//! Puts what was read back where it was, after looking whether a machine may have written it.

use velocitas_analysis::cause::{Findings, Found};
use velocitas_analysis::metrics::Meter;
use velocitas_core::{Event, Fact, Input, InputFact, Measure, StateEvent};
use velocitas_record::command::Command;
use velocitas_record::ids::{MachineId, Part, RecordTick};
use velocitas_record::known::{Change, Changed, Reach};
use velocitas_record::record::{
    CONTEXT, ClockRow, FrameRow, OtherwiseRow, OwnDrawnRow, ReceivedRow, Record, Recorder, SeenRow,
};
use velocitas_record::screen::Screen;
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, MessageRow, Watch};

use super::seldom::{ChangeNote, Seldom};
use crate::export::Ending;
use crate::run::{Keep, LEAST_KEPT, Run, RunError};
use crate::take::Take;

/// Most entities that a record may have.
const MOST_ACTORS: usize = 1 << 14;
/// A tick may be so far ahead of its moment: machines begin anywhere, and clocks are set.
const AHEAD: LabTime = LabTime(600_000_000_000);

const NO_MACHINE: &str = "a machine that is not there";
const NO_ENTITY: &str = "an entity that is not there";
const OTHER_TIME: &str = "a row that is not of the time of its block";
pub(super) const STRANGE: &str = "a row that no machine writes";

/// Why something cannot be put back, in words.
pub(super) type Strange = &'static str;

/// A record that is back, with its figures up to some seconds before its end.
pub(super) struct Restored {
    pub(super) record: Record,
    pub(super) meter: Meter,
    pub(super) findings: Findings,
    /// How it ended, where that is told.
    pub(super) ending: Option<Ending>,
}

/// A record on its way back.
pub(super) struct Restoring<'a> {
    making: Recorder,
    /// Figures follow as it goes: what is old may be forgotten by the end.
    meter: Meter,
    findings: Findings,
    take: &'a Take,
    keep: Keep,
    /// Within which moments what comes has to lie.
    span: (LabTime, LabTime),
    last: LabTime,
    ending: Option<Ending>,
}

impl<'a> Restoring<'a> {
    /// Of the run of a take, from its beginning on; of what happened so much is kept.
    ///
    /// # Errors
    /// When the course cannot be run.
    pub(super) fn new(take: &'a Take, keep: Keep) -> Result<Self, RunError> {
        let making = Recorder::of(Run::of_take(take)?.record().clone());
        let (meter, findings) = (Meter::of(making.record()), Findings::default());
        Ok(Self {
            making,
            meter,
            findings,
            take,
            keep,
            span: (LabTime::ZERO, LabTime(u64::MAX)),
            last: LabTime::ZERO,
            ending: None,
        })
    }

    /// What was put back so far.
    pub(super) const fn record(&self) -> &Record {
        self.making.record()
    }

    /// The whole, which goes on at least to a moment.
    pub(super) fn finish(self, until: LabTime) -> Restored {
        let Self { making, meter, findings, ending, .. } = self;
        let mut record = making.into_record();
        record.end = record.end.max(until);
        Restored { record, meter, findings, ending }
    }

    /// From here on everything has to lie in this span.
    pub(super) const fn within(&mut self, span: (LabTime, LabTime)) {
        self.span = span;
    }

    /// A machine by its number.
    pub(super) fn machine(&self, number: u32) -> Result<MachineId, Strange> {
        self.record().cast.machines().nth(number as usize).ok_or(NO_MACHINE)
    }

    /// A moment lies where it should, and not before those before it.
    fn at(&mut self, at: LabTime) -> Result<(), Strange> {
        let (from, to) = self.span;
        if at < from || at > to || at < self.last {
            return Err(OTHER_TIME);
        }
        self.last = at;
        Ok(())
    }

    /// A tick may be one of this moment.
    fn tick(&self, tick: RecordTick, at: LabTime) -> Result<(), Strange> {
        let most = at.plus(AHEAD).secs() * f64::from(self.record().cast.rate.hz());
        if f64::from(tick.0) > most { Err(STRANGE) } else { Ok(()) }
    }

    pub(super) fn state(&mut self, at: LabTime, machine: MachineId, state: &StateEvent<'_>) -> Result<(), Strange> {
        self.at(at)?;
        self.tick(self.record().cast.tick(state.tick), at)?;
        self.making.event(at, machine, Part::Client, &Event::State(*state));
        Ok(())
    }

    pub(super) fn input(
        &mut self,
        at: LabTime,
        machine: MachineId,
        (fact, value): (InputFact, Option<&Input>),
    ) -> Result<(), Strange> {
        self.at(at)?;
        self.tick(self.record().cast.tick(fact.tick), at)?;
        self.making.event(at, machine, Part::Client, &Event::Input(fact, value));
        Ok(())
    }

    pub(super) fn measure(&mut self, at: LabTime, machine: MachineId, measure: &Measure) -> Result<(), Strange> {
        self.at(at)?;
        self.making.event(at, machine, Part::Server, &Event::Measure(*measure));
        Ok(())
    }

    pub(super) fn message(&mut self, (from, to): (MachineId, MachineId), row: MessageRow) -> Result<(), Strange> {
        self.at(row.at)?;
        self.making.message(from, to, row);
        Ok(())
    }

    pub(super) fn unread(&mut self, (from, to): (MachineId, MachineId), number: u64) {
        self.making.unread(from, to, number);
    }

    pub(super) fn clock(&mut self, machine: MachineId, row: ClockRow) -> Result<(), Strange> {
        self.at(row.at)?;
        self.making.event(row.at, machine, Part::Client, &Event::Fact(Fact::Clock(row.fact)));
        Ok(())
    }

    pub(super) fn received(&mut self, machine: MachineId, row: ReceivedRow) -> Result<(), Strange> {
        self.at(row.at)?;
        self.tick(row.tick, row.at)?;
        let fact = Fact::Received { tick: row.tick.tick(self.record().cast.first) };
        self.making.event(row.at, machine, Part::Client, &Event::Fact(fact));
        Ok(())
    }

    pub(super) fn frame(&mut self, machine: MachineId, row: FrameRow) -> Result<(), Strange> {
        self.at(row.at)?;
        self.making.record_mut().note_frame(machine, row);
        Ok(())
    }

    pub(super) fn own(&mut self, machine: MachineId, actor: usize, row: OwnDrawnRow) -> Result<(), Strange> {
        self.at(row.at)?;
        self.making.record_mut().note_own(machine, actor, row).ok_or(NO_ENTITY)
    }

    pub(super) fn otherwise(&mut self, machine: MachineId, row: OtherwiseRow) -> Result<(), Strange> {
        self.at(row.at)?;
        self.making.record_mut().note_otherwise(machine, row).ok_or(NO_ENTITY)
    }

    pub(super) fn seen(&mut self, machine: MachineId, row: SeenRow) -> Result<(), Strange> {
        self.at(row.at)?;
        self.making.record_mut().note_seen(machine, row).ok_or(NO_ENTITY)
    }

    /// A frame with all that was drawn in it.
    pub(super) fn screen(&mut self, at: LabTime, machine: MachineId, screen: &Screen) -> Result<(), Strange> {
        self.at(at)?;
        self.making.frame(at, machine, screen);
        Ok(())
    }

    pub(super) fn seldom(&mut self, seldom: Seldom) -> Result<(), Strange> {
        match seldom {
            Seldom::Fact(at, machine, part, fact) => {
                self.at(at)?;
                self.machine(machine.place())?;
                self.is_sound(&fact, at)?;
                self.making.event(at, machine, part, &Event::Fact(fact));
            }
            Seldom::Happening(machine, row) => {
                self.at(row.at)?;
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
                self.at(at)?;
                if let Reach::One(machine) = reach {
                    self.machine(machine.place())?;
                }
                let what = self.changed(what)?;
                self.making.changed(Change { at, tick, reach, what });
            }
            Seldom::Refused(at, machine, words) => {
                self.at(at)?;
                self.machine(machine.place())?;
                self.making.record_mut().note_refusal(at, machine, words);
            }
            Seldom::Ended(at, digest, refused_datagrams) => {
                self.at(at)?;
                let end = &mut self.making.record_mut().end;
                *end = at.max(*end);
                self.ending = Some(Ending { digest, refused_datagrams });
            }
        }
        Ok(())
    }

    /// Whether a fact may be one of this moment.
    fn is_sound(&self, fact: &Fact, at: LabTime) -> Result<(), Strange> {
        let cast = &self.making.record().cast;
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

    fn changed(&self, what: ChangeNote) -> Result<Changed, Strange> {
        Ok(match what {
            ChangeNote::Tuned { kind, tunable, value } => {
                let rule = self.making.record().cast.kinds().get(kind).ok_or(STRANGE)?;
                // A rule that was read later may have others.
                let later = self.take.rules.iter().map(|read| &*read.rule);
                let mut all = std::iter::once(rule).chain(later).flat_map(|rule| rule.tunables());
                let tunable = all.find(|known| known.name == tunable).ok_or(STRANGE)?.name;
                Changed::Tuned { kind, tunable, value }
            }
            ChangeNote::Reloaded { kind, version } => {
                let read = self.take.rules.get(usize::from(version).wrapping_sub(1)).ok_or(STRANGE)?;
                Changed::Reloaded { kind, version, rule: self.take.course.stepped(read.rule.clone()) }
            }
            ChangeNote::Solid { solid, there } => Changed::Solid { solid, there },
        })
    }

    /// A second is over, or a block: takes figures of what is long enough ago, and lets go of the oldest until the rest is within bounds.
    pub(super) fn pass(&mut self) {
        let found = Found { record: self.making.record(), findings: &self.findings };
        self.meter.follow(found, self.last);
        let newest = self.last.minus(LEAST_KEPT);
        let wanted = match self.keep {
            Keep::All | Keep::Figures => return,
            Keep::Time(lasts) => self.last.minus(lasts).min(newest),
            Keep::Bytes(_) => newest,
        };
        while self.making.record().kept_from < wanted
            && !matches!(self.keep, Keep::Bytes(most) if self.making.record().bytes() <= most)
        {
            let from = self.making.record().kept_from.plus(LabTime(4_000_000_000)).min(wanted);
            self.making.forget(from);
            self.findings.forget(from.minus(CONTEXT));
        }
    }
}
