//! Keys between ticks.
//!
//! A frame may hold no tick, one, or several; keys change whenever they like. The latch keeps what happened since the
//! last tick: a held key counts if it was down at any instant, presses are counted, sticks and bearings are the latest.

use crate::data::Input;
use crate::field::{InputKind, PRESS_BITS};
use crate::schema::Schema;

/// What is down now and what was pressed since the last tick.
#[derive(Clone, Debug, Default)]
pub(super) struct Latch {
    /// As last reported.
    now: Input,
    /// Held keys that were down at some instant since the last tick.
    was_down: Input,
    /// Running press counters, modulo 2^4.
    presses: Input,
}

impl Latch {
    /// Takes a report: held lanes say what is down now, press lanes how often keys went down since the last report.
    pub(super) fn report(&mut self, schema: &Schema, controls: &Input) {
        self.now = *controls;
        for f in &schema.input {
            match f.kind {
                InputKind::Held if controls.flag(f.lane) => self.was_down.set_flag(f.lane, true),
                InputKind::Press => {
                    let counted = self.presses.int(f.lane).wrapping_add(controls.int(f.lane));
                    self.presses.set_int(f.lane, counted % (1 << PRESS_BITS));
                }
                _ => {}
            }
        }
    }

    /// The input of a tick as it travels: rounded, with running counters in press lanes.
    pub(super) fn sample(&mut self, schema: &Schema) -> Input {
        let mut raw = self.now;
        for f in &schema.input {
            match f.kind {
                InputKind::Held => raw.set_flag(f.lane, self.now.flag(f.lane) || self.was_down.flag(f.lane)),
                InputKind::Press => raw.set_int(f.lane, self.presses.int(f.lane)),
                _ => {}
            }
        }
        self.was_down = Input::default();
        schema.round_input(&raw)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Motion;
    use crate::walker::{Walker, input_lane};

    #[test]
    fn a_key_tapped_between_two_ticks_is_held_in_the_next_and_not_after() {
        let walker = Walker::new();
        let schema = walker.schema();
        let mut latch = Latch::default();
        let mut down = Input::default();
        down.set_flag(input_lane::SPRINT, true);
        latch.report(schema, &down);
        latch.report(schema, &Input::default());
        assert!(latch.sample(schema).flag(input_lane::SPRINT));
        assert!(!latch.sample(schema).flag(input_lane::SPRINT));
    }

    #[test]
    fn presses_are_counted_across_frames_without_a_tick() {
        let walker = Walker::new();
        let schema = walker.schema();
        let mut latch = Latch::default();
        let mut press = Input::default();
        press.set_int(input_lane::HOP, 1);
        latch.report(schema, &press);
        latch.report(schema, &press);
        let first = latch.sample(schema);
        assert_eq!(schema.presses_since(&first, &Input::default()).int(input_lane::HOP), 2);
        latch.report(schema, &Input::default());
        assert_eq!(schema.presses_since(&latch.sample(schema), &first).int(input_lane::HOP), 0);
    }
}
