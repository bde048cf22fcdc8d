//! The authority steps after its owner with what that says was pressed, and holds its account against what comes of it.

use super::moved::Moved;
use super::ruling::{tell_habits, tell_measures, tell_notes, tell_outdated, tell_ruling, tell_teleport};
use super::sentence::Sentence;
use super::turn::{Arrival, Includes, Turn, tell_used};
use crate::data::{Input, State};
use crate::event::Sink;
use crate::ids::PeerId;
use crate::server::claims::Heard;
use crate::server::guard::{Audit, Auditor, Rules};
use crate::tick::{Rate, Tick};
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Rule};
use crate::wire::{Account, MAX_REPEATS, PullReason};
use crate::world::Entity;

/// One owner's accounts of one entity, and the auditor.
#[derive(Clone, Debug)]
pub(in crate::server) struct Accounting {
    auditor: Auditor,
}

impl Accounting {
    pub(super) fn new(rate: Rate, state: State) -> Self {
        Self { auditor: Auditor::new(rate, state) }
    }

    /// Takes an account in, unless an input in it is none that hands could give.
    pub(super) fn take_in<S: Sink>(
        &mut self,
        arrival: &Arrival<'_>,
        kind: u8,
        ticks: (Tick, Tick),
        account: &Account,
        sink: &mut S,
    ) -> Heard {
        let schema = |back: usize| arrival.layouts.schema(kind, ticks.0.offset(-(back as i64)).wire());
        let mut accuse = |evidence| arrival.accuse(account.entity, evidence, sink);
        for (back, input) in account.inputs[..account.count].iter().enumerate() {
            if let Some((length, most)) = schema(back).input_beyond_range(input) {
                let tick = ticks.0.offset(-(back as i64));
                accuse(Evidence::plain(Rule::Range, (tick, tick), length, most));
                return Heard::default();
            }
        }
        let mut reads = [Input::default(); MAX_REPEATS];
        for (back, read) in reads[..account.count].iter_mut().enumerate() {
            *read = schema(back).presses_since(&account.inputs[back], &account.inputs[back + 1]);
        }
        let heard = self.auditor.take_in(ticks, (account, &reads), arrival.expected);
        for tick in &heard.conflicts {
            accuse(Evidence::plain(Rule::Conflict, (*tick, *tick), 2.0, 1.0));
        }
        heard
    }

    pub(super) fn advance<S: Sink>(
        &mut self,
        peer: PeerId,
        turn: &Turn<'_>,
        entity: &mut Entity,
        sink: &mut S,
    ) -> Moved {
        let (tick, before) = (turn.scene.tick, entity.state.vec3(0));
        let rules = Rules { timeline: turn.timeline, kind: entity.kind(), rate: turn.rate, policy: turn.policy };
        if let Some(at) = entity.put.take() {
            entity.push = Vec3::ZERO;
            self.auditor.teleport(at, turn.motion.schema());
            entity.state = *self.auditor.state();
            return tell_teleport((peer, entity.id(), tick), self.auditor.epoch(), at, sink);
        }
        if entity.push != Vec3::ZERO {
            self.auditor.push(std::mem::replace(&mut entity.push, Vec3::ZERO));
        }
        let Audit { ruling, provenance, input, contacts, teleported } = self.auditor.audit(&rules, tick);
        entity.state = *self.auditor.state();
        let whose = (peer, entity.id(), tick);
        tell_used(self.auditor.has_begun(tick), whose, provenance, input.as_ref(), sink);
        tell_measures(whose, self.auditor.measures(), sink);
        let (hull, to) = (turn.motion.body(), entity.state.vec3(0));
        tell_notes(whose, self.auditor.notes(), (hull, to), sink);
        tell_habits(whose, self.auditor.habits(), sink);
        tell_outdated(whose, self.auditor.let_go(), sink);
        let moved = (hull, before, to);
        let cut = tell_ruling(whose, &ruling, self.auditor.epoch(), moved, sink);
        let sentence = Sentence::of_ruling(&ruling).map(|sentence| (peer, sentence));
        Moved { contacts, teleported: teleported || cut, sentence }
    }

    pub(super) fn includes(&self) -> Includes {
        Includes { newest: self.auditor.newest(), made_up: 0 }
    }

    pub(super) fn take_over(&mut self, tick: Tick, rate: Rate) {
        self.auditor.take_over(tick, rate);
    }

    pub(super) fn sleep(&mut self, ticks: u64) {
        self.auditor.sleep(ticks);
    }

    pub(super) fn unanswered(&self, lane: Option<usize>) -> Option<(u8, PullReason, State)> {
        self.auditor.unanswered(lane)
    }
}
