//! What went into the own ticks, what came of them, and how inputs are told of.

use super::context::{Context, Word};
use crate::data::{Input, State};
use crate::rollback::Rollback;
use crate::schema::Schema;
use crate::tick::Tick;
use crate::wire::{BitWriter, Inputs, MAX_REPEATS};

/// One tick's input.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Played {
    /// As it travels: press lanes hold running counters.
    pub(super) sampled: Input,
    /// As the step reads it. `None` for a tick that was passed over.
    pub(super) read: Option<Input>,
}

/// The end of a long gap is all of it that can ever be asked for.
const GAP: i64 = 600;

/// The own ticks.
#[derive(Clone, Debug, Default)]
pub(super) struct Past {
    ticks: Rollback<State, Played>,
    /// The newest input that the authority is known to have used, as it travelled. What was pressed since then it plays in the
    /// next tick whose input arrives.
    used: Input,
}

impl Past {
    pub(super) fn bytes(&self) -> usize {
        self.ticks.bytes()
    }

    pub(super) const fn ticks(&self) -> &Rollback<State, Played> {
        &self.ticks
    }

    pub(super) const fn ticks_mut(&mut self) -> &mut Rollback<State, Played> {
        &mut self.ticks
    }

    pub(super) fn newest(&self) -> Option<Tick> {
        self.ticks.newest().map(|(tick, _)| tick)
    }

    /// Whether the newest tick was played, not passed over.
    pub(super) fn has_played(&self) -> bool {
        self.ticks.newest().is_some_and(|(_, entry)| entry.input.read.is_some())
    }

    pub(super) fn state(&self) -> Option<State> {
        self.ticks.newest().and_then(|(_, entry)| entry.state)
    }

    pub(super) fn state_before(&self) -> Option<State> {
        self.ticks.state(self.newest()?.prev())
    }

    /// As the newest input travelled; none before the first.
    pub(super) fn sampled(&self) -> Input {
        self.ticks.newest().map_or(Input::default(), |(_, entry)| entry.input.sampled)
    }

    /// The input of the next tick as its step reads it.
    pub(super) fn read(&self, schema: &Schema, sampled: &Input) -> Input {
        schema.presses_since(sampled, &self.sampled())
    }

    pub(super) fn push(&mut self, tick: Tick, sampled: Input, read: Option<Input>, state: Option<State>) {
        self.ticks.push(tick, Played { sampled, read }, state);
    }

    pub(super) fn pass_over(&mut self, first: Tick, last: Tick) {
        let Some((_, newest)) = self.ticks.newest() else { return };
        let (still, state) = (Played { read: None, ..newest.input }, newest.state);
        for tick in first.max(last.offset(-GAP)).0..=last.0 {
            self.ticks.push(Tick(tick), still, state);
        }
    }

    /// The authority's state after a tick includes inputs up to that one, of which it made the last few up.
    pub(super) fn confirm(&mut self, word: &Word<'_>) {
        let fresh = word.used.offset(-i64::from(word.made_up));
        if let Some(entry) = self.ticks.get(fresh).filter(|e| word.made_up < u8::MAX && e.input.read.is_some()) {
            self.used = entry.input.sampled;
        }
    }

    /// Has the first tick after `used` read all that was pressed since the authority last had an input, as the authority
    /// will: a press whose message was lost is played a tick later than it was pressed. Says whether that is another input
    /// than it read before.
    pub(super) fn make_good(&mut self, used: Tick, context: &Context<'_>) -> bool {
        let Some((newest, _)) = self.ticks.newest() else { return false };
        let played = |tick: &Tick| self.ticks.get(*tick).and_then(|e| Some((e.input.sampled, e.input.read?)));
        let first = (used.0 + 1..=newest.0).map(Tick).find_map(|tick| Some((tick, played(&tick)?)));
        let Some((tick, (sampled, before))) = first else { return false };
        let read = context.schema(tick).presses_since(&sampled, &self.used);
        self.ticks.amend(tick, |played| played.read = Some(read));
        read != before
    }

    /// Appends a message of the newest inputs: only of ticks that were really played, so it ends where some were passed over.
    pub(super) fn say_inputs(&self, context: &Context<'_>, out: &mut BitWriter) {
        let Some(newest) = self.newest() else { return };
        let repeats = usize::from(context.settings.repeats).clamp(1, MAX_REPEATS);
        let mut inputs = [Input::default(); MAX_REPEATS];
        let mut count = 0;
        while count < repeats {
            let entry = self.ticks.get(newest.offset(-(count as i64)));
            let Some(entry) = entry.filter(|e| e.input.read.is_some()) else { break };
            inputs[count] = entry.input.sampled;
            count += 1;
        }
        let message = Inputs { newest: newest.wire(), entity: context.entity, count, inputs };
        message.write(out, |tick| context.schema(tick.unwrap_near(newest).unwrap_or(newest)));
    }
}
