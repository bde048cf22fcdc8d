//! What a rogue's tricks came to: whether each was answered, and how far it got.
//!
//! The ticks of a trick are those after the newest at its begin, up to the newest at its end; of one that happens at once, the
//! first after it.
//! Each position that the authority accepted of them is held against where the rule could have brought it from the position
//! accepted before: with the inputs that the hands gave, or, where positions are claimed, straight towards what was claimed
//! as far as the rule's limits and the ground let it. What lies beyond by more than a step of the wire is gain. A pull back
//! takes back what was gained after the tick from which it goes on.

use velocitas_core::{
    Fact, Ground, Input, InputKind, Motion, Provenance, Scene, Schema, Slide, Underfoot, Vec3, Verdict, checked_step,
    slide,
};

use crate::ids::{MachineId, Part, RecordTick};
use crate::known::Known;
use crate::record::{OwnRows, Record, Track};
use crate::time::LabTime;
use crate::watch::Happening;

use super::Span;
use super::moments::{Moments, Peak};
use super::views::SETTLED;

/// A push happens so long before its tick is made at most.
const PUSH_BEFORE: LabTime = LabTime(1_000_000_000);

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
    gains: Vec<(RecordTick, f64)>,
    peak: f64,
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

    fn gain(&self) -> f64 {
        self.gains.iter().map(|(_, metres)| metres).sum()
    }

    /// Whether it could have no effect: none of its ticks came out otherwise than the rule would have it (no wall was met, the
    /// stick was at rest), or the server took none of them (a pull back was under way, all were lost).
    const fn is_idle(&self) -> bool {
        !self.offends || !self.taken
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

/// What tricks came to.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Outcome {
    pub(super) played: u32,
    pub(super) answered: u32,
    pub(super) idle: u32,
    /// Metres gained and kept, and the most that one of them ever had.
    pub(super) gain: f64,
    pub(super) peak: f64,
}

/// The tricks of a machine, those that are not over yet among them.
#[derive(Clone, Debug, Default)]
pub(super) struct Tricks {
    open: Vec<Trick>,
    over: Outcome,
    unanswered: Peak,
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
                    peak: 0.0,
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
        let verdicts = record.of(machine).happenings.span(span.from, span.to).filter_map(|row| match row.what {
            Happening::Fact(Fact::Verdict(v)) if v.entity == id => Some((row.at, v)),
            _ => None,
        });
        let mut verdicts = verdicts.peekable();
        let judge = Judge::of(record, machine, own);
        let track = record.authority(own.actor);
        for i in track.between(span.from, span.to) {
            let Some(head) = track.head(i) else { continue };
            while let Some((_, verdict)) = verdicts.next_if(|(at, _)| *at <= head.at) {
                self.open.iter_mut().for_each(|trick| trick.accused(record, &verdict));
            }
            let Some((tick, metres)) = judge.gain(track, i) else { continue };
            if let Some(trick) = self.open.iter_mut().rev().find(|trick| trick.has(tick)) {
                trick.gains.push((tick, metres));
                trick.peak = trick.peak.max(trick.gain());
            }
        }
        verdicts.for_each(|(_, verdict)| self.open.iter_mut().for_each(|trick| trick.accused(record, &verdict)));
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
            self.over.gain += trick.gain();
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
            outcome.gain += trick.gain();
            outcome.peak = outcome.peak.max(trick.peak);
        }
        outcome
    }
}

/// Says how far beyond the lawful the authority went along with an owner.
struct Judge<'a> {
    record: &'a Record,
    machine: MachineId,
    own: &'a OwnRows,
    /// Whether inputs travel, not positions.
    sends_inputs: bool,
    /// What the server knows of the rules, where that is always the same.
    known: Option<Known>,
}

impl<'a> Judge<'a> {
    fn of(record: &'a Record, machine: MachineId, own: &'a OwnRows) -> Self {
        let player = record.cast.machines[machine.index()].player.as_ref();
        let known = record.changes.is_empty().then(|| record.known(MachineId::SERVER, Part::Server, RecordTick(0)));
        Self {
            record,
            machine,
            own,
            sends_inputs: player.is_some_and(|player| player.arrangement.sends_inputs()),
            known,
        }
    }

    /// Of the authority's state at a position: which of its owner's ticks it goes along with, and the metres that this is
    /// beyond what was lawful; `None` where that is nothing.
    fn gain(&self, track: &Track, i: usize) -> Option<(RecordTick, f64)> {
        let before = i.checked_sub(1)?;
        let (was, is) = (track.head(before)?, track.head(i)?);
        let (from, tick) = (was.used()?, is.used()?);
        if tick <= from || is.teleported {
            return None;
        }
        let then;
        let known = match &self.known {
            Some(known) => known,
            None => {
                then = self.record.known(MachineId::SERVER, Part::Server, is.tick);
                &then
            }
        };
        let kind = self.record.cast.actors[self.own.actor.index()].kind;
        let motion = known.kinds.motion(kind);
        let tunables = &known.tunables[usize::from(kind)];
        let ground = known.ground();
        let dt = self.record.cast.rate.dt();
        let quantum = f64::from(motion.schema().state[0].wire.step());
        let beyond = if self.sends_inputs {
            let scene = Scene { tick: is.tick.tick(self.record.cast.first), dt, ground: &ground, tunables };
            self.beyond_input(track, before, motion, &scene)?
        } else {
            let underfoot = Underfoot::of(ground.surface(track.pos(before)));
            let limits = motion.limits_in(&motion.limits(tunables), tunables, (&track.state(before), 0.0), &underfoot);
            let seconds = dt * (tick.0 - from.0) as f32;
            let most = (limits.level * seconds, limits.up * seconds, limits.down * seconds);
            beyond_claim(&ground, motion, (track.pos(before), track.pos(i)), most)
        };
        (beyond > quantum).then_some((tick, beyond))
    }

    /// What the inputs of the hands would have made of it.
    fn beyond_input(&self, track: &Track, before: usize, motion: &dyn Motion, scene: &Scene<'_>) -> Option<f64> {
        let tick = track.head(before + 1)?.tick;
        let row =
            self.own.inputs.of_tick(tick).filter(|row| row.used().is_some_and(|(_, p)| p == Provenance::Fresh))?;
        let (sampled, used) = (self.own.inputs.sampled(&row)?, self.own.inputs.used(&row)?);
        let made = track.head(before + 1)?.at;
        let id = self.record.cast.actors[self.own.actor.index()].id;
        let mut around = self.record.of(self.machine).happenings.span(made.minus(PUSH_BEFORE), made);
        if around.any(|row| {
            matches!(row.what, Happening::Pushed(e, _) | Happening::Teleported(e, _) if e == id)
                && row.tick == Some(tick)
        }) {
            return None;
        }
        let lawful =
            checked_step(motion, scene, &track.state(before), &given(motion.schema(), &sampled, &used)).ok()?;
        Some(f64::from(lawful.state.vec3(0).distance(track.pos(before + 1))))
    }
}

/// How far a claim lies from the nearest that could be reached towards it.
fn beyond_claim(
    ground: &Ground,
    motion: &dyn Motion,
    (from, to): (Vec3, Vec3),
    (level, up, down): (f32, f32, f32),
) -> f64 {
    let mut travel = to - from;
    let along = travel.level().length();
    if along > level {
        let share = level / along;
        (travel.x, travel.y) = (travel.x * share, travel.y * share);
    }
    travel.z = velocitas_core::clamp(travel.z, -down, up);
    let reached = |grounded| {
        let wanted = Slide { from, travel, velocity: Vec3::ZERO, grounded };
        f64::from(slide(ground, &motion.body(), wanted).position.distance(to))
    };
    reached(true).min(reached(false))
}

/// What the step would have read of what the hands gave: presses as they were read, everything else as it was sampled.
fn given(schema: &Schema, sampled: &Input, used: &Input) -> Input {
    let mut given = *used;
    for f in schema.input.iter().filter(|f| f.kind != InputKind::Press) {
        (f.lane..f.lane + f.kind.lanes()).for_each(|lane| given.set_int(lane, sampled.int(lane)));
    }
    given
}
