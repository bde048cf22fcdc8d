//! What went into the own ticks, what came of them, and how inputs are told of.

use super::context::{Context, Word};
use crate::client::delayed::Delayed;
use crate::data::{Input, State};
use crate::rollback::Rollback;
use crate::schema::Schema;
use crate::tick::{Tick, WireTick};
use crate::wire::{Against, BitWriter, Inputs, MAX_REPEATS, Spoken};

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
    /// Whether nothing was played here since then: the next tick reads all of that.
    owes: bool,
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
        let before = self.sampled();
        schema.presses_since(sampled, if self.owes { &self.used } else { &before })
    }

    pub(super) fn push(&mut self, tick: Tick, sampled: Input, read: Option<Input>, state: Option<State>) {
        self.owes &= read.is_none();
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
        let Some((tick, (sampled, before))) = first else {
            self.owes = true;
            return false;
        };
        let read = context.schema(tick).presses_since(&sampled, &self.used);
        self.ticks.amend(tick, |played| played.read = Some(read));
        read != before
    }

    /// Appends a message of the newest inputs: so many, and only of ticks that were really played: it ends where some were
    /// passed over.
    pub(super) fn say_inputs(
        &self,
        context: &Context<'_>,
        delayed: &Delayed,
        (covered, base): (usize, Option<&Spoken>),
        out: &mut BitWriter,
    ) -> Option<Spoken> {
        let begun = self.newest()?;
        let newest = delayed.newest(begun);
        let played = (0..).map_while(|back| {
            let entry = self.ticks.get(begun.offset(-back))?;
            entry.input.read.is_some().then_some(&entry.input.sampled)
        });
        let mut inputs = [Input::default(); MAX_REPEATS];
        let mut count = 0;
        for (place, input) in inputs.iter_mut().zip(delayed.newest_first().chain(played)).take(covered) {
            *place = *input;
            count += 1;
        }
        let back = base.map_or(0, |base| base.back(newest));
        let message = Inputs { newest: newest.wire(), entity: context.entity, back, count, inputs };
        let plan = |tick: WireTick| context.plan(tick.unwrap_near(newest).unwrap_or(newest));
        message.write_against(out, &Against { plan, base, dt: context.rate.dt() });
        Some(Spoken { tick: newest, input: inputs[0], state: None })
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::client::ClientSettings;
    use crate::ground::Ground;
    use crate::ids::EntityId;
    use crate::motion::Motion;
    use crate::session::{Ingredients, Kinds, Timeline};
    use crate::tick::Rate;
    use crate::walker::{Walker, input_lane};

    fn pressed(count: u32) -> Input {
        let mut input = Input::default();
        input.set_int(input_lane::HOP, count);
        input
    }

    /// A press in each tick from 1 to 5.
    fn pressing() -> Past {
        let mut past = Past::default();
        for tick in 1..=5 {
            past.push(Tick(tick), pressed(tick as u32), Some(pressed(1)), None);
        }
        past
    }

    /// What the authority says after `used`, of which it made the last few up: the presses that tick 5, or else 6, reads then.
    fn reads(past: &mut Past, used: u64, made_up: u8) -> (bool, u32) {
        let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema");
        let timeline = Timeline::new(Ingredients::new(Arc::new(Ground::flat(9.0)), &kinds));
        let (settings, rate) = (&ClientSettings::DEFAULT, Rate::new(60).expect("60 Hz"));
        let context = Context { settings, timeline: &timeline, rate, entity: EntityId::first(0), kind: 0 };
        let state = State::default();
        past.confirm(&Word { used: Tick(used), made_up, cut: false, state: &state });
        let changed = past.make_good(Tick(used), &context);
        let read = match past.ticks.get(Tick(used + 1)) {
            Some(entry) => entry.input.read.expect("it was played"),
            None => past.read(context.schema(Tick(used + 1)), &pressed(6)),
        };
        (changed, read.int(input_lane::HOP))
    }

    #[test]
    fn what_was_pressed_since_the_authority_had_an_input_is_read_in_the_next_tick() {
        assert_eq!(reads(&mut pressing(), 4, 0), (false, 1));
        assert_eq!(reads(&mut pressing(), 4, 2), (true, 3), "of ticks 3 and 4 as well");
        // Told again of the same, nothing changes.
        let mut past = pressing();
        reads(&mut past, 4, 2);
        assert_eq!(reads(&mut past, 4, 2), (false, 3));
    }

    #[test]
    fn where_nothing_was_played_since_the_next_tick_reads_it() {
        assert_eq!(reads(&mut pressing(), 5, 0), (false, 1));
        let mut past = pressing();
        assert_eq!(reads(&mut past, 5, 3), (false, 4), "of ticks 3 to 6");
        past.push(Tick(6), pressed(6), Some(pressed(4)), None);
        assert_eq!(past.read(Walker::new().schema(), &pressed(7)).int(input_lane::HOP), 1, "once");
    }

    #[test]
    fn what_is_no_longer_known_changes_nothing() {
        let mut past = pressing();
        assert_eq!(reads(&mut past, 4, 1), (true, 2));
        assert_eq!(reads(&mut past, 4, u8::MAX), (false, 2), "more than eight bits are not counted");
    }
}
