//! What own entities need of their client, and what they tell.

use crate::client::settings::ClientSettings;
use crate::data::{Input, State};
use crate::event::{Correction, Fact, Made, Restored, Sink, StateEvent, show, tell};
use crate::ground::Contacts;
use crate::ids::EntityId;
use crate::motion::{Motion, checked_step};
use crate::plan::Plan;
use crate::schema::Schema;
use crate::session::Timeline;
use crate::tick::{Rate, Tick};

/// What the surrounding client lends for a call.
pub(in crate::client) struct Context<'a> {
    pub(in crate::client) settings: &'a ClientSettings,
    pub(in crate::client) timeline: &'a Timeline,
    pub(in crate::client) rate: Rate,
    pub(in crate::client) entity: EntityId,
    pub(in crate::client) kind: u8,
}

impl<'a> Context<'a> {
    /// The rule at a tick.
    pub(super) fn rule(&self, tick: Tick) -> &'a dyn Motion {
        self.timeline.at(tick).kinds.motion(self.kind)
    }

    /// What its lanes mean at a tick.
    pub(in crate::client) fn schema(&self, tick: Tick) -> &'a Schema {
        self.rule(tick).schema()
    }

    /// How they travel and are drawn.
    pub(in crate::client) fn plan(&self, tick: Tick) -> &'a Plan {
        self.timeline.at(tick).kinds.plan(self.kind)
    }

    pub(super) fn step<S: Sink>(&self, tick: Tick, state: &State, input: &Input, sink: &mut S) -> (State, Contacts) {
        let scene = self.timeline.at(tick).scene(tick, self.rate.dt(), self.kind);
        match checked_step(self.rule(tick), &scene, state, input) {
            Ok(step) => (step.state, step.contacts),
            Err(field) => {
                tell(sink, Fact::StepFault { entity: self.entity, tick, field });
                (*state, Contacts::default())
            }
        }
    }
}

/// The authority's word on an entity.
#[derive(Clone, Copy)]
pub(in crate::client) struct Word<'a> {
    /// The newest of the owner's ticks that it includes.
    pub(in crate::client) used: Tick,
    /// For how many of the last ticks the input was made up, as far as eight bits count.
    pub(in crate::client) made_up: u8,
    /// Whether it was put elsewhere since the word before.
    pub(in crate::client) cut: bool,
    pub(in crate::client) state: &'a State,
}

impl Word<'_> {
    /// Why its state is taken over: `same` as far as fields agree, or else.
    pub(super) const fn why(&self, same: bool, or: Restored) -> Restored {
        match (same, self.cut) {
            (true, _) => Restored::Settled,
            (false, true) => Restored::Teleported,
            (false, false) => or,
        }
    }
}

/// The present was rewritten: where the newest position was, and where it is now.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(in crate::client) struct Moved {
    pub(in crate::client) before: State,
    pub(in crate::client) after: State,
}

/// Tells of a correction whose newest position moved from `before` to `after`.
pub(super) fn corrected<S: Sink>(correction: Correction, before: State, after: State, sink: &mut S) -> Moved {
    let jump = before.vec3(0).distance(after.vec3(0));
    tell(sink, Fact::Corrected(Correction { jump, ..correction }));
    Moved { before, after }
}

/// A correction before anything is known of it.
pub(super) const fn correction(entity: EntityId, tick: Tick, agreed: Tick, newest: Tick, why: Restored) -> Correction {
    Correction { entity, tick, agreed, newest, divergence: 0.0, jump: 0.0, replayed: 0, why }
}

/// A tick's first state, told.
pub(super) fn first<S: Sink>(context: &Context<'_>, tick: Tick, state: &State, input: &Input, sink: &mut S) -> State {
    let (next, contacts) = context.step(tick, state, input, sink);
    show(
        sink,
        StateEvent {
            entity: context.entity,
            tick,
            used: Some(tick),
            made: Made::Predicted,
            state: &next,
            input: Some(input),
            contacts: &contacts,
            teleported: false,
        },
    );
    next
}
