//! The owner's inputs and predicted states by tick.

use std::collections::VecDeque;

use crate::data::{Input, State};
use crate::tick::Tick;

/// Ticks kept at most: two seconds of round trip at 128 Hz, twice over.
const MOST: usize = 512;

/// One tick of one's own.
#[derive(Clone, Copy, Debug)]
pub(super) struct Entry {
    /// As it travelled: press lanes hold running counters.
    pub(super) sampled: Input,
    /// As the step read it. `None` for a tick that was passed over.
    pub(super) input: Option<Input>,
    /// The state after it, if there was one to predict from.
    pub(super) state: Option<State>,
}

/// Consecutive ticks, the oldest in front.
#[derive(Clone, Debug, Default)]
pub(super) struct History {
    first: Tick,
    entries: VecDeque<Entry>,
}

impl History {
    /// Bytes it takes.
    pub(super) fn bytes(&self) -> usize {
        self.entries.capacity() * size_of::<Entry>()
    }

    /// The newest tick and its entry.
    pub(super) fn newest(&self) -> Option<(Tick, &Entry)> {
        let last = self.entries.back()?;
        Some((self.first.offset(self.entries.len() as i64 - 1), last))
    }

    /// Adds the tick after the newest (or any, when empty or after a gap that is then forgotten).
    pub(super) fn push(&mut self, tick: Tick, entry: Entry) {
        let follows = self.newest().is_some_and(|(newest, _)| newest.next() == tick);
        if !follows {
            self.entries.clear();
            self.first = tick;
        }
        self.entries.push_back(entry);
        if self.entries.len() > MOST {
            self.entries.pop_front();
            self.first = self.first.next();
        }
    }

    fn index(&self, tick: Tick) -> Option<usize> {
        let index = usize::try_from(tick.since(self.first)).ok()?;
        (index < self.entries.len()).then_some(index)
    }

    /// The entry of a tick.
    pub(super) fn get(&self, tick: Tick) -> Option<&Entry> {
        self.index(tick).map(|i| &self.entries[i])
    }

    /// The entry of a tick, to be rewritten.
    pub(super) fn get_mut(&mut self, tick: Tick) -> Option<&mut Entry> {
        self.index(tick).map(|i| &mut self.entries[i])
    }

    /// Forgets ticks before `tick`, but keeps as many of the newest as a message repeats.
    pub(super) fn forget_before(&mut self, tick: Tick, keep: usize) {
        while self.first < tick && self.entries.len() > keep {
            self.entries.pop_front();
            self.first = self.first.next();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(mark: u32) -> Entry {
        let mut sampled = Input::default();
        sampled.set_int(0, mark);
        Entry { sampled, input: Some(sampled), state: None }
    }

    fn filled(ticks: std::ops::Range<u64>) -> History {
        let mut history = History::default();
        ticks.for_each(|t| history.push(Tick(t), entry(t as u32)));
        history
    }

    #[test]
    fn ticks_are_found_by_number_and_others_are_not_there() {
        let history = filled(100..110);
        assert_eq!(history.get(Tick(104)).map(|e| e.sampled.int(0)), Some(104));
        assert!(history.get(Tick(99)).is_none() && history.get(Tick(110)).is_none());
        assert_eq!(history.newest().map(|(t, _)| t), Some(Tick(109)));
    }

    #[test]
    fn a_gap_starts_a_new_history() {
        let mut history = filled(100..110);
        history.push(Tick(500), entry(1));
        assert!(history.get(Tick(109)).is_none());
        assert_eq!(history.newest().map(|(t, _)| t), Some(Tick(500)));
    }

    #[test]
    fn it_never_grows_beyond_its_bound() {
        let history = filled(0..5000);
        assert!(history.get(Tick(5000 - MOST as u64 - 1)).is_none());
        assert!(history.get(Tick(5000 - MOST as u64)).is_some());
    }

    #[test]
    fn forgetting_keeps_what_messages_repeat() {
        let mut history = filled(100..140);
        history.forget_before(Tick(130), 16);
        assert!(history.get(Tick(123)).is_none() && history.get(Tick(124)).is_some());
        history.forget_before(Tick(139), 4);
        assert!(history.get(Tick(136)).is_some() && history.get(Tick(135)).is_none());
    }
}
