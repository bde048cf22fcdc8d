//! How far in the past others are drawn.

use super::lateness::Lateness;
use super::settings::{RemoteSettings, ViewBy, ViewDelay};
use crate::tick::HostNanos;

/// Which tick to draw: the smoothed timeline of arrivals minus the view delay.
#[derive(Clone, Debug, Default)]
pub(crate) struct ViewClock {
    /// Mean and variance of (arrival − due time of the tick), in ns.
    mean: f64,
    variance: f64,
    count: f64,
    drawn: Option<Slew>,
    lateness: Option<Box<Lateness>>,
    /// The delay that all but a share of the snapshots needed, and whether that is of the newest.
    needed: Option<f64>,
    is_current: bool,
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
/// What is needed less by no more than this many nanoseconds is not given back: each change is seen.
const KEPT_NANOS: f64 = 10e6;
/// A client that did not look for this long stood still: when what waited meanwhile arrived is not known.
const STOOD_STILL_NANOS: i64 = 100_000_000;

impl ViewClock {
    /// A snapshot of a tick due `due` ns after the base arrived at `now`.
    pub(crate) fn arrived(&mut self, now: HostNanos, due: i64, settings: &RemoteSettings) {
        if self.drawn.is_some_and(|drawn| now.since(drawn.since) > STOOD_STILL_NANOS) {
            return;
        }
        let offset = (now.0 - due) as f64;
        let off = offset - self.mean;
        if self.count == 0.0 || off.abs() > ANEW_NANOS {
            let drawn = self.drawn.map(|drawn| Slew { anew: true, ..drawn });
            *self = Self { mean: offset, count: 1.0, drawn, ..Self::default() };
            self.note_lateness(now, due, settings);
            return;
        }
        self.count = if self.count < SMOOTHED_OVER { self.count + 1.0 } else { SMOOTHED_OVER };
        let share = 1.0 / self.count;
        self.mean += off * share;
        self.variance += (off * off - self.variance) * share;
        self.note_lateness(now, due, settings);
    }

    /// What nobody asks for is not kept.
    fn note_lateness(&mut self, now: HostNanos, due: i64, settings: &RemoteSettings) {
        self.is_current = false;
        match settings.view_by {
            ViewBy::Lateness => self.lateness.get_or_insert_default().arrived(now, due),
            ViewBy::Jitter => self.lateness = None,
        }
    }

    /// The delay wanted, in ns.
    fn wanted(&mut self, settings: &RemoteSettings, interval: i64) -> f64 {
        match (settings.view_delay, settings.view_by) {
            (ViewDelay::Millis(ms), _) => f64::from(ms) * 1e6,
            (ViewDelay::Auto, ViewBy::Jitter) => self.by_jitter(interval),
            (ViewDelay::Auto, ViewBy::Lateness) => {
                if !self.is_current {
                    self.is_current = true;
                    let needs = self.lateness.as_ref().and_then(|late| late.delay(self.mean, settings.late_share));
                    let is_kept = |needs: f64| self.needed.is_some_and(|had| (had - KEPT_NANOS..had).contains(&needs));
                    self.needed = needs.filter(|needs| !is_kept(*needs)).or(self.needed.filter(|_| needs.is_some()));
                }
                self.needed.unwrap_or_else(|| self.by_jitter(interval))
            }
        }
    }

    fn by_jitter(&self, interval: i64) -> f64 {
        2.0 * interval as f64 + 2.0 * libm::sqrt(self.variance)
    }

    /// Moves the drawn time towards where it is wanted.
    pub(crate) fn advance(&mut self, now: HostNanos, settings: &RemoteSettings, interval: i64) {
        if self.count == 0.0 {
            return;
        }
        let to = self.mean + self.wanted(settings, interval);
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

    fn by_lateness() -> RemoteSettings {
        RemoteSettings { view_by: ViewBy::Lateness, ..RemoteSettings::DEFAULT }
    }

    #[test]
    fn the_drawn_timeline_lags_by_the_delay_and_ignores_transit() {
        let mut clock = ViewClock::default();
        for n in 0..200i64 {
            let jitter = if n % 2 == 0 { 3_000_000 } else { -3_000_000 };
            clock.arrived(HostNanos(7_000_000_000 + n * 50_000_000 + jitter), n * 50_000_000, &by_lateness());
        }
        let now = HostNanos(7_000_000_000 + 10_000_000_000);
        let fixed = RemoteSettings { view_delay: ViewDelay::Millis(100), ..RemoteSettings::DEFAULT };
        clock.advance(now, &fixed, 50_000_000);
        let drawn = clock.shown(now).unwrap();
        assert!((drawn - 9_900_000_000.0).abs() < 3e6, "{drawn}");
        let auto = clock.wanted(&RemoteSettings::DEFAULT, 50_000_000);
        assert!((auto - 106e6).abs() < 1e6, "{auto}");
        let needed = clock.wanted(&by_lateness(), 50_000_000);
        assert!((needed - 53e6).abs() < 1e6, "an interval, and three milliseconds late: {needed}");
    }

    /// A clock fed every 50 ms for two seconds, with what was due a tenth of a second before, and looked at every 10 ms.
    fn fed() -> ViewClock {
        let mut clock = ViewClock::default();
        for n in 10..200i64 {
            if n % 5 == 0 {
                clock.arrived(HostNanos(n * 10_000_000), n * 10_000_000 - 100_000_000, &RemoteSettings::DEFAULT);
            }
            clock.advance(HostNanos(n * 10_000_000), &RemoteSettings::DEFAULT, 50_000_000);
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
            clock.arrived(now, n * 10_000_000 - 100_000_000, &RemoteSettings::DEFAULT);
        }
        clock.advance(now, &RemoteSettings::DEFAULT, 50_000_000);
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
                clock.arrived(now, n * 10_000_000 - 1_100_000_000, &RemoteSettings::DEFAULT);
            }
            clock.advance(now, &RemoteSettings::DEFAULT, 50_000_000);
            let shown = clock.shown(now).unwrap();
            assert!(shown >= before, "steps back by {} ns", before - shown);
            before = shown;
        }
        assert!((before - 4_790e6).abs() < 2e6, "{before}");
    }

    #[test]
    fn before_anything_arrived_there_is_nothing_to_show() {
        let mut clock = ViewClock::default();
        clock.advance(HostNanos(5), &RemoteSettings::DEFAULT, 50_000_000);
        assert_eq!(clock.shown(HostNanos(5)), None);
    }
}
