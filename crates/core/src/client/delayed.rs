//! Inputs that were sampled and said, and whose tick is still to come.
//!
//! With an input delay of n ticks, what is sampled in a tick is for the nth after it: it has so much longer to arrive, and the client need not
//! run that far ahead. Its own character answers so much later.

use std::collections::VecDeque;

use super::settings::ClientSettings;
use crate::arrangement::Arrangement;
use crate::data::Input;
use crate::tick::Tick;

/// The inputs said for the ticks after the newest, in their order.
#[derive(Clone, Debug, Default)]
pub(super) struct Delayed {
    waiting: VecDeque<Input>,
}

/// No input waits longer, in ticks.
const MOST_DELAY: u8 = 8;

/// For how many ticks what is sampled is to wait: who decides where it is waits for nobody.
pub(super) fn wanted_delay(arrangement: Arrangement, settings: &ClientSettings) -> u8 {
    if arrangement.owner().decides() { 0 } else { settings.input_delay.min(MOST_DELAY) }
}

impl Delayed {
    /// Of what becomes the own: until the first input that is sampled counts, nothing is pressed, as the server takes it to be.
    pub(super) fn of(delay: u8) -> Self {
        Self { waiting: vec![Input::default(); usize::from(delay)].into() }
    }

    /// Begins `tick` with a delay of so many ticks. Calls back with each tick that is to be given an input now, and gives that of `tick`.
    ///
    /// Where the delay became longer, what hands do now is given to several ticks; where it became shorter, what was said is kept
    /// to, and hands are asked again once that is used up.
    pub(super) fn begin(&mut self, tick: Tick, delay: u8, mut sample: impl FnMut(Tick) -> Input) -> Input {
        if delay == 0 && self.waiting.is_empty() {
            return sample(tick);
        }
        let delay = usize::from(delay.min(MOST_DELAY));
        while self.waiting.len() <= delay {
            let given = sample(tick.offset(self.waiting.len() as i64));
            self.waiting.push_back(given);
        }
        self.waiting.pop_front().unwrap_or_default()
    }

    /// The newest tick that has an input, where `tick` is the newest begun.
    pub(super) fn newest(&self, tick: Tick) -> Tick {
        tick.offset(self.waiting.len() as i64)
    }

    /// So many ticks are passed over: what was said for them is gone.
    pub(super) fn pass_over(&mut self, count: u64) {
        let count = usize::try_from(count).unwrap_or(usize::MAX).min(self.waiting.len());
        self.waiting.drain(..count);
    }

    /// The inputs, the newest first.
    pub(super) fn newest_first(&self) -> impl Iterator<Item = &Input> {
        self.waiting.iter().rev()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Whatever the delay is turned to, each tick is given one input, in order, and each sample is of hands not older than the longest
        /// delay.
        #[test]
        fn each_tick_is_given_one_input_whatever_the_delay_is_turned_to(delays in prop::collection::vec(0u8..12, 1..200)) {
            let mut delayed = Delayed::default();
            let mut given = Vec::new();
            for (i, delay) in delays.iter().enumerate() {
                let tick = Tick(i as u64);
                let used = delayed.begin(tick, *delay, |of| {
                    let mut input = Input::default();
                    input.set_int(0, i as u32);
                    given.push(of);
                    input
                });
                prop_assert_eq!(delayed.newest(tick), *given.last().expect("the first tick gives one"));
                prop_assert!(i as u32 - used.int(0) <= u32::from(MOST_DELAY));
                prop_assert!(delayed.newest_first().count() <= usize::from(MOST_DELAY));
            }
            prop_assert!(given.iter().enumerate().all(|(i, tick)| tick.0 == i as u64), "{:?}", given);
        }
    }

    #[test]
    fn what_was_said_for_ticks_that_are_passed_over_is_gone_and_the_rest_keeps_its_ticks() {
        let mut delayed = Delayed::default();
        let numbered = |of: Tick| {
            let mut input = Input::default();
            input.set_int(0, of.0 as u32);
            input
        };
        delayed.begin(Tick(10), 4, numbered);
        delayed.pass_over(2);
        assert_eq!(delayed.begin(Tick(13), 4, numbered).int(0), 13);
        delayed.pass_over(900);
        assert_eq!(delayed.begin(Tick(914), 4, numbered).int(0), 914);
    }
}
