//! Which ticks are due now.
//!
//! A frame may hold no tick, one, or several. [`TickLoop`] is told the time and answers with the ticks to run; after
//! a stall it runs at most `catch_up` of them and reports the rest as dropped: tick *numbers* stay tied to the clock,
//! what is lost is simulation. The clock can be shifted, which changes *when* the next tick falls, never its number.

use crate::tick::{HostNanos, Rate, Tick};

/// Half a minute at 128 Hz.
const STALE: i64 = 4096;

/// The schedule of one machine's ticks.
#[derive(Clone, Debug)]
pub struct TickLoop {
    rate: Rate,
    base: Tick,
    origin: HostNanos,
    newest: Tick,
    catch_up: u64,
}

/// What [`TickLoop::advance`] asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Due {
    /// First tick to run.
    pub first: Tick,
    /// How many ticks to run, from `first` on; may be 0.
    pub count: u64,
    /// Tick numbers passed over just before `first`.
    pub dropped: u64,
}

impl Due {
    /// The ticks to run, in order.
    pub fn ticks(self) -> impl Iterator<Item = Tick> {
        (self.first.0..self.first.0 + self.count).map(Tick)
    }
}

impl TickLoop {
    /// A loop whose tick `base` fell due at `origin` and counts as run, as do all up to the one due at `now`.
    pub fn new(rate: Rate, base: Tick, origin: HostNanos, now: HostNanos) -> Self {
        let catch_up = u64::from(rate.hz() / 4).max(2);
        let mut made = Self { rate, base, origin, newest: base, catch_up };
        made.newest = made.tick_at(now);
        made
    }

    /// The newest tick handed out.
    pub const fn newest(&self) -> Tick {
        self.newest
    }

    /// The rate it was made with.
    pub const fn rate(&self) -> Rate {
        self.rate
    }

    /// The tick from which due times are counted.
    pub const fn base(&self) -> Tick {
        self.base
    }

    /// When `tick` is due on this machine's clock. Ticks before the base are due at the origin.
    pub fn due(&self, tick: Tick) -> HostNanos {
        self.origin.plus(self.rate.due(tick.0.saturating_sub(self.base.0)))
    }

    /// Nanoseconds since the base fell due, as the clock stands now.
    pub fn since_base(&self, now: HostNanos) -> i64 {
        now.since(self.origin)
    }

    /// The newest tick due at `now`, whether run or not.
    pub fn tick_at(&self, now: HostNanos) -> Tick {
        Tick(self.base.0 + self.rate.ticks_in(now.since(self.origin)))
    }

    /// Hands out the ticks due up to `now`.
    #[must_use]
    pub fn advance(&mut self, now: HostNanos) -> Due {
        let target = self.tick_at(now).max(self.newest);
        let behind = target.0 - self.newest.0;
        let count = behind.min(self.catch_up);
        let due = Due { first: Tick(target.0 - count + 1), count, dropped: behind - count };
        self.newest = target;
        due
    }

    /// The first tick that [`advance`](Self::advance) would hand out at `now`, if any is due: those before it that were not yet
    /// handed out will be passed over.
    pub fn first_due(&self, now: HostNanos) -> Tick {
        let target = self.tick_at(now).max(self.newest);
        Tick(target.0 - (target.0 - self.newest.0).min(self.catch_up) + 1)
    }

    /// Whether the last [`advance`](Self::advance) lies so far back that 16-bit ticks received since then can no
    /// longer be told apart: after such a stall everything still waiting in a socket is best thrown away.
    pub fn is_stale(&self, now: HostNanos) -> bool {
        self.tick_at(now).since(self.newest) > STALE
    }

    /// Declares every tick up to `tick` as past: they will not be handed out.
    pub fn pass_over(&mut self, tick: Tick) {
        self.newest = self.newest.max(tick);
    }

    /// When the next tick is due.
    pub fn deadline(&self) -> HostNanos {
        self.due(self.newest.next())
    }

    /// How far `now` lies between the newest tick and the next, 0 to 1.
    pub fn fraction(&self, now: HostNanos) -> f32 {
        let from = self.due(self.newest);
        let span = self.deadline().since(from).max(1);
        let into = now.since(from).clamp(0, span);
        (into as f64 / span as f64) as f32
    }

    /// Moves all future due times: negative makes ticks fall earlier.
    pub fn shift(&mut self, nanos: i64) {
        self.origin = self.origin.plus(nanos);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(hz: u32) -> TickLoop {
        TickLoop::new(Rate::new(hz).unwrap(), Tick(100), HostNanos(1_000), HostNanos(1_000))
    }

    proptest! {
        #[test]
        fn every_number_is_handed_out_or_reported_once(steps in prop::collection::vec(0i64..900_000_000, 1..60)) {
            let mut ticks = at(60);
            let mut now = HostNanos(1_000);
            let mut expected = Tick(101);
            for step in steps {
                now = now.plus(step);
                let due = ticks.advance(now);
                prop_assert_eq!(due.first, expected.offset(due.dropped as i64));
                prop_assert!(due.count <= 15);
                expected = due.first.offset(due.count as i64);
                prop_assert!(ticks.deadline() > now);
            }
        }

        #[test]
        fn ten_hours_do_not_drift(hz in 1u32..=1000) {
            let mut ticks = at(hz);
            let hours = HostNanos(1_000 + 36_000_000_000_000);
            let _ = ticks.advance(hours);
            prop_assert_eq!(ticks.newest(), Tick(100 + 36_000 * u64::from(hz)));
        }
    }

    #[test]
    fn a_shift_moves_the_next_tick_and_no_number() {
        let mut ticks = at(10);
        assert_eq!(ticks.advance(HostNanos(100_001_000)).first, Tick(101));
        ticks.shift(40_000_000);
        assert_eq!(ticks.advance(HostNanos(200_001_000)).count, 0);
        let due = ticks.advance(HostNanos(240_001_000));
        assert_eq!((due.first, due.count, due.dropped), (Tick(102), 1, 0));
    }

    #[test]
    fn fraction_runs_from_zero_to_one_between_ticks() {
        let mut ticks = at(10);
        let _ = ticks.advance(HostNanos(100_001_000));
        assert_eq!(ticks.fraction(HostNanos(100_001_000)), 0.0);
        assert!((ticks.fraction(HostNanos(150_001_000)) - 0.5).abs() < 1e-6);
        assert_eq!(ticks.fraction(HostNanos(950_001_000)), 1.0);
    }
}
