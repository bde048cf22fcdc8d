//! An owner who sends inputs and waits to be told: its own entity is drawn like everybody else's.

use super::context::{Context, Word};
use super::past::Past;
use crate::data::Input;
use crate::tick::Tick;
use crate::wire::MAX_REPEATS;

/// What was sent, by tick.
#[derive(Clone, Debug)]
pub(in crate::client) struct Following {
    pub(super) past: Past,
    /// The newest tick told of.
    pub(super) agreed: Tick,
}

impl Following {
    /// Goes on from what was sent so far.
    pub(super) const fn of(past: Past, agreed: Tick) -> Self {
        Self { past, agreed }
    }

    pub(super) fn tick(&mut self, context: &Context<'_>, tick: Tick, sampled: Input) {
        let read = self.past.read(context.schema(tick), &sampled);
        self.past.push(tick, sampled, Some(read), None);
    }

    pub(super) fn told(&mut self, word: &Word<'_>) {
        // Ticks that the authority is past already are gone.
        if let Some(newest) = self.past.newest().filter(|newest| *newest < word.used) {
            self.past.pass_over(newest.next(), word.used);
        }
        self.past.confirm(word);
        self.agreed = word.used;
        self.past.ticks_mut().forget_before(word.used, MAX_REPEATS);
    }
}
