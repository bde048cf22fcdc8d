//! What is told of a ruling.

use super::moved::Moved;
use super::sentence::Sentence;
use crate::body::Body;
use crate::event::{Fact, InputFact, InputFate, Sink, measured, tell, tell_input};
use crate::ids::{EntityId, PeerId};
use crate::policy::{Policy, Response};
use crate::server::guard::{Habits, Offence, Ruling};
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::verdict::{Answer, Evidence, Exhibit, Measure, Verdict};

/// Put back by more metres than this, an entity is drawn as a cut.
const CUT: f32 = 0.5;

/// Whose word was ruled on, and when.
pub(in crate::server) type Whose = (PeerId, EntityId, Tick);

/// Tells that what was said of these ticks goes on from before a pull back.
pub(super) fn tell_outdated<S: Sink>((peer, entity, _): Whose, ticks: Vec<Tick>, sink: &mut S) {
    for tick in ticks {
        tell_input(sink, InputFact { peer, entity, tick, fate: InputFate::Outdated }, None);
    }
}

/// Tells that the server put somebody elsewhere who says itself where it is.
pub(super) fn tell_teleport<S: Sink>((peer, entity, tick): Whose, epoch: u8, to: Vec3, sink: &mut S) -> Moved {
    tell(sink, Fact::PulledBack { peer, entity, tick, epoch, to });
    Moved { teleported: true, ..Moved::default() }
}

/// Tells what was measured.
pub(super) fn tell_measures<S: Sink>((peer, entity, _): Whose, found: impl Iterator<Item = Evidence>, sink: &mut S) {
    found.for_each(|evidence| measured(sink, Measure { peer, entity, evidence }));
}

/// Tells what was measured and noted of somebody's hands.
pub(super) fn tell_habits<S: Sink>(whose: Whose, habits: &mut Habits, sink: &mut S) {
    let (peer, entity, tick) = whose;
    tell_measures(whose, habits.measures(), sink);
    for Offence { evidence, .. } in habits.notes() {
        tell(sink, Fact::Note(Verdict { peer, entity, tick, evidence, exhibit: None, answer: Answer::Noted }));
    }
}

/// What was done, in the words of a verdict on where somebody was.
const fn answer(response: Response) -> Answer {
    match response {
        Response::Note => Answer::Noted,
        Response::Clamp => Answer::Clamped,
        Response::PullBack => Answer::PulledBack,
        Response::Strike => Answer::Struck,
        Response::Disconnect => Answer::Disconnected,
    }
}

/// Tells what was only written down.
pub(super) fn tell_notes<S: Sink>(
    whose: Whose,
    notes: impl Iterator<Item = Offence>,
    (hull, put): (Body, Vec3),
    sink: &mut S,
) {
    for offence in notes {
        tell(sink, Fact::Verdict(verdict(whose, &offence, (hull, put), Answer::Noted)));
    }
}

/// What is said of somebody's places.
fn verdict((peer, entity, tick): Whose, offence: &Offence, (hull, put): (Body, Vec3), answer: Answer) -> Verdict {
    let exhibit = Some(Exhibit { hull, path: offence.path, put });
    Verdict { peer, entity, tick, evidence: offence.evidence, exhibit, answer }
}

/// Tells of an input that was not used, and says what else is to be done about it.
pub(in crate::server) fn tell_ignored<S: Sink>(
    (peer, entity, tick): Whose,
    evidence: Evidence,
    policy: &Policy,
    sink: &mut S,
) -> Option<Sentence> {
    let response = policy.response(evidence.rule);
    let answer = match response {
        Response::Note | Response::Clamp | Response::PullBack => Answer::Ignored,
        Response::Strike | Response::Disconnect => answer(response),
    };
    tell(sink, Fact::Verdict(Verdict { peer, entity, tick, evidence, exhibit: None, answer }));
    Sentence::of(evidence.rule, response)
}

/// Tells of a ruling that was not lawful, and of the pull back that it begins. Says whether the entity is drawn as a cut.
pub(super) fn tell_ruling<S: Sink>(
    whose: Whose,
    ruling: &Ruling,
    epoch: u8,
    (hull, before, to): (Body, Vec3, Vec3),
    sink: &mut S,
) -> bool {
    let (peer, entity, tick) = whose;
    if matches!(ruling, Ruling::Lawful) {
        return false;
    }
    tell(sink, Fact::PulledBack { peer, entity, tick, epoch, to });
    match ruling {
        Ruling::Lawful => false,
        Ruling::Resync(why) => {
            tell(sink, Fact::Resync { peer, entity, tick, why: *why });
            false
        }
        Ruling::Guilty(offence, response) => {
            tell(sink, Fact::Verdict(verdict(whose, offence, (hull, to), answer(*response))));
            before.distance(to) > CUT
        }
    }
}
