//! An account is held against what the rule makes of it.
//!
//! The authority steps after the owner, tick by tick, with what it says was pressed: on one ground and by one rule that comes to
//! the same bits, so whatever the owner says of its state beyond the tolerances of its fields is not what was pressed. Where the
//! account has a hole that nothing repeated, nobody can step through it: the owner may have been passed over (then it stood still,
//! and what follows agrees), or else it is taken at its word as far as reach, sweep and ranges allow, for a twentieth of the ticks
//! at most. What is beyond that is a resync, not a verdict: holes are the link's. Where a verdict is only to be noted, the owner is
//! believed.

use super::around::Around;
use super::case::{Check, ClaimCase, Finding};
use super::docket::Offence;
use super::edge::Edge;
use super::habits::Habits;
use super::hearing::{Due, Hearing, Next};
use super::reach::Reach;
use super::rules::Rules;
use super::ruling::Ruling;
use super::sweep::Sweep;
use crate::data::{Input, State};
use crate::event::{Gap, Provenance};
use crate::field::Shape;
use crate::float::max;
use crate::ground::Contacts;
use crate::motion::{Limits, checked_step};
use crate::policy::Response;
use crate::schema::Schema;
use crate::server::claims::{Heard, Said, Word};
use crate::tick::{Rate, Tick};
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Path, Rule};
use crate::wire::{Account, PullReason};

/// What an account says of a tick.
#[derive(Clone, Copy, Debug)]
struct Told {
    /// What the step read.
    read: Input,
    /// What came of it, where this tick was some message's newest.
    state: Option<State>,
}

impl Word for Told {
    fn add(&mut self, later: &Self) -> bool {
        let same = self.read == later.read;
        if same {
            self.state = self.state.or(later.state);
        }
        same
    }
}

/// What came of the account up to a tick.
#[derive(Clone, Debug)]
pub(in crate::server) struct Audit {
    pub(in crate::server) ruling: Ruling,
    pub(in crate::server) provenance: Provenance,
    /// What the tick itself was made with, where the owner told.
    pub(in crate::server) input: Option<Input>,
    pub(in crate::server) contacts: Contacts,
    pub(in crate::server) teleported: bool,
}

/// One owner's accounts and what is held against them.
#[derive(Clone, Debug)]
pub(in crate::server) struct Auditor {
    hearing: Hearing<Told>,
    /// The authority: what the rule makes of what was told.
    good: State,
    /// The newest tick at which both agreed, in this epoch, and the state then.
    agreed: Option<Tick>,
    base: State,
    /// Ticks since then of which nothing was told.
    holes: u64,
    habits: Habits,
}

impl Auditor {
    pub(in crate::server) fn new(rate: Rate, state: State) -> Self {
        Self {
            hearing: Hearing::new(rate),
            good: state,
            agreed: None,
            base: state,
            holes: 0,
            habits: Habits::default(),
        }
    }

    /// It was there before: its owner may not have heard yet how it stands.
    pub(in crate::server) fn take_over(&mut self, tick: Tick, rate: Rate) {
        self.hearing.take_over(tick, rate);
    }

    /// The newest tick whose account counts.
    pub(in crate::server) const fn newest(&self) -> Option<Tick> {
        self.hearing.claims.newest
    }

    /// Whether an account of `tick` can be missing.
    pub(in crate::server) fn has_begun(&self, tick: Tick) -> bool {
        self.hearing.claims.has_begun(tick)
    }

    pub(in crate::server) const fn epoch(&self) -> u8 {
        self.hearing.claims.epoch
    }

    /// The server has passed over this number of ticks.
    pub(in crate::server) fn sleep(&mut self, ticks: u64) {
        self.hearing.sleep(ticks);
    }

    /// Ticks whose account waited when a pull back made it worthless; each is handed out once.
    pub(in crate::server) fn let_go(&mut self) -> Vec<Tick> {
        self.hearing.claims.let_go()
    }

    /// What its owner is to be told again; see [`Hearing::unanswered`].
    pub(in crate::server) fn unanswered(&self, lane: Option<usize>) -> Option<(u8, PullReason, State)> {
        self.hearing.unanswered(lane)
    }

    /// The server puts its owner elsewhere, at rest.
    pub(in crate::server) fn teleport(&mut self, at: Vec3, schema: &Schema) {
        self.good.set_vec3(0, at);
        self.stand(schema);
        self.put(PullReason::Teleport);
    }

    /// The server pushes its owner.
    pub(in crate::server) fn push(&mut self, velocity: Vec3) {
        self.hearing.push(velocity);
    }

    /// Takes an account in, with what the steps of its ticks read, newest first. One of this epoch answers the pull back that
    /// began it.
    pub(in crate::server) fn take_in(
        &mut self,
        (newest, since): (Tick, Tick),
        (account, reads): (&Account, &[Input]),
        expected: Tick,
    ) -> Heard {
        let said = Said { newest, before: account.count - 1, since, epoch: account.epoch };
        let state = |back| (back == 0).then_some(account.state);
        self.hearing.take_in(&said, expected, |back| Told { read: reads[back], state: state(back) })
    }

    /// Steps after what was told up to `now`, and holds it against what came of it.
    pub(in crate::server) fn audit(&mut self, rules: &Rules<'_>, now: Tick) -> Audit {
        self.hearing.gain();
        let mut audit = Audit {
            ruling: Ruling::Lawful,
            provenance: Provenance::Repeated,
            input: None,
            contacts: Contacts::default(),
            teleported: false,
        };
        if let Some(push) = self.hearing.overdue(rules.rate) {
            super::add(&mut self.good, push, rules.schema(now));
            self.put(PullReason::Guard);
            return Audit { ruling: Ruling::Resync(Gap::Push), ..audit };
        }
        while let Some(due) = self.hearing.next(rules, now) {
            if let (Due::TooLong(_), None) = (&due, self.hearing.claims.last) {
                // Who has not gone on from where it was put does so now.
                self.put(PullReason::Guard);
                return Audit { ruling: Ruling::Resync(Gap::Silence), ..audit };
            }
            let (next, ruling) = match due {
                Due::Paid(next) => (next, self.take(rules, &next, &mut audit)),
                Due::TooLong(next) => (next, Ruling::Resync(Gap::Silence)),
                Due::Overdrawn(next, offence, response) => (next, Ruling::Guilty(offence, response)),
            };
            let Next { tick, pending, .. } = next;
            if !matches!(ruling, Ruling::Lawful) {
                self.put_back(rules.schema(tick));
                return Audit { ruling, ..audit };
            }
            self.hearing.claims.accepted(tick);
            if tick == now {
                audit.provenance = Provenance::Fresh;
                audit.input = Some(pending.word.read);
                self.hearing.wake();
            }
        }
        audit
    }

    /// Steps after a tick's word, and holds it against what came of that.
    fn take(&mut self, rules: &Rules<'_>, &Next { from, tick, pending }: &Next<Told>, audit: &mut Audit) -> Ruling {
        let word = pending.word;
        if let Some(push) = self.hearing.pushed(tick) {
            super::add(&mut self.good, push, rules.schema(tick));
            // From here on what it says is held against this; of what was lost before it, nobody knows.
            if self.holes == 0 {
                (self.agreed, self.base) = (Some(from), self.good);
            } else {
                super::add(&mut self.base, push, rules.schema(tick));
            }
        }
        self.agreed.get_or_insert(from);
        self.holes += tick.since(from).unsigned_abs().saturating_sub(1);
        self.habits.watch((rules.motion(tick), rules.policy), rules.rate, tick, &word.read);
        self.step(rules, tick, &word.read, audit);
        self.compare(rules, tick, word.state)
    }

    fn step(&mut self, rules: &Rules<'_>, tick: Tick, read: &Input, audit: &mut Audit) {
        // A rule that gives no number leaves everything as it is, on the owner's machine as well, which tells of it.
        if let Ok(step) = checked_step(rules.motion(tick), &rules.scene(tick), &self.good, read) {
            self.good = step.state;
            audit.contacts = step.contacts;
            audit.teleported |= step.teleported;
        }
    }

    /// Holds the exact state of a message's newest tick against the authority's.
    fn compare(&mut self, rules: &Rules<'_>, tick: Tick, told: Option<State>) -> Ruling {
        let Some(told) = told else { return Ruling::Lawful };
        let schema = rules.schema(tick);
        let since = self.agreed.unwrap_or(tick);
        if self.holes == 0 {
            let found = differs(schema, (since, tick), &self.good, &told);
            found.into_iter().for_each(|evidence| self.hearing.docket.measured(evidence));
            let found = found.map(|evidence| evidence.allowing(rules.policy.allowed[evidence.rule as usize]));
            if let Some(evidence) = found.into_iter().find(Evidence::is_exceeded) {
                if self.hearing.is_taken_over() {
                    return Ruling::Resync(Gap::Handover);
                }
                let offence = Offence { evidence, path: Path::through([self.base.vec3(0), told.vec3(0)]) };
                if rules.policy.response(evidence.rule) != Response::Note {
                    return Ruling::guilty(rules.policy, offence);
                }
                self.hearing.docket.note(offence, rules.rate);
                self.good = told;
            }
        } else if self.good != told {
            // Nearly the same is not the same: a vehicle that was a little elsewhere would be ever farther away. All of the stretch
            // is taken at its owner's word, not only the hole in it: what was told of the rest led nowhere that was known.
            if !self.hearing.trust.pay(tick.since(since).unsigned_abs()) {
                return Ruling::Resync(Gap::Lost);
            }
            match believable(rules, (since, tick), &self.base, &told) {
                Ruling::Lawful => {}
                // What is only to be noted is believed.
                Ruling::Guilty(offence, Response::Note) => self.hearing.docket.note(*offence, rules.rate),
                ruling => {
                    self.good = self.base;
                    return ruling;
                }
            }
            self.good = told;
        }
        self.hearing.accept_whole();
        self.agreed = Some(tick);
        self.base = self.good;
        self.holes = 0;
        Ruling::Lawful
    }

    /// Puts the owner where the authority has it, standing.
    fn put_back(&mut self, schema: &Schema) {
        self.stand(schema);
        self.put(PullReason::Guard);
    }

    fn stand(&mut self, schema: &Schema) {
        self.good = super::standing(&self.good, schema);
    }

    fn put(&mut self, reason: PullReason) {
        self.hearing.put(reason, self.good);
        self.agreed = None;
        self.base = self.good;
        self.holes = 0;
    }

    /// What was measured since it was last asked.
    pub(in crate::server) fn measures(&mut self) -> std::vec::Drain<'_, Evidence> {
        self.hearing.docket.measures()
    }

    /// What was noted since it was last asked.
    pub(in crate::server) fn notes(&mut self) -> std::vec::Drain<'_, Offence> {
        self.hearing.docket.notes()
    }

    /// What was seen of its owner's hands.
    pub(in crate::server) const fn habits(&mut self) -> &mut Habits {
        &mut self.habits
    }

    /// The authority's state.
    pub(in crate::server) const fn state(&self) -> &State {
        &self.good
    }
}

/// Whether somebody who was somewhere may say so of a later tick, when nobody knows what was pressed between.
fn believable(rules: &Rules<'_>, (from, tick): (Tick, Tick), base: &State, told: &State) -> Ruling {
    let (motion, scene) = (rules.motion(tick), rules.scene(tick));
    let schema = motion.schema();
    let second = i64::from(rules.rate.hz());
    let most = rules.most(from.offset(-second), tick);
    let was = schema.velocity_lane().map_or(Vec3::ZERO, |lane| base.vec3(lane));
    // As fast as it was it may have been for all of it.
    let limits = &Limits {
        level: max(most.level, was.level().length()),
        up: max(most.up, was.z),
        down: max(most.down, -was.z),
        ..most
    };
    let case = ClaimCase {
        scene: &scene,
        motion,
        limits,
        rate: rules.rate,
        from,
        tick,
        arrived: tick,
        start: base.vec3(0),
        end: told.vec3(0),
        before: base,
        ago: 0,
        allowed: &rules.policy.allowed,
        told: Some(told),
        carried: 0.0,
        around: Around::NOTHING,
        lately: &[],
    };
    let checks: [&mut dyn Check; 2] = [&mut Reach, &mut Edge];
    for check in checks {
        if let Finding::Beyond(evidence, _) = check.judge(&case) {
            if rules.is_changed(from.offset(-second), tick) {
                // What changed meanwhile may have moved it.
                return Ruling::Resync(Gap::Change);
            }
            let mut around = Around::default();
            around.begin(scene.ground, &motion.body(), case.start, schema.state[0].wire.step());
            if !around.is_empty() {
                // What it stands in may have pushed it out, and by how much in ticks that were lost nobody knows.
                return Ruling::Resync(Gap::Around);
            }
            return Ruling::guilty(rules.policy, Offence { evidence, path: check.path(&case) });
        }
    }
    // What a field cannot hold nobody has.
    let holds = schema.state.iter().all(|f| match f.shape {
        Shape::Flag | Shape::Counter => true,
        _ => (f.lane..f.lane + f.shape.lanes())
            .all(|lane| (told.real(lane) - f.wire.round(told.real(lane))).abs() <= f.wire.step()),
    });
    let is_clear = matches!(Sweep.judge(&case), Finding::Nothing);
    if is_clear && holds { Ruling::Lawful } else { Ruling::Resync(Gap::Lost) }
}

/// What differs: the place, and of all other fields the one that is off by the most of its tolerances.
fn differs(schema: &Schema, (from, to): (Tick, Tick), good: &State, told: &State) -> [Evidence; 2] {
    let place = good.vec3(0).distance(told.vec3(0));
    let worst = schema.state.iter().skip(1).map(|f| f.apart(good, told)).fold(0.0, max);
    [
        Evidence::plain(Rule::Step, (from, to), place, schema.state[0].agree.tolerance()),
        Evidence::plain(Rule::State, (from, to), worst, 1.0),
    ]
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::ground::Ground;
    use crate::ids::EntityId;
    use crate::motion::Motion;
    use crate::policy::Policy;
    use crate::session::{Ingredients, Kinds, Timeline};
    use crate::vec3::vec3;
    use crate::walker::Walker;
    use crate::wire::MAX_REPEATS;

    /// Somebody who presses nothing and says that it went east, `way` metres a tick, in messages of 16 ticks with a hole of one before
    /// each. How far the authority went along in half a minute, and how often it did not.
    fn with_holes(way: f32) -> (f32, u32) {
        let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema");
        let timeline = Timeline::new(Ingredients::new(Arc::new(Ground::flat(500.0)), &kinds));
        let rate = Rate::new(60).expect("60 Hz");
        let policy = Policy::default();
        let rules = Rules { timeline: &timeline, kind: 0, rate, policy: &policy };
        // Standing on the ground as the rule has it stand.
        let begin = Walker::new().spawn(vec3(0.0, 0.0, 0.0), 0.0);
        let start = (0..30)
            .fold(begin, |state, tick| Walker::new().step(&rules.scene(Tick(tick)), &state, &Input::default()).state);
        let mut auditor = Auditor::new(rate, start);
        let (mut since, mut resyncs, mut x) = (Tick(100), 0, 0.0);
        let stride = MAX_REPEATS as u64 + 1;
        let mut newest = Tick(100 + stride);
        for now in (101..1900).map(Tick) {
            if now == newest {
                x += way * stride as f32;
                let mut state = start;
                state.set_vec3(0, start.vec3(0) + vec3(x, 0.0, 0.0));
                let account = Account {
                    newest: now.wire(),
                    entity: EntityId::first(0),
                    back: 0,
                    epoch: auditor.epoch(),
                    since: since.wire(),
                    count: MAX_REPEATS,
                    inputs: [Input::default(); MAX_REPEATS + 1],
                    state,
                };
                auditor.take_in((now, since), (&account, &[Input::default(); MAX_REPEATS]), now);
                newest = newest.offset(stride as i64);
            }
            match auditor.audit(&rules, now).ruling {
                Ruling::Lawful => {}
                Ruling::Resync(_) => {
                    resyncs += 1;
                    (since, x) = (now, auditor.state().vec3(0).x);
                    newest = now.offset(stride as i64);
                }
                Ruling::Guilty(evidence, _) => panic!("{evidence:?}"),
            }
        }
        (auditor.state().vec3(0).x, resyncs)
    }

    #[test]
    fn a_hole_before_every_message_buys_a_twentieth_and_no_more() {
        // As fast as a sprint, of which reach says nothing.
        let (went, resyncs) = with_holes(4.2 * 1.6 / 60.0);
        assert!(resyncs > 50, "{resyncs}");
        assert!(went < 4.2 * 1.6 * (1.0 + 30.0 / 20.0) + 2.0, "{went} m of 200");
        // Whoever stands as it says is passed over, and nothing is paid.
        assert_eq!(with_holes(0.0), (0.0, 0));
    }
}
