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
mod around;
mod auditor;
mod bank;
mod burst;
mod carry;
pub(crate) mod case;
pub(crate) mod checks;
mod docket;
mod edge;
mod footing;
mod growth;
mod habits;
mod hearing;
mod pace;
mod reach;
mod rules;
mod ruling;
mod support;
mod sweep;
mod teleport;
mod trust;

pub use around::Around;
use around::Way;
pub(super) use auditor::{Audit, Auditor};
pub use carry::{Carry, Going};
use case::is_still;
pub use case::{Check, ClaimCase, Finding};
pub use checks::checks;
pub(super) use docket::Offence;
pub use footing::Footing;
pub(super) use habits::Habits;
use hearing::{Due, Hearing, Next};
pub(super) use rules::Rules;
use rules::{Between, Kept};
pub(super) use ruling::Ruling;

use super::claims::{ClaimedPlace, Claims, Heard, Said};
use crate::data::State;
use crate::event::{Gap, Provenance};
use crate::float::{max, min};
use crate::ground::Ground;
use crate::motion::Limits;
use crate::policy::{Policy, Response};
use crate::schema::Schema;
use crate::tick::{Rate, Tick};
use crate::vec3::{Vec3, vec3};
use crate::verdict::{Evidence, Rule};
use crate::wire::{Claim, PullReason};

/// One owner's claims and what is held against them.
#[derive(Clone, Debug)]
pub(super) struct Guard {
    hearing: Hearing<ClaimedPlace>,
    checks: Vec<Box<dyn Check>>,
    carry: Carry,
    footing: Footing,
    around: Around,
    kept: Kept,
    good: State,
    /// The tick of which the whole of it was told.
    told: Option<Tick>,
}

impl Guard {
    pub(super) fn new(rate: Rate, state: State, policy: &Policy) -> Self {
        Self {
            hearing: Hearing::new(rate),
            checks: policy.checks.to_vec(),
            carry: Carry::default(),
            footing: Footing::default(),
            around: Around::default(),
            kept: Kept::default(),
            good: state,
            told: None,
        }
    }

    /// It was there before: its owner may not have heard yet how it stands.
    pub(super) fn take_over(&mut self, tick: Tick, rate: Rate) {
        self.hearing.take_over(tick, rate);
    }

    /// The server has passed over this number of ticks.
    pub(super) fn sleep(&mut self, ticks: u64) {
        self.hearing.sleep(ticks);
    }

    /// Claims that waited when a pull back made them worthless; each is handed out once.
    pub(super) fn let_go(&mut self) -> Vec<Tick> {
        self.hearing.claims.let_go()
    }

    /// What was said and what of it accepted.
    pub(super) const fn claims(&self) -> &Claims<ClaimedPlace> {
        &self.hearing.claims
    }

    /// What its owner is to be told again; see [`Hearing::unanswered`].
    pub(super) fn unanswered(&self, lane: Option<usize>) -> Option<(u8, PullReason, State)> {
        self.hearing.unanswered(lane)
    }

    /// The server puts its owner elsewhere, at rest.
    pub(super) fn teleport(&mut self, at: Vec3, schema: &Schema) -> State {
        let to = put(&self.good, schema, Some(at));
        // The server may put it into something.
        self.around = Around::default();
        self.pull_back(PullReason::Teleport, to)
    }

    /// The server pushes its owner.
    pub(super) fn push(&mut self, velocity: Vec3) {
        self.hearing.push(velocity);
    }

    /// Has a push that its owner would not hear of take effect where it is, if there is one.
    fn enforce(&mut self, rules: &Rules<'_>, now: Tick) -> Option<State> {
        let push = self.hearing.overdue(rules.rate)?;
        let mut to = self.good;
        add(&mut to, push, rules.schema(now));
        Some(self.pull_back(PullReason::Guard, to))
    }

    /// Takes a claim in; see [`Hearing::take_in`].
    pub(super) fn take_in(&mut self, newest: Tick, since: Tick, claim: &Claim, expected: Tick) -> Heard {
        let said = Said { newest, before: claim.count, since, epoch: claim.epoch };
        self.hearing.take_in(&said, expected, |back| ClaimedPlace::of(claim, back))
    }

    /// Judges what is claimed up to `now` and moves `state` along with what is lawful.
    pub(super) fn judge(&mut self, rules: &Rules<'_>, now: Tick, state: &mut State) -> (Ruling, Provenance) {
        self.hearing.gain();
        let mut provenance = Provenance::Repeated;
        if let Some(to) = self.enforce(rules, now) {
            *state = to;
            return (Ruling::Resync(Gap::Push), provenance);
        }
        while let Some(due) = self.hearing.next(rules, now) {
            if let Due::Paid(next) = &due
                && let Some(push) = self.hearing.pushed(next.tick)
            {
                self.take_push(push, rules.schema(next.tick));
            }
            let standing = |tick| standing(&self.good, rules.schema(tick));
            let (next, ruling) = match due {
                Due::Paid(next) => (next, self.check(rules, &next)),
                // Who has not gone on from where it was put does so now.
                Due::TooLong(next) if self.hearing.claims.last.is_none() => {
                    (next, (Ruling::Resync(Gap::Silence), self.good))
                }
                Due::TooLong(next) => (next, (Ruling::Resync(Gap::Silence), standing(next.tick))),
                Due::Overdrawn(next, offence, response) => {
                    (next, (Ruling::Guilty(offence, response), standing(next.tick)))
                }
            };
            match ruling {
                (Ruling::Lawful, _) => {}
                (ruling, to) => {
                    *state = self.pull_back(PullReason::Guard, to);
                    return (ruling, provenance);
                }
            }
            let Next { tick, pending, .. } = next;
            if pending.word.state.is_some() {
                self.told = Some(tick);
                self.hearing.accept_whole();
            }
            self.good = self.hearing.claims.accept(tick, &pending.word, self.good);
            self.leave(rules, tick);
            *state = self.good;
            if tick == now {
                provenance = Provenance::Fresh;
                self.hearing.wake();
            }
        }
        (Ruling::Lawful, provenance)
    }

    /// What it has left is around it no longer.
    fn leave(&mut self, rules: &Rules<'_>, tick: Tick) {
        if !self.around.is_empty() {
            let (motion, ground) = (rules.motion(tick), rules.scene(tick).ground);
            self.around.leave(ground, &motion.body(), self.good.vec3(0), motion.schema().state[0].wire.step());
        }
    }

    /// From here on its owner may be faster by a push, and where it goes is no longer where it went.
    fn take_push(&mut self, push: Vec3, schema: &Schema) {
        add(&mut self.good, push, schema);
        self.carry.push(push);
        self.checks.iter_mut().for_each(|check| check.clear());
    }

    fn pull_back(&mut self, reason: PullReason, to: State) -> State {
        self.hearing.put(reason, to);
        self.good = to;
        self.told = None;
        self.carry.clear();
        self.footing = Footing::default();
        self.checks.iter_mut().for_each(|check| check.clear());
        to
    }

    /// Makes every check of a claim. Where one is not lawful, also where its owner goes back to.
    fn check(&mut self, rules: &Rules<'_>, &Next { from, tick, pending }: &Next<ClaimedPlace>) -> (Ruling, State) {
        let Rules { rate, policy, .. } = *rules;
        let (scene, motion) = (&rules.scene(tick), rules.motion(tick));
        if self.claims().last.is_none() {
            // Where it was put, all of it is known.
            self.told = Some(from);
        }
        let ago = from.since(self.told.unwrap_or(from)).unsigned_abs();
        let good = self.good;
        let (before, told) = (&good, pending.word.state.as_ref());
        let (start, end) = (before.vec3(0), pending.word.pos);
        let ticks = tick.since(from).unsigned_abs();
        let underfoot = rules.underfoot((from, tick), (start, end));
        let is_still = is_still(motion, told, (start, end));
        let underfoot = &self.footing.of(scene.ground, motion, (start, is_still), underfoot);
        let between = Between { before, ago: ago + ticks.saturating_sub(1), told, underfoot };
        let mut limits = rules.limits(from, tick, &between, &mut self.kept);
        let (way, changed) = ((start, end), rules.is_changed(from, tick));
        let going = Going { scene, motion, before, told, way, ticks, changed, underfoot };
        let carried = self.carry.widen(&going, &mut limits);
        let lately = self.look_around(rules, (from, tick), (start, end), &limits);
        let (limits, arrived) = (&limits, pending.arrived);
        let (allowed, around, lately) = (&policy.allowed, &self.around, &lately[..]);
        let case = ClaimCase {
            scene,
            motion,
            limits,
            rate,
            from,
            tick,
            arrived,
            start,
            end,
            before,
            ago,
            allowed,
            told,
            carried,
            around,
            lately,
        };
        let Some(found) = find(&mut self.checks, &mut self.hearing, &case, rules) else {
            return (Ruling::Lawful, good);
        };
        let to = match (&found.0, found.1) {
            (Ruling::Guilty(offence, Response::Clamp), _) => furthest(&case, &offence.evidence),
            (_, back) => put(&good, motion.schema(), back),
        };
        (found.0, to)
    }

    /// Sees what came to stand around its owner. Gives back the grounds that held until lately.
    fn look_around<'a>(
        &mut self,
        rules: &Rules<'a>,
        (from, tick): (Tick, Tick),
        (start, end): (Vec3, Vec3),
        limits: &Limits,
    ) -> Vec<&'a Ground> {
        let (motion, ground) = (rules.motion(tick), rules.scene(tick).ground);
        let (body, step) = (&motion.body(), motion.schema().state[0].wire.step());
        let ticks = tick.since(from).unsigned_abs();
        let way = Way { start, end, has_hole: ticks > 1, moves: motion.moves() * ticks as u32, step };
        if self.claims().last.is_none() {
            self.around.begin(rules.scene(from).ground, body, start, step);
        }
        if rules.is_changed(from, tick) {
            for before in rules.grounds(from, tick).skip(1) {
                self.around.came(before, ground, body, &way);
            }
        }
        let (went, seconds) = (end - start, ticks as f32 * rules.rate.dt());
        let too_far = went.level().length() - limits.level * seconds;
        let too_far = too_far + max(max(went.z - limits.up * seconds, -went.z - limits.down * seconds), 0.0);
        self.around.follow(ground, body, &way, too_far);
        let tenth = from.offset(-i64::from(rules.rate.hz() / 10).max(3));
        if rules.is_changed(tenth, tick) { rules.grounds(tenth, tick).skip(1).collect() } else { Vec::new() }
    }

    /// What was measured since it was last asked.
    pub(super) fn measures(&mut self) -> std::vec::Drain<'_, Evidence> {
        self.hearing.docket.measures()
    }

    /// What was noted since it was last asked.
    pub(super) fn notes(&mut self) -> std::vec::Drain<'_, Offence> {
        self.hearing.docket.notes()
    }
}

/// Has every check look at a claim. What is not lawful or cannot be believed of it, and where its owner goes back to, if it is another
/// place than where it was.
fn find(
    checks: &mut [Box<dyn Check>],
    hearing: &mut Hearing<ClaimedPlace>,
    case: &ClaimCase<'_>,
    rules: &Rules<'_>,
) -> Option<(Ruling, Option<Vec3>)> {
    let Rules { rate, policy, .. } = *rules;
    for check in checks {
        let (evidence, back) = match check.judge(case) {
            Finding::Nothing => continue,
            Finding::Within(evidence) => {
                hearing.docket.measured(evidence);
                continue;
            }
            Finding::Unproven(evidence, ticks) => {
                hearing.docket.measured(evidence);
                if hearing.trust.pay(ticks) {
                    continue;
                }
                return Some((Ruling::Resync(Gap::Lost), check.back()));
            }
            Finding::Hole(back) => return Some((Ruling::Resync(Gap::Lost), back)),
            // What is around it may have moved it in ways that nobody follows.
            Finding::Beyond(..) if !case.around.is_empty() => return Some((Ruling::Resync(Gap::Around), None)),
            Finding::Beyond(..) if hearing.is_taken_over() => return Some((Ruling::Resync(Gap::Handover), None)),
            Finding::Beyond(evidence, back) => (evidence, back),
        };
        if evidence.rule.is_measured() {
            hearing.docket.measured(evidence);
        }
        let (response, offence) = (policy.response(evidence.rule), Offence { evidence, path: check.path(case) });
        if response != Response::Note {
            return Some((Ruling::Guilty(Box::new(offence), response), back));
        }
        hearing.docket.note(offence, rate);
    }
    None
}

/// Adds to a state's velocity.
fn add(state: &mut State, push: Vec3, schema: &Schema) {
    if let Some(lane) = schema.velocity_lane() {
        state.set_vec3(lane, state.vec3(lane) + push);
    }
}

/// The same, standing, there or elsewhere.
fn put(state: &State, schema: &Schema, back: Option<Vec3>) -> State {
    let mut to = standing(state, schema);
    back.into_iter().for_each(|at| to.set_vec3(0, at));
    to
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
fn furthest(case: &ClaimCase<'_>, evidence: &Evidence) -> State {
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
