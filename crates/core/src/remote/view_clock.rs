//! How far in the past others are drawn.

use crate::tick::HostNanos;

/// How far behind the smoothed arrival of snapshots remotes are drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ViewDelay {
    /// Two snapshot intervals and two standard deviations of arrival jitter.
    Auto,
    /// So many milliseconds.
    Millis(u32),
}

/// Which tick to draw: the smoothed timeline of arrivals minus the view delay.
#[derive(Clone, Debug, Default)]
pub(crate) struct ViewClock {
    /// Mean and variance of (arrival − due time of the tick), in ns.
    mean: f64,
    variance: f64,
    count: f64,
    /// How far the drawn time lies behind the own clock, in ns, and when that was last moved: towards mean and delay, so
    /// slowly that drawn time never steps back, however the mean jumps while it is of few arrivals.
    behind: Option<(f64, HostNanos)>,
}

/// Arrivals over which the timeline is smoothed.
const SMOOTHED_OVER: f64 = 64.0;
/// An arrival so far off starts the smoothing anew: the other side or we stood still.
const ANEW_NANOS: f64 = 500_000_000.0;
/// Drawn time runs at most this share faster or slower than the own clock.
const SLEW: f64 = 0.08;

impl ViewClock {
    /// A snapshot of a tick due `due` ns after the base arrived at `now`.
    pub(crate) fn arrived(&mut self, now: HostNanos, due: i64) {
        let offset = (now.0 - due) as f64;
        let off = offset - self.mean;
        if self.count == 0.0 || off.abs() > ANEW_NANOS {
            // Where the other side stood still, so does what is drawn of it: no slew makes that up.
            *self = Self { mean: offset, variance: 0.0, count: 1.0, behind: None };
            return;
        }
        self.count = if self.count < SMOOTHED_OVER { self.count + 1.0 } else { SMOOTHED_OVER };
        let share = 1.0 / self.count;
        self.mean += off * share;
        self.variance += (off * off - self.variance) * share;
    }

    /// The delay wanted, in ns.
    fn wanted(&self, delay: ViewDelay, interval: i64) -> f64 {
        match delay {
            ViewDelay::Millis(ms) => f64::from(ms) * 1e6,
            ViewDelay::Auto => 2.0 * interval as f64 + 2.0 * libm::sqrt(self.variance),
        }
    }

    /// Moves the drawn time towards where it is wanted.
    pub(crate) fn advance(&mut self, now: HostNanos, delay: ViewDelay, interval: i64) {
        if self.count == 0.0 {
            return;
        }
        let wanted = self.mean + self.wanted(delay, interval);
        let behind = match self.behind {
            None => wanted,
            Some((behind, at)) => {
                let most = now.since(at).max(0) as f64 * SLEW;
                behind + (wanted - behind).clamp(-most, most)
            }
        };
        self.behind = Some((behind, now));
    }

    /// The time to draw, in ns since the base tick; `None` before anything arrived.
    pub(crate) fn shown(&self, now: HostNanos) -> Option<f64> {
        self.behind.map(|(behind, _)| (now.0 as f64 - behind).max(0.0))
    }

    /// The delay in force behind the smoothed timeline, in ns.
    pub(crate) fn delay(&self) -> i64 {
        self.behind.map_or(0, |(behind, _)| (behind - self.mean) as i64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_drawn_timeline_lags_by_the_delay_and_ignores_transit() {
        let mut clock = ViewClock::default();
        for n in 0..200i64 {
            let jitter = if n % 2 == 0 { 3_000_000 } else { -3_000_000 };
            clock.arrived(HostNanos(7_000_000_000 + n * 50_000_000 + jitter), n * 50_000_000);
        }
        let now = HostNanos(7_000_000_000 + 10_000_000_000);
        clock.advance(now, ViewDelay::Millis(100), 50_000_000);
        let drawn = clock.shown(now).unwrap();
        assert!((drawn - 9_900_000_000.0).abs() < 3e6, "{drawn}");
        let auto = clock.wanted(ViewDelay::Auto, 50_000_000);
        assert!((auto - 106e6).abs() < 1e6, "{auto}");
    }

    #[test]
    fn before_anything_arrived_there_is_nothing_to_show() {
        let mut clock = ViewClock::default();
        clock.advance(HostNanos(5), ViewDelay::Auto, 50_000_000);
        assert_eq!(clock.shown(HostNanos(5)), None);
    }
}
