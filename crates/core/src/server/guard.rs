//! What is refused, and on which evidence.
//!
//! An owner who claims its positions is judged tick by tick, when the claimed tick comes:
//!
//! 1. **Time.** A [`Bank`] of ticks pays for each claim's advance; one that cannot pay waits. Only seconds of
//!    continuous deficit are a verdict: packets come in bunches and clocks drift. Ticks that the *server* dropped are
//!    paid as well: its owner's went on. A gap longer than the bank is a *resync*: the owner is put where it last was,
//!    nobody is accused.
//! 2. **Reach.** One claim's displacement over its ticks.
//! 3. **Sweep.** A body a little thinner than the real one is swept along the claimed path, a step above the ground.
//!    Where the path has holes that nothing repeated, a hit is a resync. Where one tick of the rule may consist of several
//!    moves ([`Motion::moves`]), a tight way round what was met, or up a flight of edges, no longer than the tick allows,
//!    is lawful.
//! 4. **Pace.** The way along the path over a second, in chords long enough for rounding not to matter.
//!
//! Limits allow the rule's slack *and* one quantum of the wire. The answer to a verdict is a pull back with an epoch,
//! repeated until a claim carries it; claims of older epochs are dropped unjudged. A pull back for pace goes to where
//! the second began, so that nothing is gained.

use std::collections::{BTreeMap, VecDeque};

mod case;

use case::Case;

use super::PeerId;
use crate::data::State;
use crate::motion::{Limits, Motion, Scene};
use crate::tick::{Rate, Tick};
use crate::vec3::Vec3;
use crate::wire::{Claim, Provenance};

/// The rules.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rule {
    /// An input outside its range (measured and limit: length of the stick).
    Range,
    /// An input or claim for a tick far ahead (measured and limit: ticks).
    Window,
    /// A different input for a tick already given (measured and limit: inputs for the tick).
    Conflict,
    /// More ticks claimed than time has passed (measured and limit: ticks).
    Time,
    /// Too far in one claim (metres).
    Reach,
    /// Through something solid (metres along the claimed move; limit: where it was met).
    Sweep,
    /// Too far in a second (metres).
    Pace,
}

impl Rule {
    /// All rules.
    pub const ALL: [Self; 7] =
        [Self::Range, Self::Window, Self::Conflict, Self::Time, Self::Reach, Self::Sweep, Self::Pace];

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Range => "range",
            Self::Window => "window",
            Self::Conflict => "conflict",
            Self::Time => "time",
            Self::Reach => "reach",
            Self::Sweep => "sweep",
            Self::Pace => "pace",
        }
    }
}

/// What was done about it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// The input was not used.
    Ignored,
    /// The owner was put back.
    PulledBack,
}

/// An accusation with its evidence.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Verdict {
    /// Who.
    pub peer: PeerId,
    /// By which rule.
    pub rule: Rule,
    /// The server's tick.
    pub tick: Tick,
    /// First tick of the evidence.
    pub from: Tick,
    /// Last tick of the evidence.
    pub to: Tick,
    /// What was measured.
    pub measured: f32,
    /// What was allowed, slack and quantum included.
    pub limit: f32,
    /// Share of slack in the limit.
    pub slack: f32,
    /// Allowance for rounding in the limit.
    pub quantum: f32,
    /// Metres beyond the lawful, without slack, that had been accepted by then. A pull back for pace takes them back.
    pub gain: f32,
    /// What was done.
    pub answer: Answer,
}

/// What came of a tick.
#[derive(Clone, Copy, Debug)]
pub(super) enum Ruling {
    Lawful,
    Resync,
    Guilty(Verdict),
}

/// Dropped ticks that are made good for at most: beyond them what waits in the socket is thrown away.
const MOST_SLEPT: u64 = 4096;

/// Fair time: as many ticks as a server second at most, gaining one and a little a tick.
#[derive(Clone, Copy, Debug)]
pub(super) struct Bank {
    /// In 512ths of a tick.
    balance: u64,
    cap: u64,
    /// Time in which the server stood still and its ticks were dropped, while the owner's went on. Beyond the cap, since
    /// it did pass; until the owner has caught up, or a while at most.
    slept: u64,
    /// Server ticks until that lapses.
    lapses: u32,
}

impl Bank {
    const UNIT: u64 = 512;

    pub(super) fn new(rate: Rate) -> Self {
        let cap = u64::from(rate.hz()) * Self::UNIT;
        Self { balance: cap, cap, slept: 0, lapses: 0 }
    }

    /// A server tick has passed: 1 + 1/512 ticks, which covers 1,953 ppm of drift.
    pub(super) fn gain(&mut self) {
        self.balance = (self.balance + Self::UNIT + 1).min(self.cap);
        self.lapses = self.lapses.saturating_sub(1);
        if self.lapses == 0 {
            self.slept = 0;
        }
    }

    /// The server has dropped so many ticks, which its owner did not.
    pub(super) fn sleep(&mut self, ticks: u64) {
        self.slept = self.slept.saturating_add(ticks.min(MOST_SLEPT) * (Self::UNIT + 1));
        // Two seconds: what was under way has arrived by then.
        self.lapses = (2 * self.cap / Self::UNIT) as u32;
    }

    /// The owner has caught up with the server.
    pub(super) const fn wake(&mut self) {
        self.slept = 0;
    }

    /// The longest advance that could ever be paid.
    pub(super) const fn longest(&self) -> u64 {
        self.cap / Self::UNIT
    }

    /// Pays for an advance, or not.
    #[must_use]
    pub(super) fn pay(&mut self, ticks: u64) -> bool {
        let cost = ticks.saturating_mul(Self::UNIT);
        let can = cost <= self.balance + self.slept;
        if can {
            // What lapses goes first.
            let from_sleep = cost.min(self.slept);
            self.slept -= from_sleep;
            self.balance -= cost - from_sleep;
        }
        can
    }
}

#[derive(Clone, Copy, Debug)]
struct Pending {
    pos: Vec3,
    /// The whole state, where this tick was some message's newest.
    state: Option<State>,
    since: Tick,
}

/// One owner's claims and what is held against them.
#[derive(Clone, Debug)]
pub(super) struct Guard {
    epoch: u8,
    bank: Bank,
    /// Newest claim accepted in this epoch.
    last: Option<Tick>,
    /// Newest tick accepted in any epoch.
    newest: Option<Tick>,
    queue: BTreeMap<Tick, Pending>,
    /// Where the path was, an eighth of a second apart.
    path: VecDeque<(Tick, Vec3)>,
    /// Server ticks in a row in which a claim could not pay.
    deficit: u32,
    /// A pull back that no claim has answered yet.
    pull: Option<State>,
    good: State,
    /// Newest tick that any claim told of, believed or not.
    heard: Option<Tick>,
    /// The oldest: before it nothing is missing.
    first: Option<Tick>,
}

/// Claims waiting at most: two seconds at 128 Hz.
const QUEUE: usize = 256;

impl Guard {
    pub(super) fn new(rate: Rate, state: State) -> Self {
        Self {
            epoch: 0,
            bank: Bank::new(rate),
            last: None,
            newest: None,
            queue: BTreeMap::new(),
            path: VecDeque::new(),
            deficit: 0,
            pull: None,
            good: state,
            heard: None,
            first: None,
        }
    }

    /// The server has passed over so many ticks.
    pub(super) fn sleep(&mut self, ticks: u64) {
        self.bank.sleep(ticks);
    }

    /// Newest tick accepted.
    pub(super) const fn accepted(&self) -> Option<Tick> {
        self.newest
    }

    /// Whether a claim for `tick` can be missing: its owner had begun by then.
    pub(super) fn has_begun(&self, tick: Tick) -> bool {
        self.first.is_some_and(|first| first <= tick)
    }

    /// Epoch and state of a pull back to be sent again.
    pub(super) fn unanswered_pull(&self) -> Option<(u8, State)> {
        self.pull.map(|state| (self.epoch, state))
    }

    /// Queues what a claim says of ticks not yet known. Returns the ticks heard of for the first time, oldest first;
    /// those of an older epoch are among them, but dropped.
    pub(super) fn take_in(&mut self, newest: Tick, since: Tick, claim: &Claim, expected: Tick) -> Vec<Tick> {
        let oldest = newest.offset(-(claim.count as i64));
        self.first.get_or_insert(oldest.max(since));
        let known = self.heard.map_or(oldest, |heard| heard.next().max(oldest));
        if claim.epoch != self.epoch {
            self.heard = self.heard.max(Some(newest));
            return (known.0..=newest.0).map(Tick).collect();
        }
        let mut arrived = Vec::new();
        self.pull = None;
        self.heard = self.heard.max(Some(newest));
        for back in (0..=claim.count).rev() {
            let tick = newest.offset(-(back as i64));
            let known = self.last.is_some_and(|last| tick <= last) || tick < since;
            if known || tick.since(expected) > QUEUE as i64 || self.queue.len() >= QUEUE {
                continue;
            }
            let (pos, state) =
                if back == 0 { (claim.state.vec3(0), Some(claim.state)) } else { (claim.trail[back - 1], None) };
            let entry = self.queue.entry(tick).or_insert_with(|| {
                arrived.push(tick);
                Pending { pos, state, since }
            });
            // The first word counts; a later message may only add what the first did not carry.
            if entry.state.is_none() && entry.pos == pos {
                entry.state = state;
            }
        }
        arrived
    }

    /// Judges what is claimed up to the scene's tick and moves `state` along with what is lawful.
    pub(super) fn judge(
        &mut self,
        scene: &Scene<'_>,
        motion: &dyn Motion,
        rate: Rate,
        state: &mut State,
    ) -> (Ruling, Provenance) {
        self.bank.gain();
        let mut provenance = Provenance::Repeated;
        while let Some((&tick, &pending)) = self.queue.first_key_value() {
            if tick > scene.tick {
                break;
            }
            // A new epoch goes on from where the owner was put, at the tick in which it learnt of it.
            let from = self.last.unwrap_or(pending.since.max(self.newest.unwrap_or(pending.since)));
            if tick < from || self.last == Some(tick) {
                self.queue.remove(&tick);
                continue;
            }
            let advance = tick.since(from).unsigned_abs();
            if advance > self.bank.longest() {
                *state = self.pull_back(self.good);
                return (Ruling::Resync, provenance);
            }
            if !self.bank.pay(advance) {
                self.deficit += 1;
                if self.deficit > 2 * rate.hz() {
                    let verdict = self.verdict(Rule::Time, scene.tick, (from, tick));
                    let verdict = Verdict { measured: advance as f32, limit: 0.0, ..verdict };
                    *state = self.pull_back(self.good);
                    return (Ruling::Guilty(verdict), provenance);
                }
                break;
            }
            self.deficit = 0;
            self.queue.remove(&tick);
            let case = Case { scene, motion, rate, from, tick, start: self.good.vec3(0), end: pending.pos };
            match self.check(&case) {
                Ruling::Lawful => {}
                ruling => {
                    let to = match ruling {
                        Ruling::Guilty(v) if v.rule == Rule::Pace => self.path.front().map(|(_, at)| *at),
                        _ => None,
                    };
                    let mut back = self.good;
                    if let Some(to) = to {
                        back.set_vec3(0, to);
                    }
                    if let Some(lane) = motion.schema().velocity_lane() {
                        back.set_vec3(lane, Vec3::ZERO);
                    }
                    *state = self.pull_back(back);
                    return (ruling, provenance);
                }
            }
            let mut accepted = pending.state.unwrap_or(self.good);
            accepted.set_vec3(0, pending.pos);
            self.good = accepted;
            *state = accepted;
            self.last = Some(tick);
            self.newest = Some(tick);
            if tick == scene.tick {
                provenance = Provenance::Fresh;
                self.bank.wake();
            }
        }
        (Ruling::Lawful, provenance)
    }

    fn pull_back(&mut self, to: State) -> State {
        self.epoch = self.epoch.wrapping_add(1);
        self.pull = Some(to);
        self.good = to;
        self.last = None;
        self.queue.clear();
        self.path.clear();
        self.deficit = 0;
        to
    }

    const fn verdict(&self, rule: Rule, tick: Tick, evidence: (Tick, Tick)) -> Verdict {
        Verdict {
            peer: PeerId(0),
            rule,
            tick,
            from: evidence.0,
            to: evidence.1,
            measured: 0.0,
            limit: 0.0,
            slack: 0.0,
            quantum: 0.0,
            gain: 0.0,
            answer: Answer::PulledBack,
        }
    }

    /// Reach, sweep, pace, in this order.
    fn check(&mut self, case: &Case<'_>) -> Ruling {
        let limits = case.motion.limits(case.scene.tunables);
        let quantum = case.motion.schema().state[0].wire.step();
        let evidence = self.verdict(Rule::Reach, case.scene.tick, (case.from, case.tick));
        let evidence = Verdict { slack: limits.slack, quantum: quantum * std::f32::consts::SQRT_2, ..evidence };
        if let Some((measured, limit)) = case.exceeds_reach(&limits, quantum) {
            return Ruling::Guilty(Verdict { measured, limit, ..evidence });
        }
        if let Some(fraction) = case.meets_solid(quantum) {
            if case.tick.since(case.from) > 1 {
                return Ruling::Resync;
            }
            if case.goes_round(&limits, quantum) {
                return self.check_pace(case, &limits, Verdict { rule: Rule::Pace, ..evidence });
            }
            let measured = case.start.distance(case.end);
            let limit = measured * fraction;
            return Ruling::Guilty(Verdict { rule: Rule::Sweep, measured, limit, ..evidence });
        }
        self.check_pace(case, &limits, Verdict { rule: Rule::Pace, ..evidence })
    }

    fn check_pace(&mut self, case: &Case<'_>, limits: &Limits, evidence: Verdict) -> Ruling {
        let hz = i64::from(case.rate.hz());
        let chord = (hz / 8).max(1);
        if self.path.is_empty() {
            self.path.push_back((case.from, case.start));
        }
        if self.path.back().is_some_and(|(tick, _)| case.tick.since(*tick) < chord) {
            return Ruling::Lawful;
        }
        self.path.push_back((case.tick, case.end));
        while self.path.len() > 2 && case.tick.since(self.path[1].0) >= hz {
            self.path.pop_front();
        }
        let (first, _) = self.path[0];
        let ticks = case.tick.since(first);
        if ticks < hz {
            return Ruling::Lawful;
        }
        let way = |a: &(Tick, Vec3), b: &(Tick, Vec3)| (b.1 - a.1).level().length();
        let measured: f32 = self.path.iter().zip(self.path.iter().skip(1)).map(|(a, b)| way(a, b)).sum();
        let quantum = evidence.quantum * (self.path.len() - 1) as f32;
        let lawful = limits.level * ticks as f32 * case.scene.dt;
        let limit = lawful * (1.0 + limits.slack) + quantum;
        if measured > limit {
            // All of it is taken back: the owner returns to where the second began.
            return Ruling::Guilty(Verdict {
                from: first,
                measured,
                limit,
                quantum,
                gain: measured - lawful,
                ..evidence
            });
        }
        Ruling::Lawful
    }
}

#[cfg(test)]
mod tests;
