//! What a link does to datagrams, in each direction apart.
//!
//! Jitter is a slowly varying delay: neighbouring packets are alike. It is a function of time (normal values a
//! correlation time apart, blended so that the spread stays the same), hence needs no state. Packets keep their order
//! unless the reordering knob says otherwise. The *total* delay is clamped at zero, not the jitter.

use velocitas_core::MessageKind;
use velocitas_record::Conditions;
use velocitas_record::time::LabTime;
use velocitas_record::trace::DelayTrace;

use crate::chance::{Chance, Purpose};
use crate::spells::{Often, Spells};

/// Bytes of the headers of a datagram on the way, IPv4 and UDP.
const HEADERS: usize = 28;

/// When a datagram arrives: never, once or twice.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fate {
    /// First arrival; `None` when lost.
    pub arrives: Option<LabTime>,
    /// Arrival of a duplicate.
    pub again: Option<LabTime>,
}

/// One direction of one link.
#[derive(Clone, Debug)]
pub struct Pipe {
    place: u32,
    /// What it is like now.
    pub conditions: Conditions,
    /// Nothing that keeps its order arrives before this.
    floor: LabTime,
    /// Jitter values at the two ends of the correlation time last asked for.
    cached: Option<(u64, f64, f64)>,
    /// Of each kind, what was sent last.
    sent: [Sent; MessageKind::ALL.len()],
    bursts: Spells,
    outages: Spells,
    /// Bytes that waited when one was sent last, and when that was.
    waiting: (f64, LabTime),
}

/// What was sent last of a kind.
#[derive(Clone, Copy, Debug, Default)]
struct Sent {
    /// How many datagrams in all.
    count: u64,
    /// The tick of the last one, and how many there were of that tick.
    tick: Option<u64>,
    of_tick: u32,
}

impl Sent {
    /// The names of the next datagram: an index and, among several of that index, an ordinal.
    fn next(&mut self, tick: Option<u64>) -> (u64, u32) {
        let index = tick.unwrap_or(self.count);
        self.count += 1;
        self.of_tick = if tick.is_some() && tick == self.tick { self.of_tick + 1 } else { 0 };
        self.tick = tick;
        (index, self.of_tick)
    }
}

/// The names a datagram has in the book of luck.
#[derive(Clone, Copy, Debug)]
pub struct Ticket {
    /// What it is.
    pub kind: MessageKind,
    /// Its tick since the session's base, if it is about one. Those that are not are counted: sequence numbers would hang on
    /// how many snapshots are sent.
    pub tick: Option<u64>,
}

impl Pipe {
    /// A direction of a link; `place` must differ for each.
    pub const fn new(place: u32, conditions: Conditions) -> Self {
        Self {
            place,
            conditions,
            floor: LabTime::ZERO,
            cached: None,
            sent: [Sent { count: 0, tick: None, of_tick: 0 }; MessageKind::ALL.len()],
            bursts: Spells::new(0),
            outages: Spells::new(1),
            waiting: (0.0, LabTime::ZERO),
        }
    }

    /// Sends a datagram of `bytes` bytes at `now`, over a link that follows these traces.
    pub fn send(&mut self, seed: u64, now: LabTime, ticket: Ticket, bytes: usize, traces: &[DelayTrace]) -> Fate {
        let c = self.conditions;
        let kind = ticket.kind as u32;
        let (index, ordinal) = self.sent[ticket.kind as usize].next(ticket.tick);
        let queued = self.queued(now, bytes);
        let traced = c.trace.and_then(|number| traces.get(usize::from(number.0))).map(|trace| trace.at(now));
        let lossy = if self.in_burst(seed, now) { c.burst_loss } else { c.loss };
        let chance = Chance::of_several(seed, Purpose::Datagram, self.place, kind, index, ordinal);
        // Each has a draw of its own; none is asked of luck that can change nothing.
        let happens = |draw, share| share > 0.0 && chance.uniform_at(draw) < share;
        let stopped = self.is_out(seed, now) || queued.is_none() || traced == Some(None);
        let (lost, doubled, overtaken) =
            (stopped || happens(0, lossy), happens(1, c.duplication), happens(2, c.reordering));
        let more = queued.unwrap_or(0.0) + traced.flatten().unwrap_or(0.0);
        let delay = (c.latency_ms + c.jitter_ms * self.wander(seed, now)).max(0.0) + more;
        let mut at = now.plus(LabTime::from_millis(delay));
        let gate = LabTime::from_millis(c.bunch_ms).0;
        if gate > 0 {
            at = LabTime(at.0.div_ceil(gate) * gate);
        }
        if overtaken {
            // Held back for so long that later ones pass; those keep their own order.
            at = at.plus(LabTime::from_millis(10.0 + 50.0 * chance.uniform_at(3)));
        } else {
            at = at.max(self.floor);
            if !lost {
                self.floor = at;
            }
        }
        Fate {
            arrives: (!lost).then_some(at),
            again: (doubled && !lost).then(|| at.plus(LabTime::from_millis(1.0 + 30.0 * chance.uniform_at(4)))),
        }
    }

    fn in_burst(&mut self, seed: u64, now: LabTime) -> bool {
        let Conditions { bursts, burst_ms, .. } = self.conditions;
        let often = Often { per_minute: bursts, lasts_ms: burst_ms, even: false };
        self.bursts.is_on((seed, self.place), often, now)
    }

    fn is_out(&mut self, seed: u64, now: LabTime) -> bool {
        let Conditions { outages, outage_ms, .. } = self.conditions;
        let often = Often { per_minute: outages, lasts_ms: outage_ms, even: true };
        self.outages.is_on((seed, self.place), often, now)
    }

    /// How long a datagram waits until it and all before it got through, in milliseconds; `None` where there is no room to wait.
    fn queued(&mut self, now: LabTime, bytes: usize) -> Option<f64> {
        let Conditions { bandwidth, queue, .. } = self.conditions;
        let (waited, since) = std::mem::replace(&mut self.waiting, (0.0, now));
        if bandwidth <= 0.0 {
            return Some(0.0);
        }
        let a_ms = bandwidth / 8.0;
        let left = (waited - a_ms * now.minus(since).millis()).max(0.0);
        let whole = left + (bytes + HEADERS) as f64;
        // What is on its way through waits for nobody.
        let fits = left == 0.0 || whole <= queue * 1000.0;
        self.waiting = (if fits { whole } else { left }, now);
        fits.then(|| whole / a_ms)
    }

    /// The delay's deviation at a moment, in standard deviations.
    fn wander(&mut self, seed: u64, now: LabTime) -> f64 {
        let grid = LabTime::from_millis(self.conditions.correlation_ms.max(1.0)).0;
        let index = now.0 / grid;
        let (_, a, b) = match self.cached {
            Some(known) if known.0 == index => known,
            _ => {
                let at = |i| Chance::of(seed, Purpose::Jitter, self.place, grid as u32, i).normal();
                let fresh = (index, at(index), at(index + 1));
                self.cached = Some(fresh);
                fresh
            }
        };
        let t = (now.0 % grid) as f64 / grid as f64 * std::f64::consts::FRAC_PI_2;
        // cos² + sin² = 1: the sum of independent normals keeps its variance on the way.
        let (sin, cos) = libm::sincos(t);
        a * cos + b * sin
    }

    /// Forgets what depends on the conditions before a change.
    pub fn change(&mut self, conditions: Conditions) {
        self.conditions = conditions;
        self.cached = None;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_record::TraceNumber;

    fn delays(conditions: Conditions, count: u64) -> Vec<Option<f64>> {
        let mut pipe = Pipe::new(3, conditions);
        (0..count)
            .map(|i| {
                let now = LabTime::from_millis(i as f64 * 16.0);
                let fate = pipe.send(7, now, Ticket { kind: MessageKind::Inputs, tick: Some(i) }, 100, &[]);
                fate.arrives.map(|at| at.minus(now).millis())
            })
            .collect()
    }

    #[test]
    fn mean_spread_and_loss_are_as_set() {
        let set = Conditions { latency_ms: 80.0, jitter_ms: 12.0, loss: 0.05, ..Conditions::PERFECT };
        let all = delays(set, 40_000);
        let arrived: Vec<f64> = all.iter().flatten().copied().collect();
        let mean = arrived.iter().sum::<f64>() / arrived.len() as f64;
        let sigma = libm::sqrt(arrived.iter().map(|d| (d - mean).powi(2)).sum::<f64>() / arrived.len() as f64);
        let lost = 1.0 - arrived.len() as f64 / all.len() as f64;
        assert!((mean - 80.0).abs() < 1.0, "{mean}");
        assert!((sigma - 12.0).abs() < 1.0, "{sigma}");
        assert!((lost - 0.05).abs() < 0.005, "{lost}");
    }

    #[test]
    fn order_is_kept_unless_reordering_is_asked_for() {
        let arrivals = |reordering| {
            let set = Conditions { latency_ms: 30.0, jitter_ms: 25.0, reordering, ..Conditions::PERFECT };
            let all: Vec<f64> =
                delays(set, 4000).iter().enumerate().map(|(i, d)| i as f64 * 16.0 + d.unwrap()).collect();
            all.windows(2).filter(|w| w[1] < w[0]).count()
        };
        assert_eq!(arrivals(0.0), 0);
        assert!(arrivals(0.1) > 100);
    }

    #[test]
    fn turning_one_knob_leaves_all_other_luck_as_it_was() {
        let base = Conditions { latency_ms: 80.0, loss: 0.2, ..Conditions::PERFECT };
        let lost = |c| delays(c, 2000).iter().map(Option::is_none).collect::<Vec<_>>();
        let with_more = Conditions { latency_ms: 200.0, jitter_ms: 9.0, duplication: 0.3, reordering: 0.2, ..base };
        assert_eq!(lost(base), lost(with_more));
    }

    #[test]
    fn the_total_delay_is_clamped_at_zero_not_the_jitter() {
        let set = Conditions { latency_ms: 2.0, jitter_ms: 20.0, ..Conditions::PERFECT };
        let arrived: Vec<f64> = delays(set, 4000).into_iter().flatten().collect();
        assert!(arrived.iter().all(|d| *d >= 0.0));
        let none = arrived.iter().filter(|d| **d == 0.0).count();
        assert!((1000..2200).contains(&none), "nearly half of them: {none}");
    }

    #[test]
    fn bunches_arrive_together_at_their_gates() {
        let set = Conditions { latency_ms: 10.0, bunch_ms: 50.0, ..Conditions::PERFECT };
        let all = delays(set, 300);
        for (i, delay) in all.iter().enumerate() {
            let at = i as f64 * 16.0 + delay.unwrap_or(0.3);
            assert!((at / 50.0).fract().abs() < 1e-6, "{at}");
        }
    }

    #[test]
    fn a_gate_shorter_than_a_nanosecond_is_no_gate() {
        let set = Conditions { latency_ms: 10.0, bunch_ms: 1e-9, ..Conditions::PERFECT };
        assert!(delays(set, 3).iter().all(|d| *d == Some(10.0)));
    }

    #[test]
    fn neighbours_are_alike_and_strangers_are_not() {
        let set = Conditions { latency_ms: 200.0, jitter_ms: 10.0, correlation_ms: 160.0, ..Conditions::PERFECT };
        let all: Vec<f64> = delays(set, 20_000).into_iter().flatten().map(|d| d - 200.0).collect();
        let correlation = |lag: usize| {
            let pairs = all.iter().zip(&all[lag..]);
            pairs.map(|(a, b)| a * b).sum::<f64>() / all.iter().map(|a| a * a).sum::<f64>()
        };
        assert!(correlation(1) > 0.95, "{}", correlation(1));
        assert!(correlation(25).abs() < 0.1, "{}", correlation(25));
    }

    #[test]
    fn several_of_one_kind_about_one_tick_have_luck_of_their_own() {
        let mut pipe = Pipe::new(3, Conditions { loss: 0.5, ..Conditions::PERFECT });
        let mut lost =
            |tick| pipe.send(7, LabTime::ZERO, Ticket { kind: MessageKind::Inputs, tick }, 100, &[]).arrives.is_none();
        let apart = (0..400).filter(|tick| lost(Some(*tick)) != lost(Some(*tick))).count();
        assert!((150..250).contains(&apart), "half of them: {apart}");
        let apart = (0..400).filter(|_| lost(None) != lost(None)).count();
        assert!((150..250).contains(&apart), "{apart}");
    }

    #[test]
    fn luck_hangs_on_what_a_datagram_is_about_not_on_what_else_is_sent() {
        let set = Conditions { loss: 0.5, ..Conditions::PERFECT };
        let (mut seldom, mut often) = (Pipe::new(3, set), Pipe::new(3, set));
        let lost = |pipe: &mut Pipe, kind, tick| {
            pipe.send(7, LabTime::ZERO, Ticket { kind, tick }, 100, &[]).arrives.is_none()
        };
        for tick in 0..200 {
            lost(&mut often, MessageKind::Snapshot, Some(tick));
            if tick % 10 == 0 {
                let (kind, about) = (MessageKind::PullBack, Some(tick));
                assert_eq!(lost(&mut often, kind, about), lost(&mut seldom, kind, about));
                let kind = MessageKind::Welcome;
                assert_eq!(lost(&mut often, kind, None), lost(&mut seldom, kind, None));
            }
        }
    }

    #[test]
    fn duplicates_come_after_their_first_and_as_often_as_asked() {
        let mut pipe = Pipe::new(9, Conditions { latency_ms: 5.0, duplication: 0.2, ..Conditions::PERFECT });
        let mut doubled = 0;
        for i in 0..5000 {
            let fate = pipe.send(
                3,
                LabTime::from_millis(i as f64),
                Ticket { kind: MessageKind::Claim, tick: Some(i) },
                100,
                &[],
            );
            if let Some(again) = fate.again {
                doubled += 1;
                assert!(fate.arrives.is_some_and(|first| first < again));
            }
        }
        assert!((900..1100).contains(&doubled), "{doubled}");
    }

    /// Lengths of the stretches in which all is lost, in datagrams.
    fn runs(delays: &[Option<f64>]) -> Vec<usize> {
        delays.split(Option::is_some).map(<[_]>::len).filter(|n| *n > 0).collect()
    }

    #[test]
    fn bursts_lose_many_in_a_row_and_as_many_in_all_as_set() {
        let set = Conditions { bursts: 10.0, burst_ms: 500.0, burst_loss: 1.0, ..Conditions::PERFECT };
        let all = delays(set, 200_000);
        let share = all.iter().filter(|d| d.is_none()).count() as f64 / all.len() as f64;
        assert!((share - 10.0 * 0.5 / 60.0).abs() < 0.01, "{share}");
        let (bursts, hours) = (runs(&all), 200_000.0 * 0.016 / 3600.0);
        let (often, long) =
            (bursts.len() as f64 / (hours * 60.0), 16.0 * bursts.iter().sum::<usize>() as f64 / bursts.len() as f64);
        assert!((often - 10.0).abs() < 1.0 && (long - 500.0).abs() < 60.0, "{often} a minute of {long} ms");
        // The same share lost one by one comes seldom twice in a row.
        let single = runs(&delays(Conditions { loss: share, ..Conditions::PERFECT }, 200_000));
        assert!(single.iter().sum::<usize>() < 2 * single.len(), "1.1 in a row");
    }

    #[test]
    fn an_outage_lets_nothing_through_for_just_so_long() {
        let set = Conditions { outages: 4.0, outage_ms: 800.0, ..Conditions::PERFECT };
        let outages = runs(&delays(set, 100_000));
        // Two may follow each other closely, and one begin in the other's last moment.
        let usual = outages.iter().filter(|n| (49..=51).contains(*n)).count();
        assert!(usual * 10 > outages.len() * 9, "{usual} of {}", outages.len());
        let often = outages.len() as f64 / (100_000.0 * 0.016 / 60.0);
        assert!((often - 4.0).abs() < 0.5, "{often} a minute");
    }

    #[test]
    fn a_narrow_link_fills_its_queue_and_then_drops_what_does_not_fit() {
        // 62.5 datagrams of 128 bytes a second are 64 kbit/s.
        let narrow = |bandwidth, queue| delays(Conditions { bandwidth, queue, ..Conditions::PERFECT }, 5000);
        let wide = narrow(128.0, 4.0);
        assert!(wide.iter().all(|d| *d == Some(8.0)), "each takes the time it takes to get through: 8 ms");
        let half = narrow(32.0, 4.0);
        let (early, late) = (half[3].expect("it fits"), half[4990..].iter().flatten().copied().fold(0.0, f64::max));
        assert!(early < 100.0 && (900.0..=1000.0).contains(&late), "the queue grows to 4 kB at 4 kB/s: {early} {late}");
        let through = half.iter().flatten().count() as f64 / 5000.0;
        assert!((through - 0.5).abs() < 0.02, "half gets through: {through}");
        // A longer queue delays more and drops as much in the end.
        let bloated = narrow(32.0, 16.0);
        let late = bloated[4990..].iter().flatten().copied().fold(0.0, f64::max);
        assert!((3900.0..=4000.0).contains(&late), "{late}");
        // A link that was narrow for a while drains.
        let mut pipe = Pipe::new(3, Conditions { bandwidth: 32.0, ..Conditions::PERFECT });
        let send = |pipe: &mut Pipe, ms: f64| {
            let now = LabTime::from_millis(ms);
            let fate = pipe.send(7, now, Ticket { kind: MessageKind::Inputs, tick: None }, 100, &[]);
            fate.arrives.map(|at| at.minus(now).millis())
        };
        for i in 0..100 {
            send(&mut pipe, f64::from(i) * 16.0);
        }
        assert!(send(&mut pipe, 1600.0).is_some_and(|ms| ms > 1000.0));
        assert!(send(&mut pipe, 9000.0).is_some_and(|ms| ms < 40.0), "it has drained");
    }

    #[test]
    fn a_trace_is_followed_and_begins_again() {
        let trace = DelayTrace::parse("a.csv", "seconds,delay_ms\n0,40\n1,lost\n2,90\n3,0\n").expect("sound");
        let mut pipe = Pipe::new(3, Conditions { trace: Some(TraceNumber(0)), latency_ms: 5.0, ..Conditions::PERFECT });
        let mut at = |s: f64| {
            let now = LabTime::from_secs(s);
            let fate =
                pipe.send(7, now, Ticket { kind: MessageKind::Inputs, tick: None }, 100, std::slice::from_ref(&trace));
            fate.arrives.map(|at| at.minus(now).millis())
        };
        assert_eq!([at(0.5), at(1.5), at(2.5), at(4.5), at(5.5)], [Some(45.0), None, Some(95.0), None, Some(95.0)]);
    }

    #[test]
    fn bursts_and_queues_leave_all_other_luck_as_it_was() {
        let base = Conditions { latency_ms: 80.0, loss: 0.2, ..Conditions::PERFECT };
        let lost = |c| delays(c, 4000).iter().map(Option::is_none).collect::<Vec<_>>();
        let bursts = lost(Conditions { bursts: 10.0, burst_ms: 300.0, burst_loss: 1.0, bandwidth: 1000.0, ..base });
        let before = lost(base);
        assert!(bursts.iter().zip(&before).all(|(now, before)| *now || !*before), "what was lost is lost, and more");
        assert_ne!(bursts, before);
    }
}
