//! One player's inputs by tick, before and after use.

use super::missing::Gap;
use crate::data::Input;
use crate::event::Provenance;
use crate::schema::Schema;
use crate::tick::Tick;

/// Ticks kept, past and future: two seconds each at 128 Hz.
const SLOTS: usize = 512;

/// What became of an input handed in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Taken {
    /// In time, for the first time.
    InTime,
    /// For the first time, after its tick was simulated.
    Late,
    /// Seen before, the same.
    Again,
    /// Seen before, and it was another: somebody rewrites the past.
    Conflict,
    /// It was taken for the same as the one before when its tick was made, and is.
    Unchanged,
    /// Too far from now to have a place.
    OutOfWindow,
}

#[derive(Clone, Copy, Debug, Default)]
struct Slot {
    tick: Tick,
    input: Option<Input>,
    /// Whether that is only what it was taken for.
    assumed: bool,
}

/// The buffer.
#[derive(Clone, Debug)]
pub(super) struct InputBuffer {
    slots: Vec<Slot>,
    /// The input last used, as it travelled, and for which tick it was said.
    last: Input,
    said: Tick,
    /// The newest that came after its tick was made.
    late: Option<(Tick, Input)>,
    /// For how many ticks on end it has been missing.
    missing: u32,
    /// The oldest tick that anything ever arrived for: before it nothing is missing.
    first: Option<Tick>,
}

impl Default for InputBuffer {
    fn default() -> Self {
        Self {
            slots: vec![Slot::default(); SLOTS],
            last: Input::default(),
            said: Tick(0),
            late: None,
            missing: 0,
            first: None,
        }
    }
}

impl InputBuffer {
    /// Bytes it takes.
    pub(super) fn bytes(&self) -> usize {
        self.slots.capacity() * size_of::<Slot>()
    }

    /// Whether this input was taken for `tick` before.
    pub(super) fn knows(&self, tick: Tick, newest: Tick, input: &Input) -> bool {
        let slot = &self.slots[(tick.0 % SLOTS as u64) as usize];
        slot.tick == tick
            && !slot.assumed
            && slot.input.as_ref() == Some(input)
            && tick.since(newest).unsigned_abs() < SLOTS as u64 / 2
    }

    /// Takes an input for `tick` while `newest` is the last tick simulated.
    pub(super) fn take_in(&mut self, tick: Tick, newest: Tick, input: Input) -> Taken {
        let distance = tick.since(newest);
        if distance.unsigned_abs() >= SLOTS as u64 / 2 {
            return Taken::OutOfWindow;
        }
        let slot = &mut self.slots[(tick.0 % SLOTS as u64) as usize];
        if slot.tick == tick
            && let Some(known) = slot.input
        {
            match (known == input, slot.assumed) {
                (true, false) => return Taken::Again,
                (false, false) => return Taken::Conflict,
                (true, true) => {
                    slot.assumed = false;
                    return Taken::Unchanged;
                }
                (false, true) => {}
            }
        }
        *slot = Slot { tick, input: Some(input), assumed: false };
        if distance <= 0 && tick > self.late.map_or(self.said, |(newest, _)| newest) {
            self.late = Some((tick, input));
        }
        self.first = Some(self.first.map_or(tick, |first| first.min(tick)));
        if distance > 0 { Taken::InTime } else { Taken::Late }
    }

    /// Whether an input for `tick` can be missing: its client had begun by then.
    pub(super) fn has_begun(&self, tick: Tick) -> bool {
        self.first.is_some_and(|first| first <= tick)
    }

    /// Whether the input for `tick` has come.
    pub(super) fn has(&self, tick: Tick) -> bool {
        let slot = &self.slots[(tick.0 % SLOTS as u64) as usize];
        slot.tick == tick && slot.input.is_some() && !slot.assumed
    }

    /// The input to use for `tick`: the one sent, or one that is made up.
    pub(super) fn use_for(&mut self, tick: Tick, schema: &Schema, gap: Gap) -> (Input, Provenance) {
        let slot = &self.slots[(tick.0 % SLOTS as u64) as usize];
        if let Some(input) = slot.input.filter(|_| slot.tick == tick) {
            let read = schema.presses_since(&input, &self.last);
            (self.last, self.said, self.late, self.missing) = (input, tick, None, 0);
            return (read, Provenance::Fresh);
        }
        if gap.says_changes && self.has_begun(tick) {
            // What its owner said last holds, also where that came too late for its own tick.
            let (tick_said, said) = self.late.take().unwrap_or((self.said, self.last));
            let read = schema.presses_since(&said, &self.last);
            (self.last, self.said) = (said, tick_said);
            self.slots[(tick.0 % SLOTS as u64) as usize] = Slot { tick, input: Some(said), assumed: true };
            return (read, Provenance::Unchanged);
        }
        self.missing = self.missing.saturating_add(1);
        gap.make_up(schema, &self.last, self.missing)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Motion;
    use crate::server::missing::{Missing, Waiting};
    use crate::walker::{Walker, input_lane};
    use proptest::prelude::*;

    const HOLD: u32 = 20;
    const GAP: Gap = Gap { missing: Missing::Hold, hold: HOLD, wait: 0, waiting: Waiting::AtOnce, says_changes: false };

    fn pressed(count: u32) -> Input {
        let mut input = Input::default();
        input.set_int(input_lane::HOP, count % 16);
        input.set_flag(input_lane::SPRINT, true);
        input
    }

    proptest! {
        /// Each tick's input is sent in a message with the ones before it; messages are lost and doubled at will.
        #[test]
        fn presses_survive_loss_and_repeats_exactly_once(
            presses in prop::collection::vec(0u32..2, 40..120),
            fates in prop::collection::vec(0u8..4, 120),
            repeats in 1usize..6,
        ) {
            let walker = Walker::new();
            let mut buffer = InputBuffer::default();
            let mut counters = vec![0u32];
            let mut used = 0;
            let mut since_heard = 0;
            let mut longest_silence = 0;
            for (i, press) in presses.iter().enumerate() {
                let counter = counters[i] + press;
                counters.push(counter);
                let tick = Tick(i as u64 + 1);
                // 0: lost, 1 and 2: arrives, 3: arrives twice. The last one always arrives.
                let fate = if i + 1 == presses.len() { 1 } else { fates[i] };
                for _ in 0..[0, 1, 1, 2][usize::from(fate)] {
                    for back in 0..repeats.min(i + 1) {
                        buffer.take_in(tick.offset(-(back as i64)), tick.prev(), pressed(counters[i + 1 - back]));
                    }
                }
                since_heard = if fate == 0 { since_heard + 1 } else { 0 };
                longest_silence = longest_silence.max(since_heard);
                used += buffer.use_for(tick, walker.schema(), GAP).0.int(input_lane::HOP);
            }
            prop_assume!(longest_silence < 15);
            prop_assert_eq!(used, presses.iter().sum::<u32>());
        }
    }

    #[test]
    fn a_missing_input_holds_keys_and_presses_nothing() {
        let walker = Walker::new();
        let mut buffer = InputBuffer::default();
        buffer.take_in(Tick(5), Tick(4), pressed(1));
        assert_eq!(buffer.use_for(Tick(5), walker.schema(), GAP).0.int(input_lane::HOP), 1);
        let (made_up, provenance) = buffer.use_for(Tick(6), walker.schema(), GAP);
        assert_eq!(provenance, Provenance::Repeated);
        assert!(made_up.flag(input_lane::SPRINT));
        assert_eq!(made_up.int(input_lane::HOP), 0);
        let later: Vec<_> = (7..40).map(|tick| buffer.use_for(Tick(tick), walker.schema(), GAP)).collect();
        let held = later.iter().take_while(|(input, _)| input.flag(input_lane::SPRINT)).count() as u32;
        assert_eq!(held, HOLD - 1, "for a bounded time");
        assert!(
            later[held as usize..]
                .iter()
                .all(|(input, how)| *how == Provenance::Rested && !input.flag(input_lane::SPRINT))
        );
        buffer.take_in(Tick(40), Tick(39), pressed(2));
        let (input, how) = buffer.use_for(Tick(40), walker.schema(), GAP);
        assert_eq!((input.int(input_lane::HOP), how), (1, Provenance::Fresh), "and what comes then counts from before");
    }

    #[test]
    fn a_late_input_is_not_applied_twice() {
        let walker = Walker::new();
        let mut buffer = InputBuffer::default();
        buffer.use_for(Tick(5), walker.schema(), GAP);
        assert_eq!(buffer.take_in(Tick(5), Tick(5), pressed(1)), Taken::Late);
        // Its press is made good in the next tick whose input arrives, once.
        buffer.take_in(Tick(6), Tick(5), pressed(1));
        buffer.take_in(Tick(7), Tick(6), pressed(1));
        assert_eq!(buffer.use_for(Tick(6), walker.schema(), GAP).0.int(input_lane::HOP), 1);
        assert_eq!(buffer.use_for(Tick(7), walker.schema(), GAP).0.int(input_lane::HOP), 0);
    }

    #[test]
    fn what_is_not_said_is_the_same_and_a_change_that_comes_late_counts_from_the_next_tick_on() {
        let walker = Walker::new();
        let changes = Gap { says_changes: true, ..GAP };
        let mut buffer = InputBuffer::default();
        let standing = |pressed: u32| {
            let mut input = Input::default();
            input.set_int(input_lane::HOP, pressed);
            input
        };
        buffer.take_in(Tick(5), Tick(4), pressed(1));
        let used = |buffer: &mut InputBuffer, tick| {
            let (input, how) = buffer.use_for(Tick(tick), walker.schema(), changes);
            (input.flag(input_lane::SPRINT), input.int(input_lane::HOP), how)
        };
        assert_eq!(used(&mut buffer, 5), (true, 1, Provenance::Fresh));
        // For longer than any key is held on.
        for tick in 6..60 {
            assert_eq!(used(&mut buffer, tick), (true, 0, Provenance::Unchanged));
        }
        // It was let go and pressed at 57, and so it stayed; of before nothing had changed.
        assert_eq!(buffer.take_in(Tick(56), Tick(59), pressed(1)), Taken::Unchanged);
        assert_eq!(buffer.take_in(Tick(57), Tick(59), standing(2)), Taken::Late);
        assert_eq!(buffer.take_in(Tick(58), Tick(59), standing(2)), Taken::Late);
        assert_eq!(used(&mut buffer, 60), (false, 1, Provenance::Unchanged));
        assert_eq!(used(&mut buffer, 61), (false, 0, Provenance::Unchanged));
        assert_eq!(buffer.take_in(Tick(60), Tick(61), standing(2)), Taken::Unchanged);
        assert_eq!(buffer.take_in(Tick(60), Tick(61), standing(2)), Taken::Again);
        // What comes late and is older than what holds changes nothing.
        assert_eq!(buffer.take_in(Tick(7), Tick(61), standing(1)), Taken::Late);
        assert_eq!(used(&mut buffer, 62), (false, 0, Provenance::Unchanged));
    }

    #[test]
    fn another_input_for_a_tick_already_given_is_a_conflict() {
        let mut buffer = InputBuffer::default();
        assert_eq!(buffer.take_in(Tick(9), Tick(4), pressed(1)), Taken::InTime);
        assert_eq!(buffer.take_in(Tick(9), Tick(4), pressed(1)), Taken::Again);
        assert_eq!(buffer.take_in(Tick(9), Tick(4), pressed(2)), Taken::Conflict);
        assert_eq!(buffer.take_in(Tick(900), Tick(4), pressed(2)), Taken::OutOfWindow);
    }
}
