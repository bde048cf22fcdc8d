//! An owner who sends inputs, applies them at once, and takes the authority's word for it afterwards.
//!
//! Prediction and authority are compared at `used`, the newest own tick that the server's state includes, never at the present. Bit for
//! bit equal, they agree. Otherwise the server's state is taken over and the ticks since are stepped again. That is a *correction*,
//! counted and shown, where a field differs by more than its `agree`; below that it *settles* silently, so that differences within
//! tolerance cannot add up, and predictions are exact again from there on.
//!
//! The owner receives its own lanes exactly, everybody else receives them rounded; inputs are rounded before they are predicted with.
//! With `used` comes for how many ticks the server made the input up: a press whose message was lost is replayed at the tick where the
//! server will play it.

use super::context::{Context, Moved, Word, corrected, correction, first};
use super::past::{Past, Played};
use crate::data::{Input, State};
use crate::event::{Correction, Fact, Made, Restored, Sink, StateEvent, show, tell};
use crate::ground::Contacts;
use crate::tick::Tick;
use crate::wire::MAX_REPEATS;

/// Predictions, by tick.
#[derive(Clone, Debug)]
pub(in crate::client) struct Predicting {
    pub(super) past: Past,
    /// Newest tick at which prediction and authority are known to be the same.
    pub(super) agreed: Tick,
}

impl Predicting {
    /// Goes on from the inputs of somebody who waited to be told; until the next word there is nothing to predict from.
    pub(super) const fn of(past: Past, agreed: Tick) -> Self {
        Self { past, agreed }
    }

    pub(super) fn tick<S: Sink>(&mut self, context: &Context<'_>, tick: Tick, sampled: Input, sink: &mut S) {
        let read = self.past.read(context.schema(tick), &sampled);
        let state = self.past.state().map(|state| first(context, tick, &state, &read, sink));
        self.past.push(tick, sampled, Some(read), state);
    }

    /// Holds the prediction *of the same tick* against the authority's state.
    ///
    /// 1. Bit for bit the same: agreed.
    /// 2. Otherwise the authority's state is taken over, every later input replayed, the past rewritten.
    /// 3. So it is where a press was lost on its way: the authority plays it with the next input that arrives.
    /// 4. It counts as a correction when a field differs by more than its agreement; the jump is eased out.
    pub(super) fn told<S: Sink>(
        &mut self,
        context: &Context<'_>,
        newest: Tick,
        word: &Word<'_>,
        sink: &mut S,
    ) -> Option<Moved> {
        let (used, truth) = (word.used, word.state);
        let Some(own_newest) = self.past.newest() else {
            self.begin(context, newest, word, sink);
            return None;
        };
        let before = self.past.state();
        if used > own_newest {
            return self.overtaken(context, own_newest, word, sink);
        }
        let predicted = self.past.ticks().get(used)?.state;
        if predicted.is_some_and(|p| p != *truth) && !context.settings.reconcile {
            return None;
        }
        self.past.confirm(word);
        let made_good = context.settings.reconcile && self.past.make_good(used, context);
        if predicted == Some(*truth) && !made_good {
            self.agreed = used;
            tell(sink, Fact::Agreed { entity: context.entity, tick: used });
            self.past.ticks_mut().forget_before(used, MAX_REPEATS);
            return None;
        }
        let replayed = self.replay(context, word, sink);
        let agrees =
            |a: Option<State>, b: Option<State>| a.zip(b).is_none_or(|(a, b)| context.schema(used).agrees(&a, &b));
        // Where only what comes later is another, that is what is held against the agreement.
        let same = match predicted {
            Some(p) if p == *truth => agrees(before, self.past.state()),
            predicted => agrees(predicted, Some(*truth)),
        };
        let why = word.why(same, Restored::Diverged);
        let divergence = predicted.map_or(0.0, |p| p.vec3(0).distance(truth.vec3(0)));
        let told = correction(context.entity, used, self.agreed, own_newest, why);
        let moved = self.moved(Correction { divergence, replayed, ..told }, before, sink);
        self.past.ticks_mut().forget_before(used, MAX_REPEATS);
        moved
    }

    /// The first word: ticks since then were begun before there was a state to predict from; the authority makes up empty
    /// input for them.
    fn begin<S: Sink>(&mut self, context: &Context<'_>, newest: Tick, word: &Word<'_>, sink: &mut S) {
        let (nothing, mut state) = (Input::default(), *word.state);
        self.past.confirm(word);
        self.past.push(word.used, nothing, None, Some(state));
        for tick in (word.used.0 + 1..=newest.0).map(Tick) {
            state = context.step(tick, &state, &nothing, sink).0;
            self.past.push(tick, nothing, Some(nothing), Some(state));
        }
        self.agreed = word.used;
    }

    /// The authority made up inputs past everything there is here: those ticks are gone.
    fn overtaken<S: Sink>(
        &mut self,
        context: &Context<'_>,
        newest: Tick,
        word: &Word<'_>,
        sink: &mut S,
    ) -> Option<Moved> {
        let before = self.past.state();
        self.past.confirm(word);
        self.past.pass_over(newest.next(), word.used);
        self.past.make_good(word.used, context);
        self.past.ticks_mut().place(word.used, Some(*word.state));
        let same = before.is_some_and(|before| context.schema(word.used).agrees(&before, word.state));
        let why = word.why(same, Restored::Overtaken);
        self.moved(correction(context.entity, word.used, self.agreed, word.used, why), before, sink)
    }

    /// Takes over the truth and simulates everything since again; says how many ticks those were.
    fn replay<S: Sink>(&mut self, context: &Context<'_>, word: &Word<'_>, sink: &mut S) -> u32 {
        let rewritten = |sink: &mut S, tick, state: &State, contacts: &Contacts| {
            let (entity, used) = (context.entity, Some(tick));
            let (made, input, teleported) = (Made::Rewritten, None, false);
            show(sink, StateEvent { entity, tick, used, made, state, input, contacts, teleported });
        };
        // What the server touched it does not say.
        rewritten(sink, word.used, word.state, &Contacts::default());
        let mut replayed = 0;
        self.past.ticks_mut().rewrite(word.used, *word.state, |tick, state, played: &Played| {
            let stay = || (*state, Contacts::default());
            let (next, contacts) = played.read.map_or_else(stay, |input| {
                replayed += 1;
                context.step(tick, state, &input, sink)
            });
            rewritten(sink, tick, &next, &contacts);
            next
        });
        replayed
    }

    fn moved<S: Sink>(&mut self, told: Correction, before: Option<State>, sink: &mut S) -> Option<Moved> {
        let moved = before.zip(self.past.state()).map(|(before, after)| corrected(told, before, after, sink));
        self.agreed = told.tick;
        moved
    }
}
