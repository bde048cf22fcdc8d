//! Running ahead by just enough.
//!
//! Inputs must reach the server before their tick is simulated. The server reports with how much margin they did; the
//! client shifts *when* its next tick falls, by at most one tick a second, never *which number* it has, so no input is
//! skipped. Margins are kept with the shift in force when their inputs left, so that the control has no delay and does
//! not overshoot. Off by more than a quarter of a second the clock is set instead.

use std::collections::VecDeque;

use crate::tick::Rate;

/// Reports the control looks back over.
const WINDOW: usize = 96;
/// Reports needed before it acts.
const ENOUGH: usize = 6;
/// The margin wanted at the low end, in ticks.
const WANTED_TICKS: f64 = 0.75;
/// Beyond this the clock is set.
const HARD_NANOS: f64 = 250_000_000.0;

/// What to do about the clock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Steer {
    /// Leave it.
    Hold,
    /// Move the next tick by so many nanoseconds (positive: later).
    Slew(i64),
    /// Set the clock by so many nanoseconds (positive: later).
    Set(i64),
}

/// The control.
#[derive(Clone, Debug, Default)]
pub(super) struct Lead {
    /// All shifts so far, positive: later.
    shifted: f64,
    /// Margins in nanoseconds as they would have been without any shift.
    window: VecDeque<f64>,
    /// The error still to be worked off; positive: too little lead.
    error: f64,
}

impl Lead {
    /// The shift in force, to be remembered with each input sent.
    pub(super) const fn shifted(&self) -> f64 {
        self.shifted
    }

    /// Takes a report: `margin` in quarter ticks, of inputs that left under the shift `then`. So many ticks more than usual are
    /// wanted.
    pub(super) fn report(&mut self, rate: Rate, (margin, then): (i8, f64), more: u8) -> Steer {
        let tick = rate.nanos() as f64;
        self.window.push_back(f64::from(margin) * 0.25 * tick + then);
        if self.window.len() > WINDOW {
            self.window.pop_front();
        }
        if self.window.len() < ENOUGH {
            return Steer::Hold;
        }
        let low = self.low() - self.shifted;
        self.error = (WANTED_TICKS + f64::from(more)) * tick - low;
        // A saturated report says only "more than".
        if self.error.abs() > HARD_NANOS || matches!(margin, i8::MIN | i8::MAX) {
            let by = -self.error as i64;
            self.apply(by);
            self.window.clear();
            return Steer::Set(by);
        }
        Steer::Hold
    }

    /// The worst margin in thirty, not the worst: one lost burst should not hold everybody back.
    fn low(&self) -> f64 {
        const LOWEST: usize = WINDOW / 30 + 1;
        let mut lowest = [f64::INFINITY; LOWEST];
        for &margin in &self.window {
            // The greatest of the lowest gives way; the rest stay in order.
            let mut at = LOWEST;
            while at > 0 && margin.total_cmp(&lowest[at - 1]).is_lt() {
                at -= 1;
            }
            if at < LOWEST {
                lowest.copy_within(at..LOWEST - 1, at + 1);
                lowest[at] = margin;
            }
        }
        lowest[self.window.len() / 30]
    }

    /// At each tick: how far to move the next one.
    pub(super) fn steer(&mut self, rate: Rate) -> Steer {
        let tick = rate.nanos() as f64;
        let most = tick / f64::from(rate.hz());
        // Early is cheap and late is not: give ground only when there is a good half tick to spare.
        if self.error > 0.125 * tick || self.error < -0.625 * tick {
            let by = (-self.error).clamp(-most, most) as i64;
            self.apply(by);
            return Steer::Slew(by);
        }
        Steer::Hold
    }

    fn apply(&mut self, by: i64) {
        self.shifted += by as f64;
        self.error += by as f64;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Ticks until the control rests when inputs have `late` nanoseconds too little margin, and so many ticks more are wanted.
    fn settle(late: f64, more: u8) -> (usize, f64) {
        let rate = Rate::new(60).unwrap();
        let mut lead = Lead::default();
        let mut last_move = 0;
        for tick in 0..2000 {
            if tick % 3 == 0 {
                let margin = (-late - lead.shifted()) / rate.nanos() as f64 * 4.0;
                let then = lead.shifted();
                lead.report(rate, (margin.clamp(-128.0, 127.0) as i8, then), more);
            }
            if let Steer::Slew(by) = lead.steer(rate) {
                assert!(by.abs() <= rate.nanos() / 60);
                last_move = tick;
            }
        }
        (last_move, -late - lead.shifted())
    }

    #[test]
    fn too_little_lead_is_worked_off_at_a_tick_a_second_without_overshoot() {
        let (ticks, margin) = settle(50_000_000.0, 0);
        assert!((180..330).contains(&ticks), "{ticks}");
        assert!((8e6..17e6).contains(&margin), "{margin}");
    }

    #[test]
    fn more_lead_is_more_margin_by_as_many_ticks() {
        let ((_, usual), (_, more)) = (settle(20_000_000.0, 0), settle(20_000_000.0, 2));
        let ticks = (more - usual) / Rate::new(60).unwrap().nanos() as f64;
        assert!((1.9..2.1).contains(&ticks), "{ticks}");
    }

    #[test]
    fn the_low_margin_is_the_one_a_sort_would_find() {
        let mut lead = Lead::default();
        for n in 1..300u32 {
            lead.window.push_back(f64::from(n.wrapping_mul(2_654_435_761) % 41));
            lead.window.drain(..lead.window.len().saturating_sub(WINDOW));
            let mut sorted: Vec<f64> = lead.window.iter().copied().collect();
            sorted.sort_by(f64::total_cmp);
            assert_eq!(lead.low(), sorted[sorted.len() / 30], "of {n}");
        }
    }

    #[test]
    fn a_third_of_a_second_is_set_at_once() {
        let rate = Rate::new(60).unwrap();
        let mut lead = Lead::default();
        let steers: Vec<_> = (0..6).map(|_| lead.report(rate, (-80, 0.0), 0)).collect();
        assert!(matches!(steers[5], Steer::Set(by) if by < -330_000_000), "{steers:?}");
    }
}
