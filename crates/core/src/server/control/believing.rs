//! The authority takes over what an owner says of where it is.

use super::moved::Moved;
use super::turn::{Includes, Turn, tell_used};
use crate::data::State;
use crate::event::{Provenance, Sink};
use crate::ids::PeerId;
use crate::server::claims::{ClaimedPlace, Claims, Heard};
use crate::tick::Tick;
use crate::wire::Claim;
use crate::world::Entity;

/// One owner's claims of one entity.
#[derive(Clone, Debug)]
pub(in crate::server) struct Believing {
    claims: Claims<ClaimedPlace>,
    good: State,
}

impl Believing {
    pub(super) fn new(state: State) -> Self {
        Self { claims: Claims::default(), good: state }
    }

    pub(super) fn take_in(&mut self, newest: Tick, since: Tick, claim: &Claim, expected: Tick) -> Heard {
        self.claims.take_in_claim(newest, since, claim, expected)
    }

    pub(super) fn advance<S: Sink>(
        &mut self,
        peer: PeerId,
        turn: &Turn<'_>,
        entity: &mut Entity,
        sink: &mut S,
    ) -> Moved {
        let now = turn.scene.tick;
        let mut provenance = Provenance::Repeated;
        while let Some((_, tick, pending)) = self.claims.next_due(now) {
            self.claims.take(tick);
            self.good = self.claims.accept(tick, &pending.word, self.good);
            entity.state = self.good;
            if tick == now {
                provenance = Provenance::Fresh;
            }
        }
        tell_used(self.claims.has_begun(now), (peer, entity.id(), now), provenance, None, sink);
        Moved::default()
    }

    pub(super) fn includes(&self) -> Includes {
        Includes { newest: self.claims.newest, made_up: 0 }
    }
}
