//! The guard punishes cheats and never the honest.

use crate::scenario::{Words, YARD, actor, facts, machine, measure, verdicts, walker};
use velocitas_core::{Bounds, Fact, Ground, vec3};
use velocitas_lab::Course;
use velocitas_record::record::Record;
use velocitas_record::{KnownTo, LabTime};

/// What lies across it besides.
const WALL: &str = r#"
[[solid]]
name = "wall"
at = [0, 8.4]
size = [9, 0.4]
yaw = "3 deg"
height = "2 m"
"#;

#[test]
fn the_honest_are_never_accused_in_thirty_minutes_of_bunches_and_loss() {
    let link = "latency = \"60 ms\"\njitter = \"20 ms\"\nloss = \"3 %\"\nbunch = \"50 ms\"";
    let claims = |drift| format!("arrangement = \"claims\"\nhost = {{ clock_drift = \"{drift} ppm\" }}");
    let cast = walker("curlew", &claims(100)) + &walker("teal", &claims(-100));
    let rest = YARD.to_owned() + WALL + &cast;
    let run = Words { link, rest, ..Words::default() }.run(1800.0);
    for member in 0..2 {
        let m = measure(run.record(), member, LabTime::ZERO, run.now());
        assert_eq!(m.verdicts.len(), 0, "{m:?}");
        assert!(m.inputs.fresh > 100_000, "it did claim: {m:?}");
        assert_eq!(m.corrections.count, 0, "nor pulled back: {m:?}");
    }
}

/// The authority echo keeps to the limits from tick to tick, but where the guard itself put it, and in no solid.
#[track_caller]
fn lawful(course: &Course, record: &Record, member: usize) {
    let motion = course.kinds.motion(course.cast[member].kind);
    let tunables: Vec<f32> = motion.tunables().iter().map(|t| t.default).collect();
    let limits = motion.limits(&tunables);
    let ground: Ground = course.ground(KnownTo::Server);
    let body = motion.body();
    let thinner = velocitas_core::Body { radius: body.radius - 0.012, height: body.height - 0.6, ..body };
    let track = record.authority(actor(record, member));
    let dt = f64::from(course.rate.dt());
    let bounds: Bounds = *ground.bounds();
    // A second of ticks: late claims catch up, so a single tick may hold several.
    let second = course.rate.hz() as usize;
    for i in second..track.len() {
        let at = track.pos(i);
        assert_eq!(ground.overlap(&thinner, at + vec3(0.0, 0.0, 0.35)), None, "in something at {at:?}");
        assert!(at.x > bounds.min.0 && at.x < bounds.max.0 && at.y > bounds.min.1 && at.y < bounds.max.1);
        if (i - second..=i).any(|j| track.head(j).is_some_and(|h| h.teleported)) {
            continue;
        }
        let way = f64::from((at - track.pos(i - second)).level().length());
        // A queue of claims may empty itself into this second: as long as the longest wait, a quarter of a second.
        let most = f64::from(limits.level) * f64::from(1.0 + limits.slack) * dt * second as f64 * 1.3 + 0.1;
        assert!(way <= most, "{way} m in a second at {at:?}, {most} are lawful");
    }
}

#[test]
fn every_rogue_is_answered_and_gains_little() {
    let tricks = [
        ("run = \"1.06 times\", lasts = \"6 s\"", "pace", 3.0),
        ("run = \"1.1 times\", lasts = \"6 s\"", "reach", 3.0),
        ("run = \"1.5 times\", lasts = \"6 s\"", "reach", 3.0),
        ("run = \"3 times\", lasts = \"6 s\"", "reach", 3.0),
        ("jump = \"6 m\"", "reach", 0.1),
        ("jump = \"0.5 m\"", "reach", 0.1),
        ("walls = true, lasts = \"8 s\"", "sweep", 0.1),
    ];
    for (trick, rule, most_gain) in tricks {
        for seed in 1..=2 {
            let cast = format!(
                "[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\narrangement = \"claims\"\nlink = \"test\"\n\
                 spawn = [-20, 12]\ntrick = [{{ {trick}, at = \"4 s\", every = \"12 s\" }}]\nroute = [\n\
                 {{ at = [20, 12], hold = [\"sprint\"] }}, {{ at = [20, -12], hold = [\"sprint\"] }},\n\
                 {{ at = [-20, -12], hold = [\"sprint\"] }}, {{ at = [-20, 12], hold = [\"sprint\"] }}]\n"
            );
            // In the way of whoever cuts corners; not in the way of whoever runs the round.
            let wall = "[[solid]]\nname = \"hall\"\nat = [0, 0]\nsize = [30, 16]\nheight = \"4 m\"\n";
            let link = "latency = \"40 ms\"\njitter = \"7 ms\"\nloss = \"2 %\"";
            let run = Words { seed, link, rest: wall.to_owned() + &cast, ..Words::default() }.run(60.0);
            let m = measure(run.record(), 0, LabTime::ZERO, run.now());
            let (tricks, answered) = (m.tricks.unwrap_or(0), m.tricks_answered.unwrap_or(0));
            // Where no wall was met there is nothing to answer.
            assert!(answered >= 4 && m.tricks_unanswered() == 0, "{trick}: {answered} of {tricks} answered");
            assert!(m.verdicts.contains_key(rule), "{trick}: {:?}", m.verdicts);
            let gain = m.gain_m.unwrap_or(f64::MAX);
            assert!(gain <= most_gain * f64::from(tricks), "{trick}: gained {gain} m");
            lawful(run.course(), run.record(), 0);
        }
    }
}

#[test]
fn a_rogue_courier_is_answered_within_half_a_second_and_a_little_faster_within_three() {
    let tricks = [
        ("run = \"1.06 times\"", "pace", 3.0),
        ("run = \"1.5 times\"", "reach", 0.5),
        ("run = \"3 times\"", "reach", 0.5),
        ("jump = \"0.2 m\"", "reach", 0.5),
        ("jump = \"6 m\"", "reach", 0.5),
        ("fly = \"1 m/s\"", "support", 0.5),
        ("fly = \"5 m/s\"", "support", 0.5),
        ("tireless = true", "growth", 0.5),
    ];
    for (trick, rule, within) in tricks {
        for seed in 1..=3 {
            let lasts = if trick.starts_with("jump") { "" } else { ", lasts = \"3 s\"" };
            let cast = format!(
                "[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\narrangement = \"claims\"\ngait = \"courier.gait\"\n\
                 link = \"test\"\nspawn = [-25, 12]\ntrick = [{{ {trick}{lasts}, at = \"1 s\" }}]\n\
                 route = [{{ at = [25, 12], hold = [\"sprint\"] }}, {{ at = [-25, 12] }}]\n"
            );
            let link = "latency = \"40 ms\"\njitter = \"7 ms\"\nloss = \"2 %\"";
            let run = Words { seed, link, rest: cast, ..Words::default() }.run(6.0);
            let mut found = facts(run.record(), machine(run.record(), 0)).filter_map(|(at, fact)| match fact {
                Fact::Verdict(verdict) => Some((at, verdict)),
                _ => None,
            });
            let (at, verdict) = found.next().expect(trick);
            assert_eq!(verdict.evidence.rule.name(), rule, "{trick}");
            // A claim takes the way up, jitter and a frame to arrive.
            let after = at.minus(LabTime::from_secs(1.0)).secs() - 0.1;
            assert!(after < within, "{trick}: after {after} s");
            let gain = measure(run.record(), 0, LabTime::ZERO, run.now()).gain_m.unwrap_or(f64::MAX);
            assert!(gain <= 0.5, "{trick}: {gain} m are left");
        }
    }
}

#[test]
fn an_input_beyond_the_stick_is_refused() {
    let cast = "[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\nlink = \"test\"\nspawn = [0, 0]\n\
                trick = [{ overreach = \"4 times\", at = \"2 s\", lasts = \"2 s\" }]\n\
                route = [{ at = [9, 9] }, { at = [-9, -5] }]\n";
    let run = Words { link: "latency = \"20 ms\"", rest: cast.to_owned(), ..Words::default() }.run(6.0);
    let m = measure(run.record(), 0, LabTime::ZERO, run.now());
    assert!(m.verdicts.get("range").is_some_and(|n| *n > 10), "{:?}", m.verdicts);
    assert_eq!(m.tricks_answered, Some(1));
}

#[test]
fn the_demo_accuses_nobody_honest_and_answers_every_trick() {
    let mut run = velocitas_lab::Run::new(Course::demo()).expect("it fits");
    run.advance(LabTime::from_secs(300.0));
    for (i, member) in run.course().cast.iter().enumerate() {
        let m = measure(run.record(), i, LabTime::ZERO, run.now());
        assert_eq!(m.corrections.unexplained, 0, "{}", member.name);
        if m.kind == "rogue" {
            // Some fall into a pull back that is under way, and come to nothing.
            assert!(m.tricks_answered >= Some(30) && m.tricks_unanswered() == 0, "{m:?}");
            assert!(m.gain_m < Some(5.0) && m.gain_m > Some(0.05), "{m:?}");
            lawful(run.course(), run.record(), i);
        } else {
            assert_eq!(verdicts(run.record(), i), 0, "{}", member.name);
        }
    }
}

/// The courier in sub-steps: within one tick it may go along a wall and round its corner.
fn sub_stepped(times: u32) -> String {
    let text = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
    let (from, to) = (text.find("  vel.xy = toward").expect("there"), text.find("\n}\n\nlooks").expect("there"));
    format!("{}  repeat {times} {{\n{}\n  }}{}", &text[..from], &text[from..to], &text[to..])
}

/// A course in which an honest owner of claims runs into, along, round and over things.
fn clutter(hz: u32, times: u32, cast: &str) -> velocitas_lab::Run {
    let gait = sub_stepped(times);
    let mut ground = String::new();
    for (i, (x, y, yaw)) in
        [(4.0, 0.3, 0), (8.0, -0.4, 20), (7.7, 4.2, 45), (3.0, 8.3, 70), (-3.0, 7.6, 10), (-8.2, 3.0, 33)]
            .into_iter()
            .enumerate()
    {
        ground += &format!(
            "[[solid]]\nname = \"crate {i}\"\nat = [{x}, {y}]\nsize = [1.1, 0.8]\nyaw = \"{yaw} deg\"\nheight = \"1.5 m\"\n"
        );
    }
    for step in 1..=5 {
        let (x, height) = (-4.0 - 0.3 * f64::from(step), 0.25 * f64::from(step));
        ground +=
            &format!("[[solid]]\nname = \"stair {step}\"\nat = [{x}, -8]\nsize = [0.3, 4]\nheight = \"{height} m\"\n");
    }
    let text = format!(
        "format = 1\nname = \"clutter\"\nseed = 5\ntick_rate = \"{hz} Hz\"\nworld = {{ min = [-20, -20], max = [20, 20] }}\n\
         [link.test]\nlatency = \"30 ms\"\njitter = \"5 ms\"\n{ground}{cast}"
    );
    let read = |_: &str| Ok(gait.clone());
    let sources = velocitas_lab::Sources { own: &[], read: &read };
    let course = Course::parse_with("clutter.course.toml", &text, sources);
    let mut run = velocitas_lab::Run::new(course.unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
    run.advance(LabTime::from_secs(120.0));
    run
}

#[test]
fn an_honest_owner_in_sub_steps_is_not_accused_at_corners_and_stairs() {
    let cast = "[[cast]]\nname = \"curlew\"\nrole = \"bot\"\narrangement = \"claims\"\ngait = \"x.gait\"\nlink = \"test\"\n\
                spawn = [0, 0]\nroute = [{ at = [9, 0], hold = [\"sprint\"] }, { at = [8, 8] }, { at = [-8, 8], hold = [\"sprint\"] },\n\
                { at = [-8, -8], hold = [\"sprint\"] }, { at = [0, -8] }, { at = [4, 4], press = [\"hop\"] }]\n";
    for (hz, times) in [(5, 4), (10, 4), (20, 4), (30, 16), (60, 4), (10, 1)] {
        let run = clutter(hz, times, cast);
        let m = measure(run.record(), 0, LabTime::ZERO, run.now());
        assert_eq!(m.verdicts.len(), 0, "repeat {times} at {hz} Hz: {:?}", m.verdicts);
        assert!(m.inputs.fresh > 100 * hz, "it did claim: {:?}", m.inputs);
    }
}

#[test]
fn whoever_goes_through_walls_in_sub_steps_is_still_found() {
    let cast = "[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\narrangement = \"claims\"\ngait = \"x.gait\"\nlink = \"test\"\n\
                spawn = [0, 0]\nroute = [{ at = [9, 0] }, { at = [0, 0] }, { at = [-8.2, 3.0] }, { at = [9, 0] }]\n\
                trick = [{ walls = true, at = \"1 s\", lasts = \"100 s\" }]\n";
    for (hz, times) in [(10, 4), (20, 4), (30, 16)] {
        let run = clutter(hz, times, cast);
        let m = measure(run.record(), 0, LabTime::ZERO, run.now());
        assert!(m.verdicts.get("sweep").is_some_and(|n| *n > 5), "repeat {times} at {hz} Hz: {:?}", m.verdicts);
    }
}

/// A server that stood still, once or again and again, forgets none of the time that passed for its owners.
#[test]
fn an_honest_owner_does_not_lag_after_stalls_of_the_server() {
    for event in [
        "at = \"5 s\"\nfreeze = { who = \"server\", lasts = \"1500 ms\" }",
        "at = \"5 s\"\nevery = \"4 s\"\nfreeze = { who = \"server\", lasts = \"500 ms\" }",
    ] {
        let cast = walker("curlew", "arrangement = \"claims\"");
        let rest = format!("{cast}[[event]]\n{event}\n");
        let run = Words { link: "latency = \"40 ms\"", rest, ..Words::default() }.run(60.0);
        let m = measure(run.record(), 0, LabTime::from_secs(10.0), run.now());
        assert_eq!((m.verdicts.len(), m.resyncs), (0, 0), "{m:?}");
        let share = m.inputs.fresh_share().unwrap_or(0.0);
        assert!(share > 0.9, "{:.0} % of the ticks are fresh: {:?}", share * 100.0, m.inputs);
        assert!(m.prediction_error_m.p50.is_some_and(|e| e < 0.02), "{:?}", m.prediction_error_m);
    }
}
