//! Sending no more often than a way carries.
//!
//! A way that is given more than it carries keeps it waiting: round trips grow for as long as it is fed. So what is measured is by how much they
//! grew above the least of the last seconds, without what grew on the way back; that is told by the times of leaving of what acknowledges. Where that is
//! long for a while, messages are sent as far apart as what was acknowledged lately shows to be carried; where it is short, they come
//! nearer again by little steps. Delay as the sign of a full queue, and a target for it, are those of RFC 6817.

use std::collections::VecDeque;

use crate::tick::{HostNanos, Rate};

/// Whether messages are sent as often as is set, or less often where the way carries less.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SendRate {
    /// As often as is set.
    #[default]
    Fixed,
    /// At most so often, and no more than the way carries.
    Adapted,
}

impl SendRate {
    /// All of them, the usual one first.
    pub const ALL: [Self; 2] = [Self::Fixed, Self::Adapted];
}

/// Waiting longer than this on the way, for a while, is a queue that fills.
const LONG: i64 = 100_000_000;
/// Waiting less than this, it is empty.
const SHORT: i64 = 40_000_000;
/// The while.
const WHILE: i64 = 300_000_000;
/// Acknowledgements needed in it.
const ENOUGH: usize = 4;
/// Time between two decisions: what was decided shows after that.
const PAUSE: i64 = 1_000_000_000;
/// The least delays are those of one or two times so long.
const REMEMBERED: i64 = 10_000_000_000;
/// Over so long what was carried is counted.
const COUNTED: i64 = 500_000_000;
/// Of what is carried so much is used, so that what waits goes; less where it waits for longer than that.
const USED: f64 = 0.75;
const EMPTIED: i64 = 300_000_000;
const USED_LONG: f64 = 0.4;
/// In a step messages come nearer by this share.
const NEARER: f64 = 0.1;
/// Bytes of a datagram's headers, IPv4 and UDP.
const HEADERS: u32 = 28;
/// Datagrams remembered.
const SENT: usize = 256;

/// The least of the last seconds: of those now, and of those before.
#[derive(Clone, Copy, Debug)]
struct Least {
    since: HostNanos,
    now: i64,
    before: i64,
}

impl Least {
    const fn new(now: HostNanos, value: i64) -> Self {
        Self { since: now, now: value, before: value }
    }

    fn take(&mut self, now: HostNanos, value: i64) -> i64 {
        if now.since(self.since) > REMEMBERED {
            *self = Self { since: now, now: value, before: self.now };
        }
        self.now = self.now.min(value);
        value - self.now.min(self.before)
    }
}

/// What is known of the way of one's own datagrams.
#[derive(Clone, Debug, Default)]
pub(crate) struct Pacing {
    /// Bytes of the last ones.
    sent: VecDeque<u32>,
    /// When bytes were acknowledged, and how many.
    carried: VecDeque<(HostNanos, u32)>,
    /// Round trips, and transits of what came back on a clock of its own.
    round_trip: Option<Least>,
    back: Option<Least>,
    /// What the clock of the other side showed first, less one's own, in microseconds.
    offset_us: Option<u32>,
    /// How long it waited, lately.
    waited: VecDeque<(HostNanos, i64)>,
    /// Nanoseconds between two messages, where that is more than is set.
    apart: f64,
    /// When that was decided last, and how long it had waited then.
    decided: Option<(HostNanos, i64)>,
}

impl Pacing {
    /// A datagram of so many bytes leaves.
    pub(crate) fn sent(&mut self, bytes: usize) {
        self.sent.push_back(bytes as u32 + HEADERS);
        if self.sent.len() > SENT {
            self.sent.pop_front();
        }
    }

    /// A datagram of so many bytes is known to have come.
    pub(crate) fn arrived(&mut self, now: HostNanos, bytes: u32) {
        self.carried.push_back((now, bytes + HEADERS));
    }

    /// Something that left the other side by its clock at `sent_us` acknowledges; a round trip was measured by it. `usual` nanoseconds are set
    /// to lie between messages.
    pub(crate) fn told(&mut self, now: HostNanos, sent_us: u32, round_trip: i64, usual: i64) {
        while self.carried.front().is_some_and(|(at, _)| now.since(*at) > COUNTED) {
            self.carried.pop_front();
        }
        let ours = (now.0 / 1000) as u32;
        let offset = *self.offset_us.get_or_insert(ours.wrapping_sub(sent_us));
        let back = i64::from(ours.wrapping_sub(sent_us).wrapping_sub(offset) as i32) * 1000;
        let grew = self.round_trip.get_or_insert(Least::new(now, round_trip)).take(now, round_trip);
        let grew_back = self.back.get_or_insert(Least::new(now, back)).take(now, back);
        self.waited.push_back((now, (grew - grew_back).max(0)));
        // Where acknowledgements are few, the while is as long as it takes to have enough.
        while self.waited.len() > ENOUGH && self.waited.front().is_some_and(|(at, _)| now.since(*at) > WHILE) {
            self.waited.pop_front();
        }
        self.decide(now, usual);
    }

    fn decide(&mut self, now: HostNanos, usual: i64) {
        // What left before the last decision shows nothing of it.
        let is_early = self.decided.is_some_and(|(at, waited)| now.since(at) < PAUSE + waited);
        if is_early || self.waited.len() < ENOUGH {
            return;
        }
        let least = self.waited.iter().map(|(_, waited)| *waited).min().unwrap_or_default();
        if least > LONG {
            // Less was sent, and it waits as long: the way became longer, and that is no queue.
            let is_in_vain = self.apart > usual as f64
                && self.decided.is_some_and(|(_, before)| before > LONG && (least - before).abs() < before / 8);
            if is_in_vain {
                self.begin_anew(now);
            } else {
                let used = if least > EMPTIED { USED_LONG } else { USED };
                let apart = self.carries().map_or(0.0, |apart| apart / used);
                self.apart = apart.max(self.apart.max(usual as f64) * 1.1);
            }
            self.decided = Some((now, least));
        } else if least < SHORT && self.apart > 0.0 {
            self.apart *= 1.0 - NEARER;
            if self.apart <= usual as f64 {
                self.apart = 0.0;
            }
            self.decided = Some((now, least));
        }
    }

    fn begin_anew(&mut self, now: HostNanos) {
        self.apart = 0.0;
        self.waited.clear();
        for least in [&mut self.round_trip, &mut self.back].into_iter().flatten() {
            *least = Least { since: now, now: i64::MAX / 4, before: i64::MAX / 4 };
        }
    }

    /// How far apart messages lie of which all is carried that can be, in nanoseconds, as what was acknowledged lately shows.
    fn carries(&self) -> Option<f64> {
        let (first, last) = (self.carried.front()?.0, self.carried.back()?.0);
        let carried: u32 = self.carried.iter().skip(1).map(|(_, bytes)| *bytes).sum();
        let each = self.sent.iter().map(|bytes| f64::from(*bytes)).sum::<f64>() / self.sent.len() as f64;
        let span = last.since(first);
        (carried > 0 && span > 0).then(|| each / (f64::from(carried) / span as f64))
    }

    /// Ticks between messages, `set` or more, at most `most`.
    pub(crate) fn every(&self, rate: Rate, set: u8, most: u8) -> u8 {
        let ticks = libm::ceil(self.apart / rate.nanos() as f64).min(f64::from(most)) as u8;
        ticks.max(set)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MS: i64 = 1_000_000;

    /// A way that carries so many bytes a second, takes what is said for each datagram, and is answered over one that waits for nothing.
    struct Way<L> {
        carries: f64,
        latency: L,
    }

    /// What came of a stretch: the longest that anything waited in a second, by second, and how many datagrams were sent in it.
    fn run(way: &Way<impl Fn(i64) -> i64>, seconds: i64) -> Vec<(i64, usize)> {
        let (rate, set) = (Rate::new(60).expect("a rate"), 3);
        let mut pacing = Pacing::default();
        let (mut free, mut since) = (0i64, 0u8);
        let mut under_way: VecDeque<(i64, i64)> = VecDeque::new();
        let mut all = vec![(0, 0); seconds as usize];
        let mut acked: Option<(i64, i64)> = None;
        for tick in 0..seconds * 60 {
            let now = tick * rate.nanos();
            since += 1;
            if since >= pacing.every(rate, set, 60) {
                since = 0;
                let takes = 350.0 / way.carries * 1e9;
                free = free.max(now) + takes as i64;
                let row = &mut all[(now / 1_000_000_000) as usize];
                *row = (row.0.max(free - now), row.1 + 1);
                pacing.sent(350 - HEADERS as usize);
                under_way.push_back((now, free + (way.latency)(now)));
            }
            // Each tick something comes back that left 40 ms ago, and says what had arrived by then.
            let then = now - 40 * MS;
            let arrived = under_way.iter().take_while(|(_, arrives)| *arrives <= then).count();
            for (left, arrives) in under_way.drain(..arrived) {
                pacing.arrived(HostNanos(now), 350 - HEADERS);
                acked = Some((left, arrives));
            }
            if let Some((left, arrives)) = acked {
                let there = (77_000_000 + then / 1000) as u32;
                let round_trip = now - left - (then - arrives);
                pacing.told(HostNanos(now), there, round_trip, 3 * rate.nanos());
            }
        }
        all
    }

    #[test]
    fn a_queue_that_fills_is_noticed_within_a_second_and_fed_no_more_than_it_carries() {
        // 20 datagrams a second are 7 kB/s.
        for carries in [1500.0, 3000.0, 5000.0] {
            let all = run(&Way { carries, latency: |_| 40 * MS }, 40);
            assert!(all[1].1 < 20, "in the second second fewer are sent: {all:?}");
            assert!(all[10..].iter().all(|(waits, _)| *waits < 700 * MS), "{carries}: {all:?}");
            let sent = all[10..].iter().map(|(_, sent)| *sent).sum::<usize>() as f64 / 30.0 * 350.0;
            assert!(sent > 0.55 * carries && sent < 1.02 * carries, "of {carries} {sent} are used: {all:?}");
        }
    }

    #[test]
    fn where_all_is_carried_nothing_is_held_back_however_it_jitters() {
        let jitter = |at: i64| 40 * MS + at / (90 * MS) * 7919 % 61 * MS;
        let all = run(&Way { carries: 1e9, latency: jitter }, 30);
        assert!(all.iter().all(|(_, sent)| *sent >= 19), "{all:?}");
    }

    #[test]
    fn a_way_that_becomes_longer_is_no_queue() {
        let all = run(&Way { carries: 1e9, latency: |at| if at < 8_000 * MS { 40 * MS } else { 240 * MS } }, 30);
        assert!(all[..8].iter().all(|(_, sent)| *sent >= 19), "{all:?}");
        assert!(all[14..].iter().all(|(_, sent)| *sent >= 19), "it is back: {all:?}");
    }

    #[test]
    fn once_more_is_carried_more_is_sent_again() {
        // A throttle that goes: as a latency that grows, and ends.
        let mut pacing = Pacing::default();
        let rate = Rate::new(60).expect("a rate");
        pacing.apart = 20.0 * rate.nanos() as f64;
        for n in 0..2000 {
            pacing.sent(300);
            let now = HostNanos(n * 16 * MS);
            pacing.arrived(now, 300);
            pacing.told(now, (now.0 / 1000) as u32, 80 * MS, 3 * rate.nanos());
        }
        assert_eq!(pacing.every(rate, 3, 60), 3, "after half a minute");
    }
}
