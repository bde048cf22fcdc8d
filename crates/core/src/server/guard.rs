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

use std::collections::VecDeque;

mod auditor;
mod bank;
mod case;

pub(super) use auditor::{Audit, Auditor, Rules};
use bank::{Bank, Charge};
use case::Case;

use super::claims::{Claims, Heard, Place};
use crate::data::State;
use crate::event::Provenance;
use crate::motion::{Limits, Motion, Scene};
use crate::tick::{Rate, Tick};
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Rule};
use crate::wire::Claim;

/// What came of a tick.
#[derive(Clone, Copy, Debug)]
pub(super) enum Ruling {
    Lawful,
    Resync,
    Guilty(Evidence),
}

/// One owner's claims and what is held against them.
#[derive(Clone, Debug)]
pub(super) struct Guard {
    claims: Claims<Place>,
    bank: Bank,
    /// Where the path was, an eighth of a second apart.
    path: VecDeque<(Tick, Vec3)>,
    /// A pull back that no claim has answered yet.
    pull: Option<State>,
    good: State,
}

impl Guard {
    pub(super) fn new(rate: Rate, state: State) -> Self {
        Self { claims: Claims::default(), bank: Bank::new(rate), path: VecDeque::new(), pull: None, good: state }
    }

    /// The server has passed over so many ticks.
    pub(super) fn sleep(&mut self, ticks: u64) {
        self.bank.sleep(ticks);
    }

    /// Claims that waited when a pull back made them worthless; each is handed out once.
    pub(super) fn let_go(&mut self) -> Vec<Tick> {
        self.claims.let_go()
    }

    /// What was said and what of it accepted.
    pub(super) const fn claims(&self) -> &Claims<Place> {
        &self.claims
    }

    /// Epoch and state of a pull back to be sent again.
    pub(super) fn unanswered_pull(&self) -> Option<(u8, State)> {
        self.pull.map(|state| (self.claims.epoch, state))
    }

    /// Takes a claim in; see [`Claims::take_in_claim`]. One of this epoch answers the pull back that began it.
    pub(super) fn take_in(&mut self, newest: Tick, since: Tick, claim: &Claim, expected: Tick) -> Heard {
        if claim.epoch == self.claims.epoch {
            self.pull = None;
        }
        self.claims.take_in_claim(newest, since, claim, expected)
    }

    /// Judges what is claimed up to the scene's tick and moves `state` along with what is lawful.
    pub(super) fn judge(
        &mut self,
        scene: &Scene<'_>,
        (motion, limits): (&dyn Motion, &Limits),
        rate: Rate,
        state: &mut State,
    ) -> (Ruling, Provenance) {
        self.bank.gain();
        let mut provenance = Provenance::Repeated;
        while let Some((from, tick, pending)) = self.claims.next_due(scene.tick) {
            let advance = tick.since(from).unsigned_abs();
            match self.bank.charge(advance) {
                Charge::Paid => {}
                Charge::Waits => break,
                Charge::TooLong => {
                    *state = self.pull_back(self.good);
                    return (Ruling::Resync, provenance);
                }
                Charge::Overdrawn => {
                    *state = self.pull_back(self.good);
                    let evidence = Evidence::plain(Rule::Time, (from, tick), advance as f32, 0.0);
                    return (Ruling::Guilty(evidence), provenance);
                }
            }
            self.claims.take(tick);
            let (start, end) = (self.good.vec3(0), pending.word.pos);
            let case = Case { scene, motion, limits, rate, from, tick, start, end };
            match self.check(&case) {
                Ruling::Lawful => {}
                ruling => {
                    *state = self.put_back(&ruling, motion);
                    return (ruling, provenance);
                }
            }
            self.good = self.claims.accept(tick, &pending.word, self.good);
            *state = self.good;
            if tick == scene.tick {
                provenance = Provenance::Fresh;
                self.bank.wake();
            }
        }
        (Ruling::Lawful, provenance)
    }

    /// Puts the owner where it last was lawfully, standing; for pace where the second began.
    fn put_back(&mut self, ruling: &Ruling, motion: &dyn Motion) -> State {
        let to = match ruling {
            Ruling::Guilty(e) if e.rule == Rule::Pace => self.path.front().map(|(_, at)| *at),
            _ => None,
        };
        let mut back = self.good;
        if let Some(to) = to {
            back.set_vec3(0, to);
        }
        if let Some(lane) = motion.schema().velocity_lane() {
            back.set_vec3(lane, Vec3::ZERO);
        }
        self.pull_back(back)
    }

    fn pull_back(&mut self, to: State) -> State {
        self.claims.begin_epoch();
        self.pull = Some(to);
        self.good = to;
        self.path.clear();
        self.bank.forgive();
        to
    }

    /// Reach, sweep, pace, in this order.
    fn check(&mut self, case: &Case<'_>) -> Ruling {
        let limits = case.limits;
        let quantum = case.motion.schema().state[0].wire.step();
        let evidence = Evidence::plain(Rule::Reach, (case.from, case.tick), 0.0, 0.0);
        let evidence = Evidence { slack: limits.slack, quantum: quantum * std::f32::consts::SQRT_2, ..evidence };
        if let Some((measured, limit)) = case.exceeds_reach(quantum) {
            return Ruling::Guilty(Evidence { measured, limit, ..evidence });
        }
        if let Some(fraction) = case.meets_solid(quantum) {
            if case.tick.since(case.from) > 1 {
                return Ruling::Resync;
            }
            if case.goes_round(quantum) {
                return self.check_pace(case, Evidence { rule: Rule::Pace, ..evidence });
            }
            let measured = case.start.distance(case.end);
            let limit = measured * fraction;
            return Ruling::Guilty(Evidence { rule: Rule::Sweep, measured, limit, ..evidence });
        }
        self.check_pace(case, Evidence { rule: Rule::Pace, ..evidence })
    }

    fn check_pace(&mut self, case: &Case<'_>, evidence: Evidence) -> Ruling {
        let limits = case.limits;
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
            return Ruling::Guilty(Evidence {
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
