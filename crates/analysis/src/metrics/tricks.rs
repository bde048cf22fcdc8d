//! What a rogue's tricks came to: whether each was answered, and how far it got.
//!
//! The ticks of a trick are those after the newest at its begin, up to the newest at its end; of one that happens at once, the
//! first after it.
//! What of each position that the authority accepted of them was beyond the lawful is said by [`super::gains`]. A pull back takes back
//! what was gained after the tick from which it goes on; one without a verdict, after the newest in which its owner was where it is put.

use velocitas_core::{Fact, Vec3, Verdict};

use velocitas_record::ids::{MachineId, RecordTick};
use velocitas_record::record::{OwnRows, Record, StateTrack};
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

use super::Span;
use super::gains::{Judge, Ledgers, Metres};
use super::moments::{Moments, Peak};
use super::views::SETTLED;

/// A trick that was begun.
#[derive(Clone, Debug)]
struct Trick {
    at: LabTime,
    lasts: LabTime,
    /// The newest tick at its begin, and at its end once that is over.
    after: RecordTick,
    until: Option<RecordTick>,
    /// Its ticks so far, first and last.
    ticks: Option<(RecordTick, RecordTick)>,
    /// What was gained in which tick, and not taken back.
    gains: Vec<(RecordTick, Metres)>,
    peak: Metres,
    caught: bool,
    /// Whether a tick of it came out otherwise than its rule would have it, and whether the server took any.
    offends: bool,
    taken: bool,
}

impl Trick {
    /// Whether a tick is one of its own.
    fn covers(&self, tick: RecordTick) -> bool {
        let is_once = self.lasts == LabTime::ZERO;
        tick > self.after && self.until.is_none_or(|until| tick <= until) && !(is_once && self.ticks.is_some())
    }

    fn has(&self, tick: RecordTick) -> bool {
        self.ticks.is_some_and(|(first, last)| (first..=last).contains(&tick))
    }

    fn gain(&self) -> Metres {
        self.gains.iter().fold(Metres::default(), |sum, (_, metres)| sum.plus(*metres))
    }

    /// Whether it could have no effect: none of its ticks came out otherwise than the rule would have it (no wall was met, the
    /// stick was at rest), or the server took none of them (a pull back was under way, all were lost). Who got further than its rule
    /// allows was not idle.
    fn is_idle(&self) -> bool {
        (!self.offends || !self.taken) && self.peak.allowed <= 0.0
    }

    /// It was put where it had been in a tick, without a verdict.
    fn put_back(&mut self, to: RecordTick) {
        self.gains.retain(|(tick, _)| *tick <= to);
    }

    /// A verdict on some of its ticks, or a pull back that undoes some.
    fn accused(&mut self, record: &Record, verdict: &Verdict) {
        let (from, to) = (record.cast.tick(verdict.evidence.from), record.cast.tick(verdict.evidence.to));
        self.caught |= self.ticks.is_some_and(|(first, last)| to >= first && from <= last);
        if verdict.puts_back() {
            self.gains.retain(|(tick, _)| *tick <= from);
        }
    }
}

/// What the guard did.
#[derive(Clone, Debug)]
enum Answer {
    Verdict(Box<Verdict>),
    /// Put its owner there without one.
    PutBack(Vec3),
}

/// The most positions that a pull back is followed back.
const LOOKED_BACK: usize = 1024;

/// What tricks came to.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Outcome {
    pub(super) played: u32,
    pub(super) answered: u32,
    pub(super) idle: u32,
    /// Metres gained and kept, and the most that one of them ever had.
    pub(super) gain: Metres,
    pub(super) peak: Metres,
}

/// The tricks of a machine, those that are not over yet among them.
#[derive(Clone, Debug, Default)]
pub(super) struct Tricks {
    open: Vec<Trick>,
    over: Outcome,
    unanswered: Peak,
    ledgers: Ledgers,
}

impl Tricks {
    /// Takes a span of the record.
    pub(super) fn add(&mut self, record: &Record, machine: MachineId, span: Span) {
        for row in record.of(machine).happenings.span(span.from, span.to) {
            let (Happening::Trick { lasts }, Some(tick)) = (row.what, row.tick) else { continue };
            match lasts {
                Some(lasts) => self.open.push(Trick {
                    at: row.at,
                    lasts,
                    after: tick,
                    until: None,
                    ticks: None,
                    gains: Vec::new(),
                    peak: Metres::default(),
                    caught: false,
                    offends: false,
                    taken: false,
                }),
                None => {
                    let ends = |trick: &&mut Trick| trick.until.is_none() && trick.at.plus(trick.lasts) == row.at;
                    self.open.iter_mut().filter(ends).for_each(|trick| trick.until = Some(tick));
                }
            }
        }
        if self.open.is_empty() {
            return;
        }
        for own in &record.of(machine).own {
            self.note_ticks(own, span);
            self.note_gains(record, machine, own, span);
        }
        for row in record.of(machine).happenings.span(span.from, span.to) {
            if let (Happening::Offence, Some(tick)) = (row.what, row.tick) {
                self.open.iter_mut().filter(|trick| trick.has(tick)).for_each(|trick| trick.offends = true);
            }
        }
        self.close(span.to);
    }

    /// Which ticks are whose.
    fn note_ticks(&mut self, own: &OwnRows, span: Span) {
        for row in own.inputs.rows().span(span.from, span.to) {
            if row.sampled_at().is_none() {
                continue;
            }
            if let Some(trick) = self.open.iter_mut().rev().find(|trick| trick.covers(row.tick)) {
                let (first, last) = trick.ticks.unwrap_or((row.tick, row.tick));
                trick.ticks = Some((first.min(row.tick), last.max(row.tick)));
            }
            let taken = row.arrived().is_some() && row.outdated().is_none();
            self.open.iter_mut().filter(|trick| trick.has(row.tick)).for_each(|trick| trick.taken |= taken);
        }
    }

    fn note_gains(&mut self, record: &Record, machine: MachineId, own: &OwnRows, span: Span) {
        let id = record.cast.actors[own.actor.index()].id;
        let mut to = Vec3::ZERO;
        let answers = record.of(machine).happenings.span(span.from, span.to).filter_map(|row| match row.what {
            Happening::Fact(Fact::Verdict(v)) if v.entity == id => Some((row.at, Answer::Verdict(Box::new(v)))),
            Happening::Fact(Fact::PulledBack { entity, to: there, .. }) if entity == id => {
                to = there;
                None
            }
            Happening::Fact(Fact::Resync { entity, .. }) if entity == id => Some((row.at, Answer::PutBack(to))),
            _ => None,
        });
        let mut answers = answers.peekable();
        let judge = Judge::of(record, machine, own);
        let track = record.authority(own.actor);
        for i in track.between(span.from, span.to) {
            let Some(head) = track.head(i) else { continue };
            while let Some((_, answer)) = answers.next_if(|(at, _)| *at <= head.at) {
                self.answered(record, (track, i), &answer);
            }
            let ledger = self.ledgers.of(own.actor);
            let is_asked = |tick| self.open.iter().any(|trick| trick.has(tick));
            let Some((tick, metres)) = judge.gain(ledger, (track, i), is_asked) else { continue };
            if let Some(trick) = self.open.iter_mut().rev().find(|trick| trick.has(tick)) {
                trick.gains.push((tick, metres));
                trick.peak = trick.peak.max(trick.gain());
            }
        }
        answers.for_each(|(_, answer)| self.answered(record, (track, track.len()), &answer));
    }

    /// What the guard did before a position of a track was made.
    fn answered(&mut self, record: &Record, (track, i): (&StateTrack, usize), answer: &Answer) {
        match answer {
            Answer::Verdict(verdict) => self.open.iter_mut().for_each(|trick| trick.accused(record, verdict)),
            Answer::PutBack(to) => {
                let earlier = (i.saturating_sub(LOOKED_BACK)..i).rev().find(|i| track.pos(*i) == *to);
                if let Some(tick) = earlier.and_then(|i| track.head(i)?.used()) {
                    self.open.iter_mut().for_each(|trick| trick.put_back(tick));
                }
            }
        }
    }

    /// Counts those that are over.
    fn close(&mut self, now: LabTime) {
        let over = |trick: &Trick| trick.at.plus(trick.lasts).plus(SETTLED) <= now;
        let (over, open) = std::mem::take(&mut self.open).into_iter().partition::<Vec<_>, _>(over);
        self.open = open;
        for trick in over {
            self.over.played += 1;
            self.over.answered += u32::from(trick.caught);
            self.over.idle += u32::from(!trick.caught && trick.is_idle());
            if !trick.caught && !trick.is_idle() {
                Moments::first(&mut self.unanswered, trick.at);
            }
            self.over.gain = self.over.gain.plus(trick.gain());
            self.over.peak = self.over.peak.max(trick.peak);
        }
    }

    /// When the first began that had an effect and was not answered.
    pub(super) const fn unanswered(&self) -> Peak {
        self.unanswered
    }

    /// What it came to by now: one that still goes on may be answered yet, what it has gained it has.
    pub(super) fn outcome(&self) -> Outcome {
        let mut outcome = self.over;
        for trick in &self.open {
            outcome.played += u32::from(trick.caught);
            outcome.answered += u32::from(trick.caught);
            outcome.gain = outcome.gain.plus(trick.gain());
            outcome.peak = outcome.peak.max(trick.peak);
        }
        outcome
    }
}
