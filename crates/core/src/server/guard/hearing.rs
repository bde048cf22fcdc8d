//! An owner's word, tick by tick, as its turn comes: what waits, what time pays for it, what is believed where something was lost, and
//! a pull back that waits for its answer. Whoever judges takes it from here.

use std::collections::VecDeque;

use super::bank::{Bank, Charge};
use super::docket::{Docket, Offence};
use super::rules::Rules;
use super::trust::Trust;
use crate::data::State;
use crate::policy::Response;
use crate::server::claims::{Claims, Heard, Pending, Said, Word};
use crate::tick::{Rate, Tick};
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Rule};
use crate::wire::PullReason;

/// One owner's, of one entity.
#[derive(Clone, Debug)]
pub(super) struct Hearing<W> {
    pub(super) claims: Claims<W>,
    bank: Bank,
    pub(super) trust: Trust,
    pub(super) docket: Docket,
    /// A pull back that nothing has answered yet.
    pull: Option<(PullReason, State)>,
    /// Pushes of which the owner is to be told one after the other, in metres a second.
    pushes: VecDeque<Vec3>,
    /// The one of which it is told now, and for how many of the server's ticks.
    told: Option<(Vec3, u32)>,
    /// Those that it answered, each with the first tick of the epoch that it thereby began, until they have had their effect.
    answered: VecDeque<(Tick, Vec3)>,
    /// The first tick of the epoch, if it began with a push.
    goes_on: Option<Tick>,
    /// The tick in which it became its owner's own, where it was there before, and a second after that.
    taken_over: Option<(Tick, Tick)>,
    /// Whether all of a state of its owner's was accepted since, or its owner put somewhere: it knows how it stands.
    is_known: bool,
}

/// Pushes that wait at most.
const PUSHES: usize = 16;

/// A tick's word whose turn has come.
#[derive(Clone, Copy, Debug)]
pub(super) struct Next<W> {
    /// The tick from which it goes on.
    pub(super) from: Tick,
    pub(super) tick: Tick,
    pub(super) pending: Pending<W>,
}

/// What time has to say of it.
#[derive(Clone, Debug)]
pub(super) enum Due<W> {
    /// It is paid for, and taken out of the queue.
    Paid(Next<W>),
    /// No time could ever pay for it.
    TooLong(Next<W>),
    /// More was claimed than time has passed.
    Overdrawn(Next<W>, Box<Offence>, Response),
}

impl<W: Word> Hearing<W> {
    pub(super) fn new(rate: Rate) -> Self {
        Self {
            claims: Claims::default(),
            bank: Bank::new(rate),
            trust: Trust::new(rate),
            docket: Docket::default(),
            pull: None,
            pushes: VecDeque::new(),
            told: None,
            answered: VecDeque::new(),
            goes_on: None,
            taken_over: None,
            is_known: false,
        }
    }

    /// It was there before this tick, and its owner may not have heard yet how it stands.
    pub(super) fn take_over(&mut self, tick: Tick, rate: Rate) {
        self.taken_over = Some((tick, tick.offset(i64::from(rate.hz()))));
        self.is_known = false;
    }

    /// All of a state of its owner's was accepted.
    pub(super) const fn accept_whole(&mut self) {
        self.is_known = true;
    }

    /// Whether its owner may not have heard how it stands, and nothing but places and inputs were accepted of it yet.
    pub(super) const fn is_taken_over(&self) -> bool {
        self.taken_over.is_some() && !self.is_known
    }

    /// Whether that was said by somebody who owned it before, and has not heard yet that this was over and has begun again: that goes on
    /// from where it was then.
    fn is_of_before(&self, said: &Said, expected: Tick) -> bool {
        self.claims.newest.is_none()
            && self.taken_over.is_some_and(|(taken, until)| said.since < taken && expected <= until)
    }

    /// The owner is to be pushed, from the tick on in which it hears of it.
    pub(super) fn push(&mut self, velocity: Vec3) {
        // Of more than that it is told together.
        let is_full = self.pushes.len() >= PUSHES;
        match self.pushes.back_mut().filter(|_| is_full) {
            Some(last) => *last += velocity,
            None => self.pushes.push_back(velocity),
        }
    }

    /// A push that its owner has not answered for a second: whoever never does would never go.
    pub(super) fn overdue(&mut self, rate: Rate) -> Option<Vec3> {
        // Who has not begun to say where it is goes on from nowhere.
        if self.pull.is_some() || self.claims.last.is_none() {
            return None;
        }
        if self.told.is_none() {
            self.told = self.pushes.pop_front().map(|push| (push, 0));
        }
        let (push, ticks) = self.told.as_mut()?;
        *ticks += 1;
        if *ticks <= rate.hz() {
            return None;
        }
        let push = *push;
        self.told = None;
        // Its owner may have begun that epoch all the same.
        self.claims.epoch = self.claims.epoch.wrapping_add(1);
        Some(push)
    }

    /// What is added to its owner's velocity before a tick: a push that it answered, once.
    pub(super) fn pushed(&mut self, tick: Tick) -> Option<Vec3> {
        let mut all: Option<Vec3> = None;
        while let Some(&(_, push)) = self.answered.front().filter(|(since, _)| *since < tick) {
            self.answered.pop_front();
            all = Some(all.unwrap_or(Vec3::ZERO) + push);
        }
        all
    }

    /// A server tick has passed.
    pub(super) fn gain(&mut self) {
        self.bank.gain();
        self.trust.gain();
    }

    /// The server has passed over this number of ticks.
    pub(super) fn sleep(&mut self, ticks: u64) {
        self.bank.sleep(ticks);
    }

    /// Its owner has caught up with the server.
    pub(super) const fn wake(&mut self) {
        self.bank.wake();
    }

    /// Epoch, reason and state of what its owner is to be told again; of a push with that in its velocity's lane.
    pub(super) fn unanswered(&self, lane: Option<usize>) -> Option<(u8, PullReason, State)> {
        if let Some((reason, state)) = self.pull {
            return Some((self.claims.epoch, reason, state));
        }
        let (push, _) = self.told?;
        let mut state = State::default();
        state.set_vec3(lane?, push);
        Some((self.claims.epoch.wrapping_add(1), PullReason::Push, state))
    }

    /// Takes a message in. One of this epoch answers the pull back that began it, one of the next the push of which its owner was told.
    pub(super) fn take_in(&mut self, said: &Said, expected: Tick, word: impl Fn(usize) -> W) -> Heard {
        if self.is_of_before(said, expected) {
            return self.claims.leave_aside(said);
        }
        if said.epoch == self.claims.epoch {
            self.pull = None;
        } else if said.epoch == self.claims.epoch.wrapping_add(1)
            && let Some((push, _)) = self.told.take()
        {
            self.claims.go_on(said.since);
            self.answered.push_back((said.since, push));
            self.goes_on = Some(said.since);
        } else if let Some(since) = self.goes_on
            && said.epoch.wrapping_add(1) == self.claims.epoch
            && said.newest <= since
            && self.pull.is_none()
        {
            // Said before it knew of the push, of ticks that count all the same.
            return self.claims.take_in(&Said { epoch: self.claims.epoch, ..*said }, expected, word);
        }
        self.claims.take_in(said, expected, word)
    }

    /// The next word whose turn has come at `now`, if it does not have to wait.
    pub(super) fn next(&mut self, rules: &Rules<'_>, now: Tick) -> Option<Due<W>> {
        let (from, tick, pending) = self.claims.next_due(now)?;
        let advance = tick.since(from).unsigned_abs();
        let next = Next { from, tick, pending };
        match self.bank.charge(advance) {
            Charge::Paid => {}
            Charge::Waits => return None,
            Charge::TooLong => return Some(Due::TooLong(next)),
            Charge::Overdrawn => {
                let offence = Offence::from(Evidence::plain(Rule::Time, (from, tick), advance as f32, 0.0));
                let response = rules.policy.response(Rule::Time);
                if response != Response::Note {
                    return Some(Due::Overdrawn(next, Box::new(offence), response));
                }
                // What was claimed holds.
                self.docket.note(offence, rules.rate);
                self.bank.forgive();
            }
        }
        self.claims.take(tick);
        Some(Due::Paid(next))
    }

    /// The owner is put somewhere: it goes on from there once it has understood.
    pub(super) fn put(&mut self, reason: PullReason, to: State) {
        if let Some((push, _)) = self.told.take() {
            // It may have begun that epoch, and is told anew later on.
            self.claims.epoch = self.claims.epoch.wrapping_add(1);
            self.pushes.push_front(push);
        }
        self.answered.clear();
        self.goes_on = None;
        self.claims.begin_epoch();
        self.is_known = true;
        self.pull = Some((reason, to));
        self.bank.forgive();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::server::claims::ClaimedPlace;
    use crate::vec3::vec3;

    #[test]
    fn no_push_is_lost_of_however_many_wait() {
        let rate = Rate::new(60).expect("60 Hz");
        let mut hearing: Hearing<ClaimedPlace> = Hearing::new(rate);
        (0..50).for_each(|_| hearing.push(vec3(1.0, 0.0, 0.0)));
        assert_eq!(hearing.pushes.len(), PUSHES);
        assert_eq!(hearing.pushes.iter().map(|push| push.x).sum::<f32>(), 50.0);
    }
}
