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

mod auditor;
mod bank;
mod case;
mod pace;
mod reach;
mod sweep;

pub(super) use auditor::{Audit, Auditor, Rules};
use bank::{Bank, Charge};
use case::Case;
use pace::Pace;
use sweep::Swept;

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
    pace: Pace,
    /// What was measured since it was last asked.
    measures: Vec<Evidence>,
    /// A pull back that no claim has answered yet.
    pull: Option<State>,
    good: State,
}

impl Guard {
    pub(super) fn new(rate: Rate, state: State) -> Self {
        let (claims, bank, pace, measures) = (Claims::default(), Bank::new(rate), Pace::default(), Vec::new());
        Self { claims, bank, pace, measures, pull: None, good: state }
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
            Ruling::Guilty(e) if e.rule == Rule::Pace => self.pace.first(),
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
        self.pace.clear();
        self.bank.forgive();
        to
    }

    /// Reach, sweep, pace, in this order.
    fn check(&mut self, case: &Case<'_>) -> Ruling {
        let reach = reach::judge(case);
        self.measures.push(reach);
        if reach.is_exceeded() {
            return Ruling::Guilty(reach);
        }
        match sweep::judge(case) {
            Swept::Clear | Swept::Around => {}
            // Nobody knows which way it took through a hole.
            Swept::Met(_) if case.tick.since(case.from) > 1 => return Ruling::Resync,
            Swept::Met(share) => {
                let measured = case.start.distance(case.end);
                // It is met or it is not: there is no share of a wall.
                return Ruling::Guilty(case.evidence(Rule::Sweep, measured, measured * share));
            }
        }
        let pace = self.pace.judge(case);
        self.measures.extend(pace);
        pace.filter(Evidence::is_exceeded).map_or(Ruling::Lawful, Ruling::Guilty)
    }

    /// What was measured since it was last asked.
    pub(super) fn measures(&mut self) -> std::vec::Drain<'_, Evidence> {
        self.measures.drain(..)
    }
}

#[cfg(test)]
mod tests;
