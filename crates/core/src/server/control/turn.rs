//! What controls need of the server, and what they tell.

use std::cell::Cell;

use super::ruling::tell_ignored;
use super::sentence::Sentence;
use crate::data::Input;
use crate::event::{InputFact, InputFate, Provenance, Sink, tell_input};
use crate::ids::{EntityId, PeerId};
use crate::motion::{Motion, Scene};
use crate::policy::Policy;
use crate::server::missing::Gap;
use crate::session::{Layouts, Timeline};
use crate::tick::{HostNanos, Rate, Tick};
use crate::tick_loop::TickLoop;
use crate::verdict::Evidence;

/// The circumstances of an arrival.
pub(in crate::server) struct Arrival<'a> {
    pub(in crate::server) now: HostNanos,
    /// The tick due now.
    pub(in crate::server) expected: Tick,
    pub(in crate::server) ticks: &'a TickLoop,
    /// Datagrams heard by the server so far.
    pub(in crate::server) heard: u64,
    pub(in crate::server) peer: PeerId,
    /// What the guard answers.
    pub(in crate::server) policy: &'a Policy,
    /// Whether it came straight from its way: how early it is then says how early its owner is.
    pub(in crate::server) is_direct: Cell<bool>,
    /// What is to become of the player for what it said.
    pub(in crate::server) sentence: Cell<Option<Sentence>>,
    /// Of any kind at any tick around now.
    pub(in crate::server) layouts: Layouts<'a>,
}

impl Arrival<'_> {
    /// Whether the server will pass over a tick: it stood still when its time came.
    pub(super) fn is_dropped(&self, tick: Tick) -> bool {
        tick > self.ticks.newest() && tick < self.ticks.first_due(self.now)
    }

    /// Tells of an input that breaks a rule, which is not used.
    pub(super) fn accuse<S: Sink>(&self, entity: EntityId, evidence: Evidence, sink: &mut S) {
        let whose = (self.peer, entity, self.ticks.newest());
        if let Some(sentence) = tell_ignored(whose, evidence, self.policy, sink) {
            self.sentence.set(Some(sentence));
        }
    }

    /// Tells what becomes of an input or claim.
    pub(super) fn tell<S: Sink>(&self, entity: EntityId, tick: Tick, fate: InputFate, sink: &mut S) {
        tell_input(sink, InputFact { peer: self.peer, entity, tick, fate }, None);
    }

    /// How early an input for `tick` is, in quarter ticks; below 0 it is too late.
    pub(super) fn margin(&self, tick: Tick) -> i32 {
        self.margin_after(tick, self.ticks.newest())
    }

    /// The same where ticks up to `done` were made of the entity.
    fn margin_after(&self, tick: Tick, done: Tick) -> i32 {
        if tick <= done {
            return (tick.since(done).max(-1000) as i32 - 1) * 4;
        }
        let quarter = self.ticks.rate().nanos() / 4;
        // In time is in time, also in the frame that runs its tick a little after it was due.
        (self.ticks.due(tick).since(self.now) / quarter).clamp(0, 4000) as i32
    }
}

/// The least margin since the last report, in quarter ticks.
#[derive(Clone, Copy, Debug, Default)]
pub(in crate::server) struct Margins(Option<i32>);

impl Margins {
    pub(super) fn note(&mut self, margin: i32) {
        self.0 = Some(self.0.map_or(margin, |m| m.min(margin)));
    }

    /// How early something for a tick is, where that says how early its owner is.
    pub(in crate::server) fn note_of(&mut self, arrival: &Arrival<'_>, tick: Tick) {
        if arrival.is_direct.get() {
            self.note(arrival.margin(tick));
        }
    }

    /// An input or claim of a tick arrived for the first time.
    pub(super) fn arrived<S: Sink>(&mut self, arrival: &Arrival<'_>, entity: EntityId, tick: Tick, sink: &mut S) {
        self.arrived_after(arrival, (entity, tick), arrival.ticks.newest(), sink);
    }

    /// The same where ticks up to `done` were made of the entity.
    pub(super) fn arrived_after<S: Sink>(
        &mut self,
        arrival: &Arrival<'_>,
        (entity, tick): (EntityId, Tick),
        done: Tick,
        sink: &mut S,
    ) {
        let fate = if arrival.is_dropped(tick) {
            // What the server slept through says nothing about how early its owner is.
            InputFate::Dropped
        } else {
            let margin = arrival.margin_after(tick, done);
            if arrival.is_direct.get() {
                self.note(margin);
            }
            InputFate::Arrived(margin as i16)
        };
        arrival.tell(entity, tick, fate, sink);
    }

    /// What to report, as far as eight bits count; then it begins anew.
    pub(in crate::server) fn take(&mut self) -> Option<i8> {
        self.0.take().map(|m| m.clamp(-128, 127) as i8)
    }
}

/// A tick about to be made of an entity.
#[derive(Clone, Copy)]
pub(in crate::server) struct Turn<'a> {
    pub(in crate::server) scene: Scene<'a>,
    pub(in crate::server) motion: &'a dyn Motion,
    /// What held at ticks before it.
    pub(in crate::server) timeline: &'a Timeline,
    /// What the guard looks at and answers.
    pub(in crate::server) policy: &'a Policy,
    pub(in crate::server) rate: Rate,
    /// What is done where an input is missing.
    pub(in crate::server) gap: Gap,
    /// Whether somebody is told what others are made with.
    pub(in crate::server) tells_inputs: bool,
}

impl Turn<'_> {
    /// The same for another tick of an entity of this kind: with what held then.
    pub(super) fn at(&self, tick: Tick, kind: u8) -> Self {
        if tick == self.scene.tick {
            return *self;
        }
        let known = self.timeline.at(tick);
        Self { scene: known.scene(tick, self.rate.dt(), kind), motion: known.kinds.motion(kind), ..*self }
    }
}

/// What of its owner's a state includes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::server) struct Includes {
    /// The newest of its ticks; `None` before any could be missing.
    pub(in crate::server) newest: Option<Tick>,
    /// For how many of the last ticks the input was made up.
    pub(in crate::server) made_up: u8,
}

/// Tells whether what a tick was made with came from its owner, once its owner has begun; `value` is what the step read.
pub(super) fn tell_used<S: Sink>(
    begun: bool,
    (peer, entity, tick): (PeerId, EntityId, Tick),
    provenance: Provenance,
    value: Option<&Input>,
    sink: &mut S,
) {
    if begun {
        tell_input(sink, InputFact { peer, entity, tick, fate: InputFate::Used(provenance) }, value);
    }
}
