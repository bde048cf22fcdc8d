//! What time it is at the server, as far as a client can know.
//!
//! Time is counted in nanoseconds since the base of the server's ticks fell due. The server's clock and one's own differ by an offset, which is
//! known as well as the way there and back is alike: half the round trip is taken for each.

use std::collections::VecDeque;

use crate::tick::HostNanos;
use crate::wire::Welcome;

/// For how long a sample counts: a clock that gains 500 ppm is off by 2.5 ms then.
const WINDOW: i64 = 5_000_000_000;
/// A measured round trip longer than this says nothing.
const LONGEST: i64 = 2_000_000_000;

/// One exchange: the offset that follows from it, and how long it took.
#[derive(Clone, Copy, Debug)]
struct Sample {
    at: HostNanos,
    offset: i64,
    delay: i64,
}

/// What is known of the server's clock.
#[derive(Clone, Debug)]
pub(super) struct ServerTime {
    /// What the server's clock showed when the base fell due, in microseconds, modulo 2^32.
    base_us: u32,
    /// Server time less the time on this machine's clock.
    offset: i64,
    /// The samples of the window that may yet be the best: each took longer than those before it, and is newer.
    best: VecDeque<Sample>,
    /// The last exchange's transit, and how much transits differ: the interarrival jitter of RFC 3550, section 6.4.1.
    transit: Option<i64>,
    jitter: f64,
}

impl ServerTime {
    /// What a welcome says; `round_trip` was measured while joining.
    pub(super) fn new(now: HostNanos, sent_us: u32, welcome: &Welcome, round_trip: i64) -> Self {
        let since = welcome.since_base_us as i64 * 1000;
        Self {
            base_us: sent_us.wrapping_sub(welcome.since_base_us as u32),
            offset: since + round_trip / 2 - now.0,
            best: VecDeque::new(),
            transit: None,
            jitter: 0.0,
        }
    }

    /// Server time now.
    pub(super) const fn at(&self, now: HostNanos) -> i64 {
        now.0 + self.offset
    }

    /// How much transits differ, in nanoseconds.
    pub(super) const fn jitter(&self) -> i64 {
        self.jitter as i64
    }

    /// The shortest round trip of the window, in nanoseconds.
    pub(super) fn shortest(&self) -> Option<i64> {
        self.best.front().map(|best| best.delay)
    }

    /// The server's clock in an envelope, as server time.
    fn since_base(&self, now: HostNanos, sent_us: u32) -> i64 {
        // The clock on the wire wraps: it is the moment nearest to what is believed.
        let believed = self.at(now) / 1000;
        let off = sent_us.wrapping_sub(self.base_us).wrapping_sub(believed as u32) as i32;
        (believed + i64::from(off)) * 1000
    }

    /// Something arrived that left by the server's clock at `sent_us`, and acknowledged what gave this round trip.
    pub(super) fn exchanged(&mut self, now: HostNanos, sent_us: u32, round_trip: i64) {
        let since = self.since_base(now, sent_us);
        let transit = now.0 - since;
        if let Some(before) = self.transit.replace(transit) {
            self.jitter += ((transit - before).unsigned_abs() as f64 - self.jitter) / 16.0;
        }
        if !(0..=LONGEST).contains(&round_trip) {
            return;
        }
        let sample = Sample { at: now, offset: since + round_trip / 2 - now.0, delay: round_trip };
        while self.best.back().is_some_and(|last| last.delay >= sample.delay) {
            self.best.pop_back();
        }
        self.best.push_back(sample);
        while self.best.front().is_some_and(|first| now.since(first.at) > WINDOW) {
            self.best.pop_front();
        }
        self.offset = self.best.front().map_or(self.offset, |best| best.offset);
    }

    /// The server told its time; half of this round trip is added.
    pub(super) const fn told(&mut self, now: HostNanos, since: i64, round_trip: i64) {
        self.offset = since + round_trip / 2 - now.0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A server whose clock is this far ahead and gains so many millionths; the way up and down takes what is said.
    struct Pair {
        ahead: i64,
        ppm: i64,
        time: ServerTime,
    }

    const MS: i64 = 1_000_000;
    /// The server's clock shows this when its base falls due: the clock on the wire wraps soon.
    const BEGUN: i64 = (u32::MAX as i64 - 3_000_000) * 1000;

    impl Pair {
        fn new(ahead: i64, ppm: i64) -> Self {
            let welcome = Welcome {
                asked_us: 0,
                slot: 0,
                base: 0,
                since_base_us: 0,
                rate: 60,
                snapshot_every: 3,
                frame_us: 16_000,
                gone_ms: 5000,
            };
            let time = ServerTime::new(HostNanos(-ahead), (BEGUN / 1000) as u32, &welcome, 0);
            Self { ahead, ppm, time }
        }

        /// Server time while the client's clock shows `local`.
        fn truth(&self, local: i64) -> i64 {
            let since = local + self.ahead;
            since + since * self.ppm / 1_000_000
        }

        /// An exchange that left the client at `local`. Gives how far off the client is then.
        fn exchange(&mut self, local: i64, up: i64, down: i64) -> i64 {
            let (there, back) = (local + up, local + up + down);
            let sent_us = ((BEGUN + self.truth(there)) / 1000) as u32;
            self.time.exchanged(HostNanos(back), sent_us, up + down);
            self.time.at(HostNanos(back)) - self.truth(back)
        }
    }

    #[test]
    fn of_a_few_seconds_the_quickest_exchange_counts_and_the_rest_is_jitter() {
        let mut pair = Pair::new(700 * MS, 0);
        // In one exchange of ten nothing waits on either way; in the others the way up does.
        let off: Vec<i64> = (0..300)
            .map(|n: i64| {
                let waits = if n % 10 == 0 { 0 } else { n * 37 % 60 };
                pair.exchange(n * 50 * MS, (40 + waits) * MS, 40 * MS)
            })
            .collect();
        assert!(off[1..].iter().all(|off| off.abs() <= 1000), "to a microsecond: {:?}", off.iter().max());
        assert_eq!(pair.time.shortest(), Some(80 * MS));
        assert_eq!(pair.time.jitter(), 0, "nothing waited on the way down");
        // The way becomes longer by as much both ways: after the window nothing quicker is remembered.
        for n in 300..500 {
            let off = pair.exchange(n * 50 * MS, 90 * MS, 90 * MS).abs();
            assert!(off <= if n < 402 { 30 * MS } else { 1000 }, "{n}: {off}");
        }
        assert_eq!(pair.time.shortest(), Some(180 * MS));
    }

    #[test]
    fn a_clock_that_gains_is_followed_to_what_it_gains_in_the_window() {
        for ppm in [-500, 100, 500] {
            let mut pair = Pair::new(-300 * MS, ppm);
            let off: Vec<i64> = (0..6000).map(|n: i64| pair.exchange(n * 50 * MS, 40 * MS, 40 * MS)).collect();
            let worst = off[10..].iter().map(|off| off.abs()).max().unwrap_or_default();
            assert!(worst <= WINDOW * ppm.abs() / 1_000_000 + 2000, "{ppm}: {worst}");
        }
    }

    #[test]
    fn a_way_that_is_longer_there_than_back_deceives_by_half_of_the_difference() {
        let mut pair = Pair::new(0, 0);
        let off = (0..50).map(|n| pair.exchange(n * 50 * MS, 90 * MS, 30 * MS)).last();
        assert!(off.is_some_and(|off| (off - 30 * MS).abs() <= 1000), "{off:?}");
    }

    #[test]
    fn jitter_is_what_successive_transits_differ_by() {
        let mut pair = Pair::new(0, 0);
        // Every other one waits 8 ms on its way down: each differs by 8 ms from the one before.
        for n in 0..400 {
            pair.exchange(n * 50 * MS, 40 * MS, (40 + n % 2 * 8) * MS);
        }
        assert!((pair.time.jitter() - 8 * MS).abs() < MS / 100, "{}", pair.time.jitter());
    }
}
