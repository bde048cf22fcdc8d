//! The clock by each way to know, against a link whose truth is known.

use super::*;

const HZ: u64 = 60;

fn rate() -> Rate {
    Rate::new(60).unwrap()
}

fn welcome() -> Welcome {
    Welcome { asked_us: 0, slot: 0, base: 0, since_base_us: 0, rate: 60, snapshot_every: 3, frame_us: 0, gone_ms: 5000 }
}

fn report(quarters: i8, left: HostNanos) -> Report {
    Report { tick: Tick(0), margin: Some(quarters), left: Some(left), delay: 0 }
}

/// Runs the clock on inputs that would have `margin` nanoseconds to spare without any shift, for `ticks` ticks, with a report in
/// three of them. Gives what each tick's input has to spare.
fn run_with(settings: &ClockSettings, ticks: u64, mut margin: impl FnMut(u64) -> f64) -> Vec<f64> {
    let round_trip = RoundTrip::default();
    let measured = Measured { round_trip: &round_trip, frame: 0 };
    let mut clock = Clock::new(HostNanos(0), 0, &welcome(), &round_trip);
    let mut spare = Vec::new();
    let (slowest, fastest) =
        (settings.slew * rate().nanos() as f64, settings.slew / (1.0 + settings.slew) * rate().nanos() as f64);
    for tick in 0..ticks {
        let now = HostNanos(tick as i64 * rate().nanos());
        clock.sent(now, 0, rate());
        let left = margin(tick) - clock.follow.shifted();
        spare.push(left);
        if tick % 3 == 0 {
            let quarters = (left / rate().nanos() as f64 * 4.0).floor().clamp(-128.0, 127.0) as i8;
            let loop_then = TickLoop::new(rate(), Tick(0), HostNanos(0), now);
            clock.reported(&loop_then, now, report(quarters, now), measured, settings);
        }
        if let Steer::Slew(by) = clock.steer(rate(), settings) {
            // At most so much shorter or longer, and no more than so many more of them in a second.
            assert!(-fastest <= by as f64 && by as f64 <= slowest, "{by}");
        }
    }
    spare
}

fn run(ticks: u64, more: u8, margin: impl FnMut(u64) -> f64) -> Vec<f64> {
    run_with(&ClockSettings { extra_lead: more, ..ClockSettings::DEFAULT }, ticks, margin)
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
fn a_third_of_a_second_is_set_at_once() {
    let mut clock = Clock::new(HostNanos(0), 0, &welcome(), &RoundTrip::default());
    let round_trip = RoundTrip::default();
    let measured = Measured { round_trip: &round_trip, frame: 0 };
    let steers: Vec<_> = (0..6)
        .map(|at| {
            let now = HostNanos(at);
            clock.sent(now, 0, rate());
            let ticks = TickLoop::new(rate(), Tick(0), HostNanos(0), now);
            clock.reported(&ticks, now, report(-80, now), measured, &ClockSettings::DEFAULT)
        })
        .collect();
    assert!(matches!(steers[5], Steer::Set(by) if by < -330_000_000), "{steers:?}");
}

/// A client and a server whose clock gains so many millionths, over a way of `up` and `down` nanoseconds at a moment of the client's clock.
struct Pair<U, D> {
    ppm: f64,
    up: U,
    down: D,
}

/// What a run came to: the margin of each input in ticks, and by how much each tick was longer or shorter, as a share.
struct Run {
    margins: Vec<f64>,
    stretched: Vec<f64>,
    sets: usize,
}

impl<U: Fn(i64) -> i64, D: Fn(i64) -> i64> Pair<U, D> {
    fn truth(&self, local: i64) -> f64 {
        local as f64 * (1.0 + self.ppm / 1e6)
    }

    /// Plays for so many seconds. An input is acknowledged by the next of the snapshots, which leave every three ticks.
    fn play(&self, settings: &ClockSettings, seconds: i64) -> Run {
        let tick = rate().nanos();
        let mut round_trip = RoundTrip::default();
        (0..6).for_each(|n| round_trip.sample((self.up)(n * 50_000_000) + (self.down)(n * 50_000_000)));
        let welcome = welcome();
        let mut ticks =
            super::super::joining::schedule(HostNanos(0), &welcome, &round_trip, &crate::frame::Frame::default(), 0)
                .expect("a rate there can be");
        let mut clock = Clock::new(HostNanos(0), 0, &welcome, &round_trip);
        let mut run = Run { margins: Vec::new(), stretched: Vec::new(), sets: 0 };
        // What is under way: when it left, the margin, when the answer arrives and left.
        let mut under_way: VecDeque<(i64, f64, i64, i64)> = VecDeque::new();
        let mut now = 0;
        while now < seconds * 1_000_000_000 {
            now = ticks.deadline().0;
            for due in ticks.advance(HostNanos(now)).ticks() {
                let there = now + (self.up)(now);
                let margin = (rate().due(due.0) as f64 - self.truth(there)) / tick as f64;
                run.margins.push(margin);
                clock.sent(HostNanos(now), 0, rate());
                let answered = there + 2 * tick;
                under_way.push_back((now, margin, answered + (self.down)(answered), answered));
                match clock.steer(rate(), settings) {
                    Steer::Slew(by) => {
                        ticks.shift(by);
                        run.stretched.push(by as f64 / tick as f64);
                    }
                    _ => run.stretched.push(0.0),
                }
            }
            let told = under_way.iter().take_while(|(_, _, arrives, _)| *arrives <= now).count();
            for (nth, (left, margin, arrives, answered)) in under_way.drain(..told).enumerate().collect::<Vec<_>>() {
                if nth % 3 != 0 {
                    continue;
                }
                let (way, at) = (arrives - left - 2 * tick, HostNanos(now));
                round_trip.sample(way);
                clock.exchanged(at, (self.truth(answered) / 1000.0) as u32, way, settings);
                if left / 1_000_000_000 != (left - 3 * tick) / 1_000_000_000 {
                    clock.told(at, self.truth(answered) as i64, &round_trip, settings);
                }
                let quarters = (margin * 4.0).floor().clamp(-128.0, 127.0) as i8;
                let measured = Measured { round_trip: &round_trip, frame: 0 };
                if let Steer::Set(by) =
                    clock.reported(&ticks, at, report(quarters, HostNanos(left)), measured, settings)
                {
                    run.sets += 1;
                    ticks.shift(by);
                    ticks.pass_over(ticks.tick_at(at));
                }
            }
        }
        run
    }
}

/// A way of 80 ms that jitters by 20 ms, and is alike for about 100 ms.
fn jittery(seed: i64) -> impl Fn(i64) -> i64 {
    move |at: i64| {
        let noise = |slot: i64| {
            let sum: i64 =
                (0..4).map(|k| ((slot * 2_654_435_761 + k * 40_503 + seed * 977) >> 7).rem_euclid(1000)).sum();
            (sum - 2000) as f64 / 577.0
        };
        let (slot, within) = (at.div_euclid(100_000_000), at.rem_euclid(100_000_000) as f64 / 1e8);
        let mixed = noise(slot) * (1.0 - within) + noise(slot + 1) * within;
        80_000_000 + (mixed * 20e6) as i64
    }
}

/// After twenty seconds: the share in time, and the margin in the middle.
fn settled(run: &Run) -> (f64, f64) {
    let mut margins = run.margins[20 * HZ as usize..].to_vec();
    margins.sort_by(f64::total_cmp);
    let late = margins.partition_point(|margin| *margin < 0.0);
    (1.0 - late as f64 / margins.len() as f64, margins[margins.len() / 2])
}

#[test]
fn each_way_to_know_but_the_assumed_keeps_inputs_in_time_while_clocks_drift_apart() {
    for ppm in [-500.0, 100.0, 500.0] {
        let pair = Pair { ppm, up: jittery(1), down: jittery(2) };
        for by in [ClockBy::Margins, ClockBy::Timestamps, ClockBy::Told] {
            let adapted = ClockSettings { by, ..ClockSettings::DEFAULT };
            let (in_time, middle) = settled(&pair.play(&adapted, 120));
            assert!(in_time >= 0.995 && middle < 4.0, "{by:?} at {ppm} ppm: {in_time}, {middle}");
            // Fixed, it is the middle that is set; and no tick is stretched by more than is allowed.
            let fixed = ClockSettings { lead: LeadBy::Fixed, extra_lead: 4, slew: 0.02, ..adapted };
            let run = pair.play(&fixed, 120);
            let (in_time, middle) = settled(&run);
            assert!(in_time >= 0.995 && (middle - 4.75).abs() <= 1.0, "{by:?} at {ppm} ppm: {in_time}, {middle}");
            assert!(run.stretched.iter().all(|share| share.abs() <= 0.0201) && run.sets == 0, "{by:?}: {}", run.sets);
        }
    }
}

#[test]
fn what_is_assumed_runs_away_as_clocks_drift_and_what_is_told_does_not() {
    let middle = |by, ppm| {
        let pair = Pair { ppm, up: jittery(1), down: jittery(2) };
        settled(&pair.play(&ClockSettings { by, ..ClockSettings::DEFAULT }, 200)).1
    };
    let between = |by| middle(by, -500.0) - middle(by, 500.0);
    // In 200 s the clocks part by 100 ms each way; half of it in the middle of that time.
    assert!((5.0..8.0).contains(&between(ClockBy::Assumed)), "{}", between(ClockBy::Assumed));
    assert!(between(ClockBy::Told) < 1.0, "{}", between(ClockBy::Told));
}

#[test]
fn a_clock_that_is_set_jumps_when_it_is_off_by_more_than_is_tolerated_and_never_stretches_a_tick() {
    let pair = Pair { ppm: 500.0, up: |_| 60_000_000, down: |_| 60_000_000 };
    let set = |tolerance_ms| {
        let settings = ClockSettings { change: ClockChange::Set, tolerance_ms, ..ClockSettings::DEFAULT };
        let run = pair.play(&settings, 200);
        assert!(run.stretched.iter().all(|share| *share == 0.0));
        run.sets
    };
    // The clocks part by 100 ms: so often that fits.
    let (often, seldom) = (set(10), set(40));
    assert!((8..=12).contains(&often) && (2..=3).contains(&seldom), "{often}, {seldom}");
}
