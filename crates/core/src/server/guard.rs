//! What is refused, and on which evidence.
//!
//! An owner who claims its positions is judged tick by tick, when the claimed tick comes:
//!
//! 1. **Time.** A [`Bank`] of ticks pays for each claim's advance; one that cannot pay waits. Only seconds of
//!    continuous deficit are a verdict: packets come in bunches and clocks drift. Ticks that the *server* dropped are
//!    paid as well: its owner's went on. A gap longer than the bank is a *resync*: the owner is put where it last was,
//!    nobody is accused.
//! 2. The checks, a file each: [`Teleport`], [`Reach`], [`Edge`], [`Sweep`], [`Support`], [`Pace`], [`Burst`], [`Accel`], [`Growth`].
//!
//! Limits are those of the state it is in, as far as it was told of; they allow the rule's slack *and* one quantum of the wire. Where
//! ticks are missing, what could tell is missing as well: it is believed for one tick in twenty, and beyond that, or where a solid is in
//! the way, a hole is a resync. The answer to a verdict is a pull back with an epoch, repeated until a claim carries it; claims of older
//! epochs are dropped unjudged. A pull back for pace goes to where the second began, so that nothing is gained.

mod accel;
mod auditor;
mod bank;
mod burst;
mod case;
mod docket;
mod edge;
mod growth;
mod habits;
mod pace;
mod reach;
mod rules;
mod support;
mod sweep;
mod teleport;
mod trust;

use accel::Accel;
pub(super) use auditor::{Audit, Auditor};
use bank::{Bank, Charge};
use burst::Burst;
pub use case::{Case, Check, Finding};
use docket::Docket;
pub(super) use docket::Offence;
use edge::Edge;
use growth::Growth;
pub(super) use habits::Habits;
use pace::Pace;
use reach::Reach;
pub(super) use rules::Rules;
use support::Support;
use sweep::Sweep;
use teleport::Teleport;
use trust::Trust;

use super::claims::{Claims, Heard, Pending, Place};
use crate::data::State;
use crate::event::Provenance;
use crate::float::{max, min};
use crate::policy::{Policy, Response};
use crate::schema::Schema;
use crate::tick::{Rate, Tick};
use crate::vec3::{Vec3, vec3};
use crate::verdict::{Evidence, Rule};
use crate::wire::Claim;

/// The checks that a guard makes, in their order, as they are before anything was seen.
pub fn checks() -> Vec<Box<dyn Check>> {
    vec![
        Box::new(Teleport),
        Box::new(Reach),
        Box::new(Edge),
        Box::new(Sweep),
        Box::new(Support::default()),
        Box::new(Pace::default()),
        Box::new(Burst::default()),
        Box::new(Accel::default()),
        Box::new(Growth),
    ]
}

/// What came of a tick.
#[derive(Clone, Debug)]
pub(super) enum Ruling {
    Lawful,
    Resync,
    /// By which response it was answered.
    Guilty(Box<Offence>, Response),
}

impl Ruling {
    fn guilty(policy: &Policy, offence: Offence) -> Self {
        let response = policy.response(offence.evidence.rule);
        Self::Guilty(Box::new(offence), response)
    }
}

/// One owner's claims and what is held against them.
#[derive(Clone, Debug)]
pub(super) struct Guard {
    claims: Claims<Place>,
    bank: Bank,
    trust: Trust,
    checks: Vec<Box<dyn Check>>,
    docket: Docket,
    /// A pull back that no claim has answered yet.
    pull: Option<State>,
    good: State,
    /// The tick of which the whole of it was told.
    told: Option<Tick>,
}

impl Guard {
    pub(super) fn new(rate: Rate, state: State, policy: &Policy) -> Self {
        Self {
            claims: Claims::default(),
            bank: Bank::new(rate),
            trust: Trust::new(rate),
            checks: policy.checks.to_vec(),
            docket: Docket::default(),
            pull: None,
            good: state,
            told: None,
        }
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

    /// Judges what is claimed up to `now` and moves `state` along with what is lawful.
    pub(super) fn judge(&mut self, rules: &Rules<'_>, now: Tick, state: &mut State) -> (Ruling, Provenance) {
        self.bank.gain();
        self.trust.gain();
        let mut provenance = Provenance::Repeated;
        while let Some((from, tick, pending)) = self.claims.next_due(now) {
            let advance = tick.since(from).unsigned_abs();
            let ruling = match self.bank.charge(advance) {
                Charge::Paid => {
                    self.claims.take(tick);
                    self.check(rules, (from, tick), &pending)
                }
                Charge::Waits => break,
                Charge::TooLong => (Ruling::Resync, standing(&self.good, rules.schema(tick))),
                Charge::Overdrawn => {
                    let evidence = Evidence::plain(Rule::Time, (from, tick), advance as f32, 0.0);
                    if rules.policy.response(Rule::Time) == Response::Note {
                        // What was claimed holds.
                        self.docket.note(evidence.into(), rules.rate);
                        self.bank.forgive();
                        self.claims.take(tick);
                        self.check(rules, (from, tick), &pending)
                    } else {
                        (Ruling::guilty(rules.policy, evidence.into()), standing(&self.good, rules.schema(tick)))
                    }
                }
            };
            match ruling {
                (Ruling::Lawful, _) => {}
                (ruling, to) => {
                    *state = self.pull_back(to);
                    return (ruling, provenance);
                }
            }
            if pending.word.state.is_some() {
                self.told = Some(tick);
            }
            self.good = self.claims.accept(tick, &pending.word, self.good);
            *state = self.good;
            if tick == now {
                provenance = Provenance::Fresh;
                self.bank.wake();
            }
        }
        (Ruling::Lawful, provenance)
    }

    fn pull_back(&mut self, to: State) -> State {
        self.claims.begin_epoch();
        self.pull = Some(to);
        self.good = to;
        self.told = None;
        self.checks.iter_mut().for_each(|check| check.clear());
        self.bank.forgive();
        to
    }

    /// Makes every check of a claim. Where one is not lawful, also where its owner goes back to.
    fn check(&mut self, rules: &Rules<'_>, (from, tick): (Tick, Tick), pending: &Pending<Place>) -> (Ruling, State) {
        let Rules { rate, policy, .. } = *rules;
        let (scene, motion) = (&rules.scene(tick), rules.motion(tick));
        let ago = from.since(self.told.unwrap_or(from)).unsigned_abs();
        let (before, told) = (self.good, pending.word.state);
        let ticks = tick.since(from).unsigned_abs();
        let limits = rules.limits_between(tick, (&before, ago + ticks.saturating_sub(1)), told.as_ref());
        let (start, end) = (before.vec3(0), pending.word.pos);
        let (limits, before, told, arrived) = (&limits, &before, told.as_ref(), pending.arrived);
        let allowed = &policy.allowed;
        let case = Case { scene, motion, limits, rate, from, tick, arrived, start, end, before, ago, allowed, told };
        for check in &mut self.checks {
            let (evidence, back) = match check.judge(&case) {
                Finding::Nothing => continue,
                Finding::Within(evidence) => {
                    self.docket.measured(evidence);
                    continue;
                }
                Finding::Untold(evidence) => {
                    self.docket.measured(evidence);
                    // All of what it covers is believed, not only the hole in it.
                    if self.trust.pay(evidence.to.since(evidence.from).unsigned_abs()) {
                        continue;
                    }
                    return (Ruling::Resync, standing(&self.good, motion.schema()));
                }
                Finding::Hole => return (Ruling::Resync, standing(&self.good, motion.schema())),
                Finding::Beyond(evidence, back) => (evidence, back),
            };
            if evidence.rule.is_measured() {
                self.docket.measured(evidence);
            }
            let (response, offence) = (policy.response(evidence.rule), Offence { evidence, path: check.path(&case) });
            let to = match response {
                Response::Note => {
                    self.docket.note(offence, rate);
                    continue;
                }
                Response::Clamp => furthest(&case, &evidence),
                Response::PullBack | Response::Strike | Response::Disconnect => {
                    let mut to = standing(&self.good, motion.schema());
                    to.set_vec3(0, back.unwrap_or(start));
                    to
                }
            };
            return (Ruling::Guilty(Box::new(offence), response), to);
        }
        (Ruling::Lawful, self.good)
    }

    /// What was measured since it was last asked.
    pub(super) fn measures(&mut self) -> std::vec::Drain<'_, Evidence> {
        self.docket.measures()
    }

    /// What was noted since it was last asked.
    pub(super) fn notes(&mut self) -> std::vec::Drain<'_, Offence> {
        self.docket.notes()
    }
}

/// The same, standing.
fn standing(state: &State, schema: &Schema) -> State {
    let mut to = *state;
    if let Some(lane) = schema.velocity_lane() {
        to.set_vec3(lane, Vec3::ZERO);
    }
    to
}

/// As far along what is claimed as was lawful: what is too far is taken from the way, what is too high from the height. Where that
/// lies in something, since the way may have been bent, it stays where it was.
fn furthest(case: &Case<'_>, evidence: &Evidence) -> State {
    let mut to = *case.before;
    let excess = (evidence.measured - evidence.limit) * if evidence.rule == Rule::Accel { case.seconds() } else { 1.0 };
    let at = match evidence.rule {
        Rule::Edge | Rule::Support => vec3(case.end.x, case.end.y, max(case.end.z - excess, case.start.z)),
        Rule::Growth => case.end,
        _ => {
            let way = case.end - case.start;
            let length = max(way.length(), f32::MIN_POSITIVE);
            // A little less: the place is rounded.
            case.start + way * (min(max(length - excess - case.rounding(), 0.0), length) / length)
        }
    };
    let wire = case.motion.schema().state[0].wire;
    let at = vec3(wire.round(at.x), wire.round(at.y), wire.round(at.z));
    to.set_vec3(0, if case.lies_in(at).is_some() { case.start } else { at });
    to
}

#[cfg(test)]
mod tests;
