//! Trying: the client's ticks are stepped again from the last state that agreed, with something of the server's in the place of
//! its own.

use std::sync::Arc;

use velocitas_core::{Ground, Scene, State, Vec3, checked_step};

use super::case::{Both, Case, Turn};
use super::ingredient::{Exchange, Ingredient, Touched, present, touch};
use super::mind::{Mind, Minds, Stretch};

/// What came of a trial.
pub(super) struct Tried {
    /// The exchange after which the two agree; none where none does.
    pub(super) proven: Vec<Ingredient>,
    /// How many things there were to be exchanged.
    pub(super) present: u32,
    /// How often the ticks were stepped again.
    pub(super) replays: u32,
}

/// What takes the place of the client's own.
#[derive(Clone, Copy)]
enum With<'a> {
    /// These, of the server's.
    Only(&'a [Ingredient]),
    /// All that is the server's.
    Server,
}

struct Trial<'a> {
    case: &'a Case<'a>,
    minds: &'a Minds,
    replays: u32,
}

/// Finds the smallest exchange after which the difference vanishes.
///
/// First as it was, then with everything of the server's: unless the one comes out as the client had it and the other as the
/// server, something is at play that is not in the table. Then one ingredient at a time. Where none is enough by itself, from all
/// of them each that is not needed is taken away.
pub(super) fn tried(case: &Case<'_>, minds: &Minds) -> Tried {
    let mut trial = Trial { case, minds, replays: 0 };
    let mut touched = Touched::new();
    let as_it_was = trial.replay(With::Only(&[]), &mut touched);
    let as_there = trial.replay(With::Server, &mut touched);
    let all = present(case, &touched);
    let count = all.len() as u32;
    let is_whole = case.had.is_none_or(|had| had == as_it_was) && trial.agrees(&as_there);
    let proven = if is_whole && !trial.agrees(&as_it_was) { trial.smallest(all) } else { Vec::new() };
    Tried { proven, present: count, replays: trial.replays }
}

impl Trial<'_> {
    fn smallest(&mut self, all: Vec<Ingredient>) -> Vec<Ingredient> {
        if let Some(one) = all.iter().find(|one| self.vanishes(&[**one])) {
            return vec![*one];
        }
        if all.len() < 2 || !self.vanishes(&all) {
            return Vec::new();
        }
        let mut needed = all;
        // What is named last where one alone would do is taken away first.
        for place in (0..needed.len()).rev() {
            if needed.len() == 2 {
                break;
            }
            let mut without = needed.clone();
            without.remove(place);
            if self.vanishes(&without) {
                needed = without;
            }
        }
        needed
    }

    fn vanishes(&mut self, exchanged: &[Ingredient]) -> bool {
        let state = self.replay(With::Only(exchanged), &mut Touched::new());
        self.agrees(&state)
    }

    /// Whether there would have been nothing to correct; of what was settled silently, nothing to settle.
    fn agrees(&self, state: &State) -> bool {
        if self.case.exactly {
            return *state == self.case.truth;
        }
        let schema = self.case.minds.last().map(|m| m.there.rule.schema());
        schema.is_some_and(|schema| schema.agrees(state, &self.case.truth))
    }

    fn replay(&mut self, with: With<'_>, touched: &mut Touched) -> State {
        self.replays += 1;
        let (mut state, mut place) = (self.case.from, 0);
        let mut now: Option<(Mind, Arc<Ground>)> = None;
        for both in &self.case.ticks {
            let is_next = |m: &Stretch| m.from <= both.tick;
            while now.is_none() || self.case.minds.get(place).is_some_and(is_next) {
                let Some(stretch) = self.case.minds.get(place) else { return state };
                let mind = known(stretch, with);
                let ground = self.minds.ground(self.case.record, &mind.solids);
                (now, place) = (Some((mind, ground)), place + 1);
            }
            if let Some((mind, ground)) = &now {
                self.step(both, &done(both, with), (mind, ground), &mut state, touched);
            }
        }
        state
    }

    /// One tick, as the netcode steps it.
    fn step(
        &self,
        both: &Both,
        turn: &Turn,
        (mind, ground): (&Mind, &Ground),
        state: &mut State,
        touched: &mut Touched,
    ) {
        if !turn.made {
            return;
        }
        let (record, mut before) = (self.case.record, *state);
        let velocity = mind.rule.schema().velocity_lane();
        if let Some(place) = turn.put {
            before.set_vec3(0, place);
            velocity.into_iter().for_each(|lane| before.set_vec3(lane, Vec3::ZERO));
        }
        if let Some(lane) = velocity.filter(|_| turn.push != Vec3::ZERO) {
            let pushed = before.vec3(lane) + turn.push;
            before.set_vec3(lane, pushed);
        }
        let tick = both.tick.tick(record.cast.first);
        let scene = Scene { tick, dt: record.cast.rate.dt(), ground, tunables: &mind.tunables };
        // What comes out non-finite is rejected whole.
        if let Ok(step) = checked_step(&*mind.rule, &scene, &before, &turn.input) {
            touch(touched, &step.contacts);
            *state = step.state;
        }
    }
}

/// What is known in a stretch.
fn known(stretch: &Stretch, with: With<'_>) -> Mind {
    let With::Only(exchanged) = with else { return stretch.there.clone() };
    let mut mind = stretch.here.clone();
    let minds = exchanged.iter().filter_map(|one| match one.source.exchange {
        Exchange::Mind(exchange) => Some((exchange, one.what)),
        Exchange::Turn(_) => None,
    });
    // The rule first: what is turned is turned on the rule in force.
    minds.rev().for_each(|(exchange, what)| exchange(&stretch.there, what, &mut mind));
    mind
}

/// What is done in a tick.
fn done(both: &Both, with: With<'_>) -> Turn {
    let With::Only(exchanged) = with else { return both.there };
    let mut turn = both.here;
    for one in exchanged {
        if let Exchange::Turn(exchange) = one.source.exchange {
            exchange(both, one.what, &mut turn);
        }
    }
    turn
}
