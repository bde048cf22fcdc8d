//! Running ahead by just enough.
//!
//! Inputs must reach the server before their tick is simulated. The server reports with how much margin they did; the
//! client shifts *when* its next tick falls, never *which number* it has, so no input is skipped: ticks come at most a tenth more or
//! less often. Margins are kept with the shift in force when their inputs left, so that the control has no delay and does not
//! overshoot.
//!
//! What is off is worked off at a tick a second. Where the way became another, only what came since counts, and ticks are as short or as
//! long as they may be: that is so where two reports in a row are later than all before by more than those are spread, or a second's
//! reports are better by as much. Off by more than a quarter of a second the clock is set instead.

use std::collections::VecDeque;

use crate::tick::{Rate, Tick};

/// Reports the control looks back over.
const WINDOW: usize = 96;
/// Reports needed before it acts.
const ENOUGH: usize = 6;
/// How many late reports in a row show that the way became longer.
const LATE: usize = 2;
/// The margin wanted at the low end, in ticks.
const WANTED_TICKS: f64 = 0.75;
/// Margins that differ by at least this number of ticks were had over another way.
const OTHER_TICKS: f64 = 1.5;
/// Beyond this the clock is set.
const HARD_NANOS: f64 = 250_000_000.0;
/// Ticks come at most by this share more often than their rate, or less.
const FASTEST: f64 = 0.1;
/// Longest time for which margins must have been better before ground is given, in seconds.
const LONGEST_PATIENCE: i64 = 8;

/// What to do about the clock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Steer {
    /// Leave it.
    Hold,
    /// Move the next tick by this number of nanoseconds (positive: later).
    Slew(i64),
    /// Set the clock by this number of nanoseconds (positive: later).
    Set(i64),
}

/// What inputs had to spare when they arrived, as reported.
#[derive(Clone, Copy, Debug)]
pub(super) struct Margin {
    /// In quarter ticks.
    pub quarters: i8,
    /// The shift in force when they left.
    pub then: f64,
    /// The client's tick in which it is read.
    pub at: Tick,
}

/// The control.
#[derive(Clone, Debug, Default)]
pub(super) struct Lead {
    /// All shifts up to now; positive is later.
    shifted: f64,
    /// Margins in nanoseconds as they would have been without any shift, and when they were reported.
    window: VecDeque<(Tick, f64)>,
    /// The same margins, the worst first.
    sorted: Vec<f64>,
    /// Whether there were enough of them once.
    begun: bool,
    /// The error still to be worked off; positive: too little lead.
    error: f64,
    /// The low margin when the last report was taken.
    low: f64,
    /// Whether what is to be worked off is worked off as quickly as may be.
    hurries: bool,
    /// When ground was given last, and for how many seconds it must be found good before it is given again, less one: where lateness
    /// comes back within that time and a few seconds, twice as long.
    gave: Option<Tick>,
    patience: i64,
}

impl Lead {
    /// The shift in force, to be remembered with each input sent.
    pub(super) const fn shifted(&self) -> f64 {
        self.shifted
    }

    /// Takes a report; `more` ticks beyond the usual are wanted.
    pub(super) fn report(&mut self, rate: Rate, margin: Margin, more: u8) -> Steer {
        let tick = rate.nanos() as f64;
        self.note(margin.at, f64::from(margin.quarters) * 0.25 * tick + margin.then);
        self.begun |= self.window.len() >= ENOUGH;
        if !self.begun {
            return Steer::Hold;
        }
        self.forget_another_way(rate, margin.at);
        self.low = self.sorted[self.window.len() / LOW];
        self.error = (WANTED_TICKS + f64::from(more)) * tick - (self.low - self.shifted);
        // A saturated report says only "more than".
        if self.error.abs() > HARD_NANOS || matches!(margin.quarters, i8::MIN | i8::MAX) {
            let by = -self.error as i64;
            self.apply(by);
            self.window.clear();
            self.sorted.clear();
            self.begun = false;
            return Steer::Set(by);
        }
        Steer::Hold
    }

    /// Takes a margin into the window.
    fn note(&mut self, at: Tick, margin: f64) {
        self.window.push_back((at, margin));
        let place = self.sorted.partition_point(|other| other.total_cmp(&margin).is_lt());
        self.sorted.insert(place, margin);
        if self.window.len() > WINDOW {
            self.forget(1);
        }
    }

    /// Forgets the first of the window.
    fn forget(&mut self, count: usize) {
        for (_, margin) in self.window.drain(..count) {
            let place = self.sorted.partition_point(|other| other.total_cmp(&margin).is_lt());
            self.sorted.remove(place);
        }
    }

    /// Where the way became another, what was reported before says nothing of it: that is made up for in a hurry.
    fn forget_another_way(&mut self, rate: Rate, now: Tick) {
        let least = OTHER_TICKS * rate.nanos() as f64;
        let late = self.window.len().saturating_sub(LATE);
        // Mostly it is not, which is seen at a glance.
        let best = self.window.range(late..).map(|(_, margin)| *margin).fold(f64::NEG_INFINITY, f64::max);
        // The low end of those before is beyond it if no more of them are below than lie under the low end.
        // The newest are none of them.
        let not_beyond = self.sorted.partition_point(|margin| best >= margin - least) - (self.window.len() - late);
        let is_late = late >= ENOUGH && not_beyond <= late / LOW;
        let before = is_late.then(|| Spread::of(self.window.range(..late)));
        if before.is_some_and(|before| best < before.low - before.differs(least)) {
            self.forget(late);
            self.hurries = true;
            let calm = i64::from(rate.hz()) * (self.patience + 4);
            self.patience = match self.gave {
                Some(gave) if now.since(gave) < calm => (2 * self.patience + 1).min(LONGEST_PATIENCE - 1),
                _ => 0,
            };
            return;
        }
        let since = i64::from(rate.hz()) * (self.patience + 1);
        let early = self.window.partition_point(|(at, _)| now.since(*at) > since);
        let is_better = self.window.range(early..).all(|(_, margin)| *margin > self.low + least);
        if early < ENOUGH || self.window.len() - early < ENOUGH || !is_better {
            return;
        }
        let (before, lately) = (Spread::of(self.window.range(..early)), Spread::of(self.window.range(early..)));
        let differs = before.differs(least).max(lately.differs(least));
        if lately.worst > before.low + differs && lately.median > before.median + differs {
            self.forget(early);
            self.hurries = true;
            self.gave = Some(now);
        }
    }

    /// At each tick: how far to move the next one.
    pub(super) fn steer(&mut self, rate: Rate) -> Steer {
        let tick = rate.nanos() as f64;
        // Early is cheap and late is not: give ground only when there is a good half tick to spare.
        if self.error > 0.125 * tick || self.error < -0.625 * tick {
            let share = if self.hurries { FASTEST } else { 1.0 / f64::from(rate.hz()) };
            // So many more ticks in a second are each shorter by a little less.
            let (sooner, later) = (share / (1.0 + share) * tick, share * tick);
            let by = (-self.error).clamp(-sooner, later) as i64;
            self.apply(by);
            return Steer::Slew(by);
        }
        self.hurries = false;
        Steer::Hold
    }

    fn apply(&mut self, by: i64) {
        self.shifted += by as f64;
        self.error += by as f64;
    }
}

/// How margins are spread.
#[derive(Clone, Copy, Debug)]
struct Spread {
    worst: f64,
    low: f64,
    median: f64,
}

impl Spread {
    fn of<'a>(window: impl Iterator<Item = &'a (Tick, f64)>) -> Self {
        let mut all: Vec<f64> = window.map(|(_, margin)| *margin).collect();
        all.sort_by(f64::total_cmp);
        let at = |place: usize| all.get(place).copied().unwrap_or_default();
        Self { worst: at(0), low: at(all.len() / LOW), median: at(all.len() / 2) }
    }

    /// By how much others differ from these at least, if the way is another: by far more than these differ among themselves.
    fn differs(&self, least: f64) -> f64 {
        least.max(3.0 * (self.median - self.low))
    }
}

/// The low end is the worst margin in this number, not the worst of all: one lost burst should not hold everybody back.
const LOW: usize = 30;

#[cfg(test)]
mod tests {
    use super::*;

    const HZ: u64 = 60;

    fn rate() -> Rate {
        Rate::new(60).unwrap()
    }

    fn of(quarters: i8, then: f64, at: u64) -> Margin {
        Margin { quarters, then, at: Tick(at) }
    }

    /// Runs the control on inputs that would have `margin` nanoseconds to spare without any shift, for `ticks` ticks, with a report in
    /// three of them. Gives what each tick's input has to spare.
    fn run(ticks: u64, more: u8, mut margin: impl FnMut(u64) -> f64) -> Vec<f64> {
        let mut lead = Lead::default();
        let mut spare = Vec::new();
        for tick in 0..ticks {
            spare.push(margin(tick) - lead.shifted());
            if tick % 3 == 0 {
                let then = lead.shifted();
                let quarters = (margin(tick) - then) / rate().nanos() as f64 * 4.0;
                lead.report(rate(), of(quarters.floor().clamp(-128.0, 127.0) as i8, then, tick), more);
            }
            if let Steer::Slew(by) = lead.steer(rate()) {
                // At most a tenth shorter or longer, and no more than a tenth more of them in a second.
                assert!((-rate().nanos() / 11..=rate().nanos() / 10).contains(&by), "{by}");
            }
        }
        spare
    }

    /// The first tick from which on all have what is asked for.
    fn from_then_on(spare: &[f64], good: impl Fn(f64) -> bool) -> usize {
        spare.iter().rposition(|spare| !good(*spare)).map_or(0, |at| at + 1)
    }

    #[test]
    fn too_little_lead_is_worked_off_at_a_tick_a_second_without_overshoot() {
        let spare = run(2000, 0, |_| -50e6);
        let rests = from_then_on(&spare, |spare| (8e6..25e6).contains(&spare));
        assert!((180..330).contains(&rests), "{rests}");
    }

    #[test]
    fn a_way_longer_by_a_tenth_of_a_second_is_made_up_for_in_a_second_and_given_back_when_it_goes() {
        // The way is longer from the tenth second to the eighteenth, and jitters by 4 ms.
        let jitter = |tick: u64| f64::from(tick as u32 * 7 % 9) * 0.5e6;
        let spare = run(30 * HZ, 0, |tick| if (600..1080).contains(&tick) { -100e6 } else { 0.0 } - jitter(tick));
        let (late, early) = (&spare[600..1080], &spare[1080..]);
        assert!(late[0] < -80e6 && early[0] > 100e6, "the way did become another: {} {}", late[0], early[0]);
        let on_time = from_then_on(late, |spare| spare >= 0.0);
        assert!(on_time < 70, "on time after {on_time} ticks");
        let back = from_then_on(early, |spare| spare < 30e6);
        assert!(back < 150, "at its old lead after {back} ticks");
    }

    #[test]
    fn one_late_report_moves_nothing_and_lateness_that_comes_again_and_again_is_provided_for() {
        let once = run(1200, 0, |tick| if tick == 600 { -100e6 } else { 0.0 });
        assert!((once[1199] - once[599]).abs() < 1e6, "{} to {}", once[599], once[1199]);
        // Late for half a second, twice in five seconds.
        let spare = run(60 * HZ, 0, |tick| if tick % 150 < 30 { -100e6 } else { 0.0 });
        let late = spare[40 * HZ as usize..].iter().filter(|spare| **spare < 0.0).count();
        assert!(late < 60, "{late} of the last 1200 are late");
    }

    #[test]
    fn more_lead_is_more_margin_by_as_many_ticks() {
        let [usual, more] = [0, 2].map(|more| run(2000, more, |_| -20e6)[1999]);
        let ticks = (more - usual) / rate().nanos() as f64;
        assert!((1.8..2.3).contains(&ticks), "{ticks}");
    }

    #[test]
    fn margins_are_sorted_whatever_comes_and_goes() {
        let mut lead = Lead::default();
        for n in 1..300u32 {
            lead.note(Tick(u64::from(n)), f64::from(n.wrapping_mul(2_654_435_761) % 41));
            if n.is_multiple_of(70) {
                lead.forget(20);
            }
            let mut sorted: Vec<f64> = lead.window.iter().map(|(_, margin)| *margin).collect();
            sorted.sort_by(f64::total_cmp);
            assert_eq!(lead.sorted, sorted, "of {n}");
            assert!(sorted.len() <= WINDOW);
        }
    }

    #[test]
    fn a_third_of_a_second_is_set_at_once() {
        let mut lead = Lead::default();
        let steers: Vec<_> = (0..6).map(|at| lead.report(rate(), of(-80, 0.0, at), 0)).collect();
        assert!(matches!(steers[5], Steer::Set(by) if by < -330_000_000), "{steers:?}");
    }
}
