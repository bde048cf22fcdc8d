//! An owner's word, tick by tick, as its turn comes: what waits, what time pays for it, what is believed where something was lost, and
//! a pull back that waits for its answer. Whoever judges takes it from here.

use super::bank::{Bank, Charge};
use super::docket::{Docket, Offence};
use super::rules::Rules;
use super::trust::Trust;
use crate::data::State;
use crate::policy::Response;
use crate::server::claims::{Claims, Heard, Pending, Said, Word};
use crate::tick::{Rate, Tick};
use crate::verdict::{Evidence, Rule};

/// One owner's, of one entity.
#[derive(Clone, Debug)]
pub(super) struct Hearing<W> {
    pub(super) claims: Claims<W>,
    bank: Bank,
    pub(super) trust: Trust,
    pub(super) docket: Docket,
    /// A pull back that nothing has answered yet.
    pull: Option<State>,
}

/// A tick's word whose turn has come.
#[derive(Clone, Copy, Debug)]
pub(super) struct Next<W> {
    /// The tick from which it goes on.
    pub(super) from: Tick,
    pub(super) tick: Tick,
    pub(super) pending: Pending<W>,
}

/// What time has to say of it.
#[derive(Clone, Copy, Debug)]
pub(super) enum Due<W> {
    /// It is paid for, and taken out of the queue.
    Paid(Next<W>),
    /// No time could ever pay for it.
    TooLong(Next<W>),
    /// More was claimed than time has passed.
    Overdrawn(Next<W>, Offence, Response),
}

impl<W: Word> Hearing<W> {
    pub(super) fn new(rate: Rate) -> Self {
        Self {
            claims: Claims::default(),
            bank: Bank::new(rate),
            trust: Trust::new(rate),
            docket: Docket::default(),
            pull: None,
        }
    }

    /// A server tick has passed.
    pub(super) fn gain(&mut self) {
        self.bank.gain();
        self.trust.gain();
    }

    /// The server has passed over so many ticks.
    pub(super) fn sleep(&mut self, ticks: u64) {
        self.bank.sleep(ticks);
    }

    /// Its owner has caught up with the server.
    pub(super) const fn wake(&mut self) {
        self.bank.wake();
    }

    /// Epoch and state of a pull back to be sent again.
    pub(super) fn unanswered_pull(&self) -> Option<(u8, State)> {
        self.pull.map(|state| (self.claims.epoch, state))
    }

    /// Takes a message in. One of this epoch answers the pull back that began it.
    pub(super) fn take_in(&mut self, said: &Said, expected: Tick, word: impl Fn(usize) -> W) -> Heard {
        if said.epoch == self.claims.epoch {
            self.pull = None;
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
                    return Some(Due::Overdrawn(next, offence, response));
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
    pub(super) fn put(&mut self, to: State) {
        self.claims.begin_epoch();
        self.pull = Some(to);
        self.bank.forgive();
    }
}
