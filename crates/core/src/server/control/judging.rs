//! The authority takes over what an owner says of where it is, if the guard finds it lawful.

use super::turn::{Includes, Made, Turn, tell_used};
use crate::data::State;
use crate::event::{Fact, InputFact, InputFate, Sink, tell, tell_input};
use crate::ids::PeerId;
use crate::server::claims::Heard;
use crate::server::guard::{Guard, Ruling};
use crate::tick::{Rate, Tick};
use crate::verdict::{Answer, Verdict};
use crate::wire::Claim;
use crate::world::Entity;

/// Put back by more metres than this, an entity is drawn as a cut.
const CUT: f32 = 0.5;

/// One owner's claims of one entity, and the guard.
#[derive(Clone, Debug)]
pub(in crate::server) struct Judging {
    guard: Guard,
}

impl Judging {
    pub(super) fn new(rate: Rate, state: State) -> Self {
        Self { guard: Guard::new(rate, state) }
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
    ) -> Made {
        let (tick, before) = (turn.scene.tick, entity.state);
        let (ruling, provenance) =
            self.guard.judge(&turn.scene, (turn.motion, turn.limits), turn.rate, &mut entity.state);
        let id = entity.id();
        tell_used(self.guard.claims().has_begun(tick), (peer, id, tick), provenance, None, sink);
        for tick in self.guard.let_go() {
            tell_input(sink, InputFact { peer, entity: id, tick, fate: InputFate::Outdated }, None);
        }
        if !matches!(ruling, Ruling::Lawful) {
            let (epoch, to) = (self.guard.claims().epoch, entity.state.vec3(0));
            tell(sink, Fact::PulledBack { peer, entity: id, tick, epoch, to });
        }
        let teleported = match ruling {
            Ruling::Lawful => false,
            Ruling::Resync => {
                tell(sink, Fact::Resync { peer, entity: id, tick });
                false
            }
            Ruling::Guilty(evidence) => {
                let answer = Answer::PulledBack;
                tell(sink, Fact::Verdict(Verdict { peer, entity: id, tick, evidence, answer }));
                before.vec3(0).distance(entity.state.vec3(0)) > CUT
            }
        };
        Made { teleported, ..Made::default() }
    }

    pub(super) fn includes(&self) -> Includes {
        Includes { newest: self.guard.claims().newest, made_up: 0 }
    }

    pub(super) fn sleep(&mut self, ticks: u64) {
        self.guard.sleep(ticks);
    }

    pub(super) fn unanswered_pull(&self) -> Option<(u8, State)> {
        self.guard.unanswered_pull()
    }
}
