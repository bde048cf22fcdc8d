//! A past that can be changed: rewrite a tick with the truth, or amend what went into it, and run on from there.

use std::collections::VecDeque;

use crate::tick::Tick;

/// Ticks kept at most: two seconds of round trip at 128 Hz, twice over.
const MOST: usize = 512;

/// One tick.
#[derive(Clone, Copy, Debug)]
pub struct Entry<S, I> {
    /// What went into it.
    pub input: I,
    /// The state after it, if there was one to begin from.
    pub state: Option<S>,
}

/// Consecutive ticks with what went into each and what came of it, the oldest in front.
#[derive(Clone, Debug)]
pub struct Rollback<S, I> {
    first: Tick,
    entries: VecDeque<Entry<S, I>>,
}

impl<S, I> Default for Rollback<S, I> {
    fn default() -> Self {
        Self { first: Tick(0), entries: VecDeque::new() }
    }
}

impl<S: Copy, I: Copy> Rollback<S, I> {
    /// Bytes it takes.
    pub fn bytes(&self) -> usize {
        self.entries.capacity() * size_of::<Entry<S, I>>()
    }

    /// The newest tick and its entry.
    pub fn newest(&self) -> Option<(Tick, &Entry<S, I>)> {
        let last = self.entries.back()?;
        Some((self.first.offset(self.entries.len() as i64 - 1), last))
    }

    /// Adds the tick after the newest (or any, when empty or after a gap that is then forgotten).
    pub fn push(&mut self, tick: Tick, input: I, state: Option<S>) {
        let follows = self.newest().is_some_and(|(newest, _)| newest.next() == tick);
        if !follows {
            self.entries.clear();
            self.first = tick;
        }
        self.entries.push_back(Entry { input, state });
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
    pub fn get(&self, tick: Tick) -> Option<&Entry<S, I>> {
        self.index(tick).map(|i| &self.entries[i])
    }

    /// The state after a tick.
    pub fn state(&self, tick: Tick) -> Option<S> {
        self.get(tick)?.state
    }

    /// Puts a state in a tick's place without running on. `false` when the tick is not there.
    pub fn place(&mut self, tick: Tick, state: Option<S>) -> bool {
        self.index(tick).is_some_and(|i| {
            self.entries[i].state = state;
            true
        })
    }

    /// Changes what went into a tick without running on.
    pub fn amend(&mut self, tick: Tick, change: impl FnOnce(&mut I)) {
        if let Some(i) = self.index(tick) {
            change(&mut self.entries[i].input);
        }
    }

    /// Runs every tick after `from` again with what went into it, and returns how many there were. `step` gives a tick's
    /// state from the one before and is told which tick it is.
    ///
    /// Nothing happens where `from` has no state.
    pub fn run_on(&mut self, from: Tick, mut step: impl FnMut(Tick, &S, &I) -> S) -> usize {
        let Some(start) = self.index(from) else { return 0 };
        let Some(mut state) = self.entries[start].state else { return 0 };
        let mut tick = from;
        for entry in self.entries.iter_mut().skip(start + 1) {
            tick = tick.next();
            state = step(tick, &state, &entry.input);
            entry.state = Some(state);
        }
        self.entries.len() - start - 1
    }

    /// Takes over the truth at `at` and runs on from there; see [`run_on`](Self::run_on).
    pub fn rewrite(&mut self, at: Tick, truth: S, step: impl FnMut(Tick, &S, &I) -> S) -> usize {
        self.place(at, Some(truth));
        self.run_on(at, step)
    }

    /// Forgets ticks before `tick`, but keeps as many of the newest as a message repeats.
    pub fn forget_before(&mut self, tick: Tick, keep: usize) {
        while self.first < tick && self.entries.len() > keep {
            self.entries.pop_front();
            self.first = self.first.next();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Ticks whose input is their number and whose state is the sum of inputs.
    fn filled(ticks: std::ops::Range<u64>) -> Rollback<u64, u64> {
        let mut past = Rollback::default();
        let mut sum = 0;
        for t in ticks {
            sum += t;
            past.push(Tick(t), t, Some(sum));
        }
        past
    }

    #[test]
    fn ticks_are_found_by_number_and_others_are_not_there() {
        let past = filled(100..110);
        assert_eq!(past.get(Tick(104)).map(|e| e.input), Some(104));
        assert!(past.get(Tick(99)).is_none() && past.get(Tick(110)).is_none());
        assert_eq!(past.newest().map(|(t, _)| t), Some(Tick(109)));
    }

    #[test]
    fn a_gap_starts_a_new_past() {
        let mut past = filled(100..110);
        past.push(Tick(500), 1, None);
        assert!(past.get(Tick(109)).is_none());
        assert_eq!(past.newest().map(|(t, _)| t), Some(Tick(500)));
    }

    #[test]
    fn it_never_grows_beyond_its_bound() {
        let past = filled(0..5000);
        assert!(past.get(Tick(5000 - MOST as u64 - 1)).is_none());
        assert!(past.get(Tick(5000 - MOST as u64)).is_some());
    }

    #[test]
    fn forgetting_keeps_what_messages_repeat() {
        let mut past = filled(100..140);
        past.forget_before(Tick(130), 16);
        assert!(past.get(Tick(123)).is_none() && past.get(Tick(124)).is_some());
        past.forget_before(Tick(139), 4);
        assert!(past.get(Tick(136)).is_some() && past.get(Tick(135)).is_none());
    }

    proptest! {
        /// The same states as simulating everything from the change on afresh.
        #[test]
        fn rewriting_and_amending_run_on_as_if_it_had_been_so_from_the_start(at in 100u64..120, truth in 0u64..9, amended in 100u64..120, to in 0u64..50) {
            let mut past = filled(100..120);
            let step = |_: Tick, sum: &u64, input: &u64| sum * 3 + input;
            let ran = past.rewrite(Tick(at), truth, step);
            prop_assert_eq!(ran as u64, 119 - at);
            past.amend(Tick(amended), |input| *input = to);
            past.run_on(Tick(amended.max(at + 1) - 1), step);
            let mut sum = truth;
            for t in at + 1..120 {
                sum = sum * 3 + if t == amended { to } else { t };
                prop_assert_eq!(past.state(Tick(t)), Some(sum), "tick {}", t);
            }
        }

        #[test]
        fn without_a_state_to_begin_from_nothing_runs(at in 100u64..120) {
            let mut past = filled(100..120);
            past.place(Tick(at), None);
            prop_assert_eq!(past.run_on(Tick(at), |_, sum, _| sum + 1), 0);
            prop_assert_eq!(past.run_on(Tick(99), |_, sum, _| sum + 1), 0);
        }
    }
}
