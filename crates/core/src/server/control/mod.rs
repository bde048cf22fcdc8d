//! How an owner's word moves its entity: one file for each side that [`Authority`] can take, dispatched here and nowhere
//! else.

mod believing;
mod judging;
mod stepping;

use believing::Believing;
use judging::Judging;
use stepping::Stepping;

pub(super) use stepping::stepped;

use crate::arrangement::Authority;
use crate::data::State;
use crate::event::{Fact, InputFact, InputFate, Sink, tell};
use crate::ground::Contacts;
use crate::ids::{EntityId, PeerId};
use crate::motion::{Motion, Scene};
use crate::session::Layouts;
use crate::tick::{HostNanos, Rate, Tick};
use crate::tick_loop::TickLoop;
use crate::wire::{Claim, Inputs};
use crate::world::Entity;

/// The circumstances of an arrival.
pub(super) struct Arrival<'a> {
    pub(super) now: HostNanos,
    /// The tick due now.
    pub(super) expected: Tick,
    pub(super) ticks: &'a TickLoop,
    /// Datagrams heard by the server so far.
    pub(super) heard: u64,
    pub(super) peer: PeerId,
    /// Of any kind at any tick around now.
    pub(super) layouts: Layouts<'a>,
}

impl Arrival<'_> {
    /// Whether the server will pass over a tick: it stood still when its time came.
    fn is_dropped(&self, tick: Tick) -> bool {
        tick > self.ticks.newest() && tick < self.ticks.first_due(self.now)
    }

    /// How early an input for `tick` is, in quarter ticks; below 0 it is too late.
    fn margin(&self, tick: Tick) -> i32 {
        let newest = self.ticks.newest();
        if tick <= newest {
            return (tick.since(newest).max(-1000) as i32 - 1) * 4;
        }
        let quarter = self.ticks.rate().nanos() / 4;
        // In time is in time, also in the frame that runs its tick a little after it was due.
        (self.ticks.due(tick).since(self.now) / quarter).clamp(0, 4000) as i32
    }
}

/// The least margin since the last report, in quarter ticks.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Margins(Option<i32>);

impl Margins {
    fn note(&mut self, margin: i32) {
        self.0 = Some(self.0.map_or(margin, |m| m.min(margin)));
    }

    /// An input or claim of a tick arrived for the first time.
    fn arrived<S: Sink>(&mut self, arrival: &Arrival<'_>, entity: EntityId, tick: Tick, sink: &mut S) {
        let fate = if arrival.is_dropped(tick) {
            // What the server slept through says nothing about how early its owner is.
            InputFate::Dropped
        } else {
            let margin = arrival.margin(tick);
            self.note(margin);
            InputFate::Arrived(margin as i16)
        };
        tell(sink, Fact::Input(InputFact { peer: arrival.peer, entity, tick, fate }));
    }

    /// What to report, as far as eight bits count; then it begins anew.
    pub(super) fn take(&mut self) -> Option<i8> {
        self.0.take().map(|m| m.clamp(-128, 127) as i8)
    }
}

/// A tick about to be made of an entity.
pub(super) struct Turn<'a> {
    pub(super) scene: Scene<'a>,
    pub(super) motion: &'a dyn Motion,
    pub(super) rate: Rate,
}

/// What came of it.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Made {
    pub(super) contacts: Contacts,
    pub(super) teleported: bool,
}

/// What of its owner's a state includes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Includes {
    /// The newest of its ticks; `None` before any could be missing.
    pub(super) newest: Option<Tick>,
    /// For how many of the last ticks the input was made up.
    pub(super) made_up: u8,
}

/// How one owner's word moves one entity.
#[derive(Clone, Debug)]
pub(super) enum Control {
    Stepping(Stepping),
    Believing(Believing),
    Judging(Box<Judging>),
}

impl Control {
    pub(super) fn new(authority: Authority, rate: Rate, state: State) -> Self {
        match authority {
            Authority::Step => Self::Stepping(Stepping::default()),
            Authority::Believe => Self::Believing(Believing::new(state)),
            Authority::Judge => Self::Judging(Box::new(Judging::new(rate, state))),
        }
    }

    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        match self {
            Self::Stepping(stepping) => stepping.bytes(),
            Self::Believing(_) => size_of::<Believing>(),
            Self::Judging(_) => size_of::<Judging>(),
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
            Self::Stepping(_) => return,
            Self::Believing(believing) => believing.take_in(newest, since, claim, arrival.expected),
            Self::Judging(judging) => judging.take_in(newest, since, claim, arrival.expected),
        };
        if heard.is_empty() && newest > arrival.expected {
            margins.note(arrival.margin(newest));
        }
        for tick in heard {
            margins.arrived(arrival, claim.entity, tick, sink);
        }
    }

    /// Makes a tick of the entity.
    pub(super) fn advance<S: Sink>(
        &mut self,
        peer: PeerId,
        turn: &Turn<'_>,
        entity: &mut Entity,
        sink: &mut S,
    ) -> Made {
        match self {
            Self::Stepping(stepping) => stepping.advance(peer, turn, entity, sink),
            Self::Believing(believing) => believing.advance(peer, turn, entity, sink),
            Self::Judging(judging) => judging.advance(peer, turn, entity, sink),
        }
    }

    /// When its owner last said something new, in datagrams heard by the server.
    pub(super) const fn spoke(&self) -> u64 {
        match self {
            Self::Stepping(stepping) => stepping.spoke(),
            Self::Believing(_) | Self::Judging(_) => 0,
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
        }
    }

    /// The server has passed over so many ticks.
    pub(super) fn sleep(&mut self, ticks: u64) {
        if let Self::Judging(judging) = self {
            judging.sleep(ticks);
        }
    }

    /// Epoch and state of a pull back to be sent again.
    pub(super) fn unanswered_pull(&self) -> Option<(u8, State)> {
        match self {
            Self::Judging(judging) => judging.unanswered_pull(),
            _ => None,
        }
    }
}

/// Tells whether what a tick was made with came from its owner, once its owner has begun.
fn tell_used<S: Sink>(begun: bool, peer: PeerId, entity: EntityId, tick: Tick, fate: InputFate, sink: &mut S) {
    if begun {
        tell(sink, Fact::Input(InputFact { peer, entity, tick, fate }));
    }
}
