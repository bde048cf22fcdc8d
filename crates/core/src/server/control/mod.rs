//! How an owner's word moves its entity: one file for each side that [`Authority`] can take, dispatched here and nowhere
//! else.

mod accounting;
mod believing;
mod judging;
mod moved;
mod ruling;
mod sentence;
mod stepping;
mod turn;

use accounting::Accounting;
use believing::Believing;
use judging::Judging;
use stepping::Stepping;

pub(super) use moved::Moved;
pub(super) use ruling::tell_ignored;
pub(super) use sentence::Sentence;
pub(super) use stepping::stepped;
pub(super) use turn::{Arrival, Includes, Margins, Turn};

use super::claims::Heard;
use crate::arrangement::Authority;
use crate::data::State;
use crate::event::{InputFate, Sink};
use crate::ids::{EntityId, PeerId};
use crate::policy::Policy;
use crate::tick::{Rate, Tick};
use crate::wire::{Account, Claim, Inputs, PullReason};
use crate::world::Entity;

/// How one owner's word moves one entity.
#[derive(Clone, Debug)]
pub(super) enum Control {
    Stepping(Stepping),
    Believing(Believing),
    Judging(Box<Judging>),
    Accounting(Box<Accounting>),
}

impl Control {
    pub(super) fn new(authority: Authority, rate: Rate, state: State, policy: &Policy) -> Self {
        match authority {
            Authority::Step => Self::Stepping(Stepping::default()),
            Authority::Believe => Self::Believing(Believing::new(state)),
            Authority::Judge => Self::Judging(Box::new(Judging::new(rate, state, policy))),
            Authority::Restep => Self::Accounting(Box::new(Accounting::new(rate, state))),
        }
    }

    /// Which side it takes.
    pub(super) const fn authority(&self) -> Authority {
        match self {
            Self::Stepping(_) => Authority::Step,
            Self::Believing(_) => Authority::Believe,
            Self::Judging(_) => Authority::Judge,
            Self::Accounting(_) => Authority::Restep,
        }
    }

    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        match self {
            Self::Stepping(stepping) => stepping.bytes(),
            Self::Believing(_) => size_of::<Believing>(),
            Self::Judging(_) => size_of::<Judging>(),
            Self::Accounting(_) => size_of::<Accounting>(),
        }
    }

    /// Takes the inputs of a message; an owner whose claims are wanted has none to give.
    pub(super) fn inputs<S: Sink>(
        &mut self,
        arrival: &Arrival<'_>,
        kind: u8,
        newest: Tick,
        inputs: &Inputs,
        margins: &mut Margins,
        sink: &mut S,
    ) {
        if let Self::Stepping(stepping) = self {
            stepping.inputs(arrival, kind, newest, inputs, margins, sink);
        }
    }

    /// Takes a claim, to be looked at when its tick comes; an owner whose inputs are wanted has none to make.
    pub(super) fn claim<S: Sink>(
        &mut self,
        arrival: &Arrival<'_>,
        (newest, since): (Tick, Tick),
        claim: &Claim,
        margins: &mut Margins,
        sink: &mut S,
    ) {
        let heard = match self {
            Self::Stepping(_) | Self::Accounting(_) => return,
            Self::Believing(believing) => believing.take_in(newest, since, claim, arrival.expected),
            Self::Judging(judging) => judging.take_in(newest, since, claim, arrival.expected),
        };
        note(&heard, (claim.entity, newest), arrival, margins, sink);
    }

    /// Takes an account, to be stepped after when its tick comes; of nobody else is one wanted.
    pub(super) fn account<S: Sink>(
        &mut self,
        (arrival, kind): (&Arrival<'_>, u8),
        ticks: (Tick, Tick),
        account: &Account,
        margins: &mut Margins,
        sink: &mut S,
    ) {
        if let Self::Accounting(accounting) = self {
            let heard = accounting.take_in(arrival, kind, ticks, account, sink);
            note(&heard, (account.entity, ticks.0), arrival, margins, sink);
        }
    }

    /// Makes a tick of the entity.
    pub(super) fn advance<S: Sink>(
        &mut self,
        peer: PeerId,
        turn: &Turn<'_>,
        entity: &mut Entity,
        sink: &mut S,
    ) -> Moved {
        match self {
            Self::Stepping(stepping) => stepping.advance(peer, turn, entity, sink),
            Self::Believing(believing) => believing.advance(peer, turn, entity, sink),
            Self::Judging(judging) => judging.advance(peer, turn, entity, sink),
            Self::Accounting(accounting) => accounting.advance(peer, turn, entity, sink),
        }
    }

    /// Lets inputs for ticks up to this one take effect.
    pub(super) fn activate_until(&mut self, tick: Tick) {
        if let Self::Stepping(stepping) = self {
            stepping.activate_until(tick);
        }
    }

    /// When its owner last said something new that counts, in datagrams heard by the server.
    pub(super) const fn spoke(&self) -> u64 {
        match self {
            Self::Stepping(stepping) => stepping.spoke(),
            Self::Believing(_) | Self::Judging(_) | Self::Accounting(_) => 0,
        }
    }

    /// A tick is made by somebody else's word.
    pub(super) fn stand_by(&mut self, turn: &Turn<'_>) {
        if let Self::Stepping(stepping) = self {
            stepping.stand_by(turn);
        }
    }

    /// What the state after `tick` includes.
    pub(super) fn includes(&self, tick: Tick) -> Includes {
        match self {
            Self::Stepping(stepping) => stepping.includes(tick),
            Self::Believing(believing) => believing.includes(),
            Self::Judging(judging) => judging.includes(),
            Self::Accounting(accounting) => accounting.includes(),
        }
    }

    /// What it moves was there before: its owner may not have heard yet how it stands.
    pub(super) fn take_over(&mut self, tick: Tick, rate: Rate) {
        match self {
            Self::Judging(judging) => judging.take_over(tick, rate),
            Self::Accounting(accounting) => accounting.take_over(tick, rate),
            Self::Stepping(_) | Self::Believing(_) => {}
        }
    }

    /// The server has passed over this number of ticks.
    pub(super) fn sleep(&mut self, ticks: u64) {
        match self {
            Self::Judging(judging) => judging.sleep(ticks),
            Self::Accounting(accounting) => accounting.sleep(ticks),
            Self::Stepping(stepping) => stepping.sleep(ticks),
            Self::Believing(_) => {}
        }
    }

    /// Epoch, reason and state of what its owner is to be told again; of a push that is in the velocity's lane.
    pub(super) fn unanswered(&self, lane: Option<usize>) -> Option<(u8, PullReason, State)> {
        match self {
            Self::Judging(judging) => judging.unanswered(lane),
            Self::Accounting(accounting) => accounting.unanswered(lane),
            _ => None,
        }
    }
}

/// Notes how early what was heard is, and tells of it.
fn note<S: Sink>(
    heard: &Heard,
    (entity, newest): (EntityId, Tick),
    arrival: &Arrival<'_>,
    margins: &mut Margins,
    sink: &mut S,
) {
    if heard.fresh.is_empty() && heard.outdated.is_empty() && newest > arrival.expected {
        margins.note_of(arrival, newest);
    }
    for &tick in &heard.overtaken {
        let margin = arrival.margin(tick) as i16;
        arrival.tell(entity, tick, InputFate::Arrived(margin), sink);
    }
    for &tick in &heard.outdated {
        // How early its owner is it says all the same.
        if !arrival.is_dropped(tick) {
            margins.note_of(arrival, tick);
        }
        arrival.tell(entity, tick, InputFate::Outdated, sink);
    }
    for &tick in &heard.fresh {
        margins.arrived(arrival, entity, tick, sink);
    }
}
