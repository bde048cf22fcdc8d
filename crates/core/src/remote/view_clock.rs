//! How far in the past others are drawn.

use crate::tick::HostNanos;

/// How far behind the smoothed arrival of snapshots remotes are drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ViewDelay {
    /// Two snapshot intervals and two standard deviations of arrival jitter.
    Auto,
    /// Milliseconds.
    Millis(u32),
}

/// Which tick to draw: the smoothed timeline of arrivals minus the view delay.
#[derive(Clone, Debug, Default)]
pub(crate) struct ViewClock {
    /// Mean and variance of (arrival − due time of the tick), in ns.
    mean: f64,
    variance: f64,
    count: f64,
    drawn: Option<Slew>,
}

/// How far the drawn time lies behind the own clock: it goes towards where it is wanted, and never steps back.
#[derive(Clone, Copy, Debug)]
struct Slew {
    /// Nanoseconds behind at `since`.
    from: f64,
    since: HostNanos,
    /// Where it is wanted.
    to: f64,
    /// Whether the other side stood still, or the way became another: no slew makes that up.
    anew: bool,
}

impl Slew {
    fn at(&self, now: HostNanos) -> f64 {
        let (off, passed) = (self.to - self.from, now.since(self.since).max(0) as f64);
        match self.anew {
            // What is drawn stands still until time has come to where it is.
            true => self.from + off.min(passed),
            false => self.from + off.clamp(-passed * SLEW, passed * SLEW),
        }
    }
}

/// Arrivals over which the timeline is smoothed.
const SMOOTHED_OVER: f64 = 64.0;
/// An arrival further off than this starts the smoothing anew: the other side or we stood still.
const ANEW_NANOS: f64 = 500_000_000.0;
/// Drawn time runs at most this share faster or slower than the own clock.
const SLEW: f64 = 0.08;
/// A client that did not look for this long stood still: when what waited meanwhile arrived is not known.
const STOOD_STILL_NANOS: i64 = 100_000_000;

impl ViewClock {
    /// A snapshot of a tick due `due` ns after the base arrived at `now`.
    pub(crate) fn arrived(&mut self, now: HostNanos, due: i64) {
        if self.drawn.is_some_and(|drawn| now.since(drawn.since) > STOOD_STILL_NANOS) {
            return;
        }
        let offset = (now.0 - due) as f64;
        let off = offset - self.mean;
        if self.count == 0.0 || off.abs() > ANEW_NANOS {
            let drawn = self.drawn.map(|drawn| Slew { anew: true, ..drawn });
            *self = Self { mean: offset, variance: 0.0, count: 1.0, drawn };
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
        let to = self.mean + self.wanted(delay, interval);
        self.drawn = Some(match self.drawn {
            None => Slew { from: to, since: now, to, anew: false },
            Some(drawn) => {
                // Until now it went towards where it was wanted before: a frame may have been drawn of that.
                let from = drawn.at(now);
                Slew { from, since: now, to, anew: drawn.anew && (to - from).abs() > 1.0 }
            }
        });
    }

    /// The time to draw, in ns since the base tick; `None` before anything arrived.
    pub(crate) fn shown(&self, now: HostNanos) -> Option<f64> {
        self.drawn.map(|drawn| (now.0 as f64 - drawn.at(now)).max(0.0))
    }

    /// The delay in force behind the smoothed timeline, in ns.
    pub(crate) fn delay(&self) -> i64 {
        self.drawn.map_or(0, |drawn| (drawn.from - self.mean) as i64)
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

    /// A clock fed every 50 ms for two seconds, with what was due a tenth of a second before, and looked at every 10 ms.
    fn fed() -> ViewClock {
        let mut clock = ViewClock::default();
        for n in 10..200i64 {
            if n % 5 == 0 {
                clock.arrived(HostNanos(n * 10_000_000), n * 10_000_000 - 100_000_000);
            }
            clock.advance(HostNanos(n * 10_000_000), ViewDelay::Auto, 50_000_000);
        }
        clock
    }

    #[test]
    fn who_stood_still_draws_on_forwards_from_where_it_would_have_been() {
        let mut clock = fed();
        // It stands still for 0.7 s, draws, and only then reads what waited.
        let now = HostNanos(2_690_000_000);
        let drawn = clock.shown(now).unwrap();
        for n in 200..269i64 {
            clock.arrived(now, n * 10_000_000 - 100_000_000);
        }
        clock.advance(now, ViewDelay::Auto, 50_000_000);
        assert_eq!(clock.shown(now), Some(drawn));
        let later = clock.shown(now.plus(10_000_000)).unwrap() - drawn;
        assert!((9e6..11e6).contains(&later), "{later}");
    }

    #[test]
    fn where_the_way_becomes_longer_by_a_second_what_is_drawn_stands_still_meanwhile() {
        let mut clock = fed();
        let mut before = clock.shown(HostNanos(2_000_000_000)).unwrap();
        for n in 200..600i64 {
            let now = HostNanos(n * 10_000_000);
            if n % 5 == 0 {
                clock.arrived(now, n * 10_000_000 - 1_100_000_000);
            }
            clock.advance(now, ViewDelay::Auto, 50_000_000);
            let shown = clock.shown(now).unwrap();
            assert!(shown >= before, "steps back by {} ns", before - shown);
            before = shown;
        }
        assert!((before - 4_790e6).abs() < 2e6, "{before}");
    }

    #[test]
    fn before_anything_arrived_there_is_nothing_to_show() {
        let mut clock = ViewClock::default();
        clock.advance(HostNanos(5), ViewDelay::Auto, 50_000_000);
        assert_eq!(clock.shown(HostNanos(5)), None);
    }
}
