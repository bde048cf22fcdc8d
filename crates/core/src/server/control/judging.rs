//! The authority takes over what an owner says of where it is, if the guard finds it lawful.

use super::moved::Moved;
use super::ruling::{tell_measures, tell_notes, tell_outdated, tell_ruling, tell_teleport};
use super::sentence::Sentence;
use super::turn::{Includes, Turn, tell_used};
use crate::data::State;
use crate::event::Sink;
use crate::ids::PeerId;
use crate::policy::Policy;
use crate::server::claims::Heard;
use crate::server::guard::{Guard, Rules};
use crate::tick::{Rate, Tick};
use crate::vec3::Vec3;
use crate::wire::{Claim, PullReason};
use crate::world::Entity;

/// One owner's claims of one entity, and the guard.
#[derive(Clone, Debug)]
pub(in crate::server) struct Judging {
    guard: Guard,
}

impl Judging {
    pub(super) fn new(rate: Rate, state: State, policy: &Policy) -> Self {
        Self { guard: Guard::new(rate, state, policy) }
    }

    pub(super) fn take_in(&mut self, newest: Tick, since: Tick, claim: &Claim, expected: Tick) -> Heard {
        self.guard.take_in(newest, since, claim, expected)
    }

    pub(super) fn advance<S: Sink>(
        &mut self,
        peer: PeerId,
        turn: &Turn<'_>,
        entity: &mut Entity,
        sink: &mut S,
    ) -> Moved {
        let (tick, before) = (turn.scene.tick, entity.state);
        let rules = Rules { timeline: turn.timeline, kind: entity.kind(), rate: turn.rate, policy: turn.policy };
        if let Some(at) = entity.put.take() {
            entity.push = Vec3::ZERO;
            entity.state = self.guard.teleport(at, turn.motion.schema());
            return tell_teleport((peer, entity.id(), tick), self.guard.claims().epoch, at, sink);
        }
        if entity.push != Vec3::ZERO {
            self.guard.push(std::mem::replace(&mut entity.push, Vec3::ZERO));
        }
        let (ruling, provenance) = self.guard.judge(&rules, tick, &mut entity.state);
        let id = entity.id();
        tell_used(self.guard.claims().has_begun(tick), (peer, id, tick), provenance, None, sink);
        let whose = (peer, id, tick);
        tell_measures(whose, self.guard.measures(), sink);
        let (hull, to) = (turn.motion.body(), entity.state.vec3(0));
        tell_notes(whose, self.guard.notes(), (hull, to), sink);
        tell_outdated(whose, self.guard.let_go(), sink);
        let moved = (hull, before.vec3(0), to);
        let teleported = tell_ruling(whose, &ruling, self.guard.claims().epoch, moved, sink);
        let sentence = Sentence::of_ruling(&ruling).map(|sentence| (peer, sentence));
        Moved { teleported, sentence, ..Moved::default() }
    }

    pub(super) fn includes(&self) -> Includes {
        Includes { newest: self.guard.claims().newest, made_up: 0 }
    }

    pub(super) fn take_over(&mut self, tick: Tick, rate: Rate) {
        self.guard.take_over(tick, rate);
    }

    pub(super) fn sleep(&mut self, ticks: u64) {
        self.guard.sleep(ticks);
    }

    pub(super) fn unanswered(&self, lane: Option<usize>) -> Option<(u8, PullReason, State)> {
        self.guard.unanswered(lane)
    }
}
