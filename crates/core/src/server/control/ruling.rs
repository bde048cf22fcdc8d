//! What is told of a ruling.

use crate::event::{Fact, InputFact, InputFate, Sink, measured, tell, tell_input};
use crate::ids::{EntityId, PeerId};
use crate::server::guard::Ruling;
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::verdict::{Answer, Evidence, Measure, Verdict};

/// Put back by more metres than this, an entity is drawn as a cut.
const CUT: f32 = 0.5;

/// Whose word was ruled on, and when.
pub(super) type Whose = (PeerId, EntityId, Tick);

/// Tells that what was said of these ticks goes on from before a pull back.
pub(super) fn tell_outdated<S: Sink>((peer, entity, _): Whose, ticks: Vec<Tick>, sink: &mut S) {
    for tick in ticks {
        tell_input(sink, InputFact { peer, entity, tick, fate: InputFate::Outdated }, None);
    }
}

/// Tells what was measured.
pub(super) fn tell_measures<S: Sink>((peer, entity, _): Whose, found: impl Iterator<Item = Evidence>, sink: &mut S) {
    found.for_each(|evidence| measured(sink, Measure { peer, entity, evidence }));
}

/// Tells of a ruling that was not lawful, and of the pull back that it begins. Says whether the entity is drawn as a cut.
pub(super) fn tell_ruling<S: Sink>(
    (peer, entity, tick): Whose,
    ruling: &Ruling,
    epoch: u8,
    (before, to): (Vec3, Vec3),
    sink: &mut S,
) -> bool {
    if matches!(ruling, Ruling::Lawful) {
        return false;
    }
    tell(sink, Fact::PulledBack { peer, entity, tick, epoch, to });
    match *ruling {
        Ruling::Lawful => false,
        Ruling::Resync => {
            tell(sink, Fact::Resync { peer, entity, tick });
            false
        }
        Ruling::Guilty(evidence) => {
            tell(sink, Fact::Verdict(Verdict { peer, entity, tick, evidence, answer: Answer::PulledBack }));
            before.distance(to) > CUT
        }
    }
}
