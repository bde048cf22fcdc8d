//! How early inputs reach the server, and how early they should.
//!
//! The server reports with how much margin they did. Margins are kept with the shift in force when their inputs left, so that the control has
//! no delay and does not overshoot.
//!
//! Where the way became another, only what came since counts: that is so where two reports in a row are later than all before by more than
//! those are spread, or a second's reports are better by as much.

use std::collections::VecDeque;

use super::settings::LeadBy;
use crate::tick::{Rate, Tick};

/// Reports the control looks back over.
const WINDOW: usize = 96;
/// Reports older than this are of another time, however few came since, in seconds; enough of them stay.
const LATELY: i64 = 10;
/// Reports needed before it acts.
const ENOUGH: usize = 6;
/// How many late reports in a row show that the way became longer.
const LATE: usize = 2;
/// Margins that differ by at least this number of ticks were had over another way.
pub(super) const OTHER_TICKS: f64 = 1.5;
/// Longest time for which margins must have been better before ground is given, in seconds.
const LONGEST_PATIENCE: i64 = 8;

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

/// What was reported lately.
#[derive(Clone, Debug, Default)]
pub(super) struct Margins {
    /// Margins in nanoseconds as they would have been without any shift, and when they were reported.
    window: VecDeque<(Tick, f64)>,
    /// The same margins, the worst first.
    sorted: Vec<f64>,
    /// Whether there were enough of them once.
    begun: bool,
    /// The low margin when the last report was taken.
    low: f64,
    /// When ground was given last, and for how many seconds it must be found good before it is given again, less one: where lateness
    /// comes back within that time and a few seconds, twice as long.
    gave: Option<Tick>,
    patience: i64,
}

/// What a report comes to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Reported {
    /// The shift of the clock at which inputs would have what is wanted of them, in nanoseconds.
    pub(super) wanted: f64,
    /// Whether the way became another.
    pub(super) is_another_way: bool,
}

impl Margins {
    /// Takes a report. `spare` ticks are wanted of the low end, or of the middle. `None` before there are enough reports.
    pub(super) fn report(&mut self, rate: Rate, margin: Margin, lead: LeadBy, spare: f64) -> Option<Reported> {
        let tick = rate.nanos() as f64;
        self.note(margin.at, f64::from(margin.quarters) * 0.25 * tick + margin.then);
        self.forget_old(rate, margin.at);
        self.begun |= self.window.len() >= ENOUGH;
        if !self.begun {
            return None;
        }
        let is_another_way = self.forget_another_way(rate, margin.at);
        self.low = self.sorted[self.window.len() / LOW];
        let from = match lead {
            LeadBy::Adapted => self.low,
            LeadBy::Fixed => self.sorted[self.window.len() / 2],
        };
        Some(Reported { wanted: from - spare * tick, is_another_way })
    }

    /// Forgets all reports: they were of another clock.
    pub(super) fn clear(&mut self) {
        self.window.clear();
        self.sorted.clear();
        self.begun = false;
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

    /// Forgets what was reported long ago, where reports come seldom.
    fn forget_old(&mut self, rate: Rate, now: Tick) {
        let since = LATELY * i64::from(rate.hz());
        // Mostly none is.
        while self.window.len() > ENOUGH && self.window.front().is_some_and(|(at, _)| now.since(*at) > since) {
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

    /// Where the way became another, what was reported before says nothing of it. Says whether it did.
    fn forget_another_way(&mut self, rate: Rate, now: Tick) -> bool {
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
            let calm = i64::from(rate.hz()) * (self.patience + 4);
            self.patience = match self.gave {
                Some(gave) if now.since(gave) < calm => (2 * self.patience + 1).min(LONGEST_PATIENCE - 1),
                _ => 0,
            };
            return true;
        }
        let since = i64::from(rate.hz()) * (self.patience + 1);
        let early = self.window.partition_point(|(at, _)| now.since(*at) > since);
        let is_better = self.window.range(early..).all(|(_, margin)| *margin > self.low + least);
        if early < ENOUGH || self.window.len() - early < ENOUGH || !is_better {
            return false;
        }
        let (before, lately) = (Spread::of(self.window.range(..early)), Spread::of(self.window.range(early..)));
        let differs = before.differs(least).max(lately.differs(least));
        let is_better = lately.worst > before.low + differs && lately.median > before.median + differs;
        if is_better {
            self.forget(early);
            self.gave = Some(now);
        }
        is_better
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

    #[test]
    fn margins_are_sorted_whatever_comes_and_goes() {
        let mut margins = Margins::default();
        for n in 1..300u32 {
            margins.note(Tick(u64::from(n)), f64::from(n.wrapping_mul(2_654_435_761) % 41));
            if n.is_multiple_of(70) {
                margins.forget(20);
            }
            let mut sorted: Vec<f64> = margins.window.iter().map(|(_, margin)| *margin).collect();
            sorted.sort_by(f64::total_cmp);
            assert_eq!(margins.sorted, sorted, "of {n}");
            assert!(sorted.len() <= WINDOW);
        }
    }
}
