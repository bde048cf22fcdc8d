//! What the server makes a tick with whose input has not come.

use crate::data::Input;
use crate::event::Provenance;
use crate::schema::Schema;

/// A way to make an input up.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Missing {
    /// The last one's keys are held on for a while, with nothing pressed; then they come up.
    #[default]
    Hold,
    /// The same, and over that while sticks and axes go evenly to their middle.
    Fade,
    /// Keys come up at once.
    Rest,
    /// It is waited for, and the entity stands still meanwhile; after a while one is made up as by [`Hold`](Self::Hold).
    Wait,
}

/// What is done with inputs of which several wait for their turn, since one before them was waited for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Waiting {
    /// All are used at once.
    #[default]
    AtOnce,
    /// One is used a tick: the entity stays as far behind as it came to be.
    One,
    /// One is used a tick, and two now and then where nothing had to be waited for lately: how far behind it is follows the jitter.
    Kept,
}

/// A tick whose input is missing.
#[derive(Clone, Copy, Debug)]
pub(super) struct Gap {
    /// What is done about it.
    pub(super) missing: Missing,
    /// For how many ticks on end one is made up before keys come up.
    pub(super) hold: u32,
    /// For how many ticks one is waited for at most; 0 where none is.
    pub(super) wait: u8,
    /// What is done once it has come.
    pub(super) waiting: Waiting,
    /// Whether only changes are said: what is missing is the same.
    pub(super) says_changes: bool,
}

impl Missing {
    /// All of them, the usual one first.
    pub const ALL: [Self; 4] = [Self::Hold, Self::Fade, Self::Rest, Self::Wait];
}

impl Waiting {
    /// All of them, the usual one first.
    pub const ALL: [Self; 3] = [Self::AtOnce, Self::One, Self::Kept];
}

impl Gap {
    /// The input of the `nth` tick on end that has none, from 1 on; `last` is the newest that came.
    pub(super) fn make_up(self, schema: &Schema, last: &Input, nth: u32) -> (Input, Provenance) {
        let hold = if self.missing == Missing::Rest { 0 } else { self.hold };
        if nth > hold {
            return (schema.at_rest(last), Provenance::Rested);
        }
        let held = schema.held_on(last);
        match self.missing {
            // What is left of it after this tick, of the ticks after which nothing is.
            Missing::Fade => (schema.weakened(&held, 1.0 - nth as f32 / (hold as f32 + 1.0)), Provenance::Repeated),
            Missing::Hold | Missing::Rest | Missing::Wait => (held, Provenance::Repeated),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Motion;
    use crate::walker::{Walker, input_lane};

    const HOLD: u32 = 9;

    fn made_up(missing: Missing) -> Vec<(f32, bool, u32, Provenance)> {
        let walker = Walker::new();
        let mut last = Input::default();
        last.set_real(input_lane::MOVE, 1.0);
        last.set_flag(input_lane::SPRINT, true);
        last.set_int(input_lane::HOP, 5);
        let last = walker.schema().round_input(&last);
        let of = |nth| {
            let (input, how) = Gap { missing, hold: HOLD, wait: 0, waiting: Waiting::AtOnce, says_changes: false }
                .make_up(walker.schema(), &last, nth);
            assert_eq!(walker.schema().round_input(&input), input, "as an owner could have sent it");
            let stick = input.real(input_lane::MOVE);
            (stick, input.flag(input_lane::SPRINT), input.int(input_lane::HOP), how)
        };
        (1..=HOLD + 2).map(of).collect()
    }

    #[test]
    fn each_way_holds_keys_for_its_time_presses_nothing_and_ends_at_rest() {
        for missing in Missing::ALL {
            let made = made_up(missing);
            assert!(made.iter().all(|(_, _, pressed, _)| *pressed == 0), "{missing:?}");
            let held = made.iter().take_while(|(.., how)| *how == Provenance::Repeated).count();
            assert_eq!(held, if missing == Missing::Rest { 0 } else { HOLD as usize }, "{missing:?}");
            assert!(made[..held].iter().all(|(_, sprint, ..)| *sprint), "{missing:?}");
            assert!(made[held..].iter().all(|made| *made == (0.0, false, 0, Provenance::Rested)), "{missing:?}");
        }
    }

    #[test]
    fn what_fades_does_so_evenly_and_what_is_held_does_not() {
        let sticks = |missing| made_up(missing).iter().map(|made| made.0).collect::<Vec<_>>();
        let (held, faded) = (sticks(Missing::Hold), sticks(Missing::Fade));
        assert!(held[..HOLD as usize].iter().all(|stick| *stick == held[0] && *stick > 0.9));
        for (nth, stick) in faded.iter().enumerate() {
            let left = 1.0 - (nth as f32 + 1.0) / (HOLD as f32 + 1.0);
            assert!((stick - if left > 0.0 { left } else { 0.0 }).abs() < 0.02, "{nth}: {stick}, expected {left}");
        }
    }
}
