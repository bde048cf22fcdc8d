//! How late snapshots come for the time that is drawn of them.
//!
//! Between the one before it and itself, a snapshot is needed from the moment on at which the one before is drawn. What it needs of a view
//! delay is how much later it came than that, on the smoothed timeline of arrivals: its own lateness, and the whole gap where those between were lost.

use std::collections::VecDeque;

use crate::tick::HostNanos;

/// For so long a need is remembered.
const REMEMBERED: i64 = 10_000_000_000;
/// No more than this many.
const MOST: usize = 2048;
/// With fewer nothing is known.
const ENOUGH: usize = 16;
/// No more is needed than this, in nanoseconds: what is later is an outage.
const LONGEST: f64 = 1e9;

/// What snapshots needed lately.
#[derive(Clone, Debug, Default)]
pub(super) struct Lateness {
    /// When they came, and what they needed before the mean of the timeline is taken off.
    needs: VecDeque<(HostNanos, f64)>,
    /// What the newest shows, in nanoseconds since the base.
    newest: Option<i64>,
}

impl Lateness {
    /// A snapshot arrived that shows what was due so many nanoseconds after the base.
    pub(super) fn arrived(&mut self, now: HostNanos, due: i64) {
        // One that was overtaken is needed no more: others stand in for it.
        if self.newest.is_some_and(|newest| due <= newest) {
            return;
        }
        if let Some(before) = self.newest.replace(due) {
            self.needs.push_back((now, (now.0 - before) as f64));
        }
        while self.needs.len() > MOST || self.needs.front().is_some_and(|(at, _)| now.since(*at) > REMEMBERED) {
            self.needs.pop_front();
        }
    }

    /// The delay behind a timeline of such a mean with which no more than a share of them would have been too late, in nanoseconds; `None` before
    /// enough came.
    pub(super) fn delay(&self, mean: f64, share: f64) -> Option<f64> {
        if self.needs.len() < ENOUGH {
            return None;
        }
        let mut all: Vec<f64> = self.needs.iter().map(|(_, need)| need - mean).collect();
        let late = ((all.len() as f64 * share) as usize).min(all.len() - 1);
        let (_, need, _) = all.select_nth_unstable_by(late, |a, b| b.total_cmp(a));
        Some(need.clamp(0.0, LONGEST))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MS: i64 = 1_000_000;

    /// What is needed of snapshots every 50 ms that come a tenth of a second later, some of them so much later still, some not at all.
    fn needs(count: i64, late: impl Fn(i64) -> Option<i64>, share: f64) -> f64 {
        let mut lateness = Lateness::default();
        let arrivals = (0..count).filter_map(|n| Some((n, n * 50 + 100 + late(n)?)));
        for (n, at) in arrivals {
            lateness.arrived(HostNanos(at * MS), n * 50 * MS);
        }
        lateness.delay(100e6, share).expect("enough came") / 1e6
    }

    #[test]
    fn on_an_even_way_an_interval_is_enough() {
        assert_eq!(needs(200, |_| Some(0), 0.0), 50.0);
    }

    #[test]
    fn the_worst_share_is_left_out() {
        let late = |n: i64| Some(if n % 50 == 0 { 40 } else { n % 3 });
        assert_eq!(needs(200, late, 0.0), 90.0);
        assert_eq!(needs(200, late, 0.03), 52.0);
    }

    #[test]
    fn who_lost_some_needs_the_gap() {
        let lost = |n: i64| (n % 40 != 7 && n % 40 != 8).then_some(0);
        assert_eq!(needs(200, lost, 0.01), 150.0, "two in a row");
        assert_eq!(needs(200, lost, 0.05), 50.0);
    }

    #[test]
    fn what_was_long_ago_is_forgotten() {
        assert_eq!(needs(400, |n| Some(if n < 150 { 30 } else { 0 }), 0.0), 50.0);
    }

    #[test]
    fn one_that_was_overtaken_is_not_waited_for() {
        let mut lateness = Lateness::default();
        for n in 0..40 {
            lateness.arrived(HostNanos((n * 50 + 100) * MS), n * 50 * MS);
            lateness.arrived(HostNanos((n * 50 + 101) * MS), (n - 3) * 50 * MS);
        }
        assert_eq!(lateness.delay(100e6, 0.0), Some(50e6));
    }
}
