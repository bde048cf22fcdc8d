//! Each figure is bad where the fault is that it is there to show, and good where all else is the same without it.

use crate::scenario::{Words, measure, walker};
use velocitas_analysis::{metrics, metrics::ClientMetrics};
use velocitas_lab::{Course, Keep, LEAST_KEPT, Lab, Run};
use velocitas_record::{LabTime, Unrecorded};

const SECONDS: f64 = 30.0;

fn secs(s: f64) -> LabTime {
    LabTime::from_secs(s)
}

/// The first member's figures, with these settings of its own and another one to be seen.
fn seen(settings: &str) -> ClientMetrics {
    let host = "host = { frame_rate = \"144 Hz\" }\n";
    let rest = walker("heron", &format!("{host}{settings}")) + &walker("plover", "");
    let link = "latency = \"50 ms\"\njitter = \"8 ms\"\ncorrelation = \"60 ms\"";
    let run = Words { link, rest, ..Words::default() }.run(SECONDS);
    measure(run.record(), 0, secs(5.0), run.now())
}

#[track_caller]
fn of(figure: Option<f64>) -> f64 {
    figure.expect("there is something to measure")
}

#[test]
fn without_interpolation_others_hop_at_the_rate_of_snapshots() {
    let (good, bad) = (seen(""), seen("settings = { interpolation = false }"));
    assert!(of(good.others.hops_per_min) < 60.0, "{:?}", good.others);
    // Each snapshot is a hop while somebody moves.
    assert!(of(bad.others.hops_per_min) > 10.0 * of(good.others.hops_per_min), "{:?} {:?}", bad.others, good.others);
    assert!(of(bad.others.roughness_mps.p50) > 5.0 * of(good.others.roughness_mps.p50), "{:?}", bad.others);
}

#[test]
fn a_snapshot_every_twelve_ticks_cuts_corners() {
    let (good, bad) = (seen(""), seen("settings = { snapshot_every = 12 }"));
    assert!(of(good.others.drawn_error_m.p95) < 0.05, "{:?}", good.others);
    assert!(of(bad.others.drawn_error_m.p95) > 3.0 * of(good.others.drawn_error_m.p95), "{:?}", bad.others);
    assert!(of(bad.others.lag_ms) > of(good.others.lag_ms) + 100.0, "{:?}", bad.others);
}

#[test]
fn a_view_delay_too_short_runs_on_and_hops_back() {
    let (good, bad) = (seen(""), seen("settings = { view_delay = \"20 ms\" }"));
    assert!(of(good.extrapolated_share) < 0.01 && of(bad.extrapolated_share) > 0.2, "{bad:?}");
    assert!(of(bad.others.hops_per_min) > 3.0 * of(good.others.hops_per_min), "{:?}", bad.others);
    assert!(of(bad.others.roughness_mps.p95) > 1.5 * of(good.others.roughness_mps.p95), "{:?}", bad.others);
    assert!(of(bad.others.lag_ms) < of(good.others.lag_ms) - 50.0, "{:?}", bad.others);
}

#[test]
fn drawn_on_the_tick_the_own_character_steps_between_frames() {
    let (good, bad) = (seen(""), seen("settings = { between_ticks = false }"));
    assert!(of(good.own.hops_per_min) < 5.0 && of(good.own.roughness_mps.p50) < 0.1, "{:?}", good.own);
    assert!(of(bad.own.hops_per_min) > 500.0, "{:?}", bad.own);
    assert!(of(bad.own.roughness_mps.p50) > 1.0, "{:?}", bad.own);
    // Who predicts is ahead of the server by the way up, and is seen so much before.
    assert!(of(good.own.lag_ms) < -40.0, "{:?}", good.own);
}

#[test]
fn who_waits_for_the_server_answers_a_round_trip_later_and_is_seen_no_later() {
    let run = |settings: &str| {
        let heron = format!(
            "[[cast]]\nname = \"heron\"\nrole = \"bot\"\nlink = \"test\"\nspawn = [0, 0]\n{settings}\n\
             route = [{{ at = [9, -9], hold = [\"sprint\"], wait = \"900 ms\" }}, {{ at = [-9, 2], wait = \"900 ms\" }}]\n"
        );
        let rest = heron + &walker("plover", "");
        let run = Words { link: "latency = \"60 ms\"", rest, ..Words::default() }.run(SECONDS);
        measure(run.record(), 0, LabTime::ZERO, run.now())
    };
    let (predicted, waits) = (run(""), run("settings = { prediction = false }"));
    let response = of(predicted.response_ms);
    assert!(response > 0.0 && response < 45.0, "from the hand to the second frame at most: {response}");
    assert!(of(waits.response_ms) > 120.0 + response, "{:?}", waits.response_ms);
    let apart = of(waits.seen_ms.p50) - of(predicted.seen_ms.p50);
    assert!(apart.abs() < 40.0 && of(predicted.seen_ms.p50) > 120.0, "{apart}");
}

/// A rogue whom nobody judges, at a multiple of the lawful pace; of hands that hold down a key or nothing.
fn winner(times: f64, hold: &str) -> (ClientMetrics, f64) {
    let cast = format!(
        "[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\nlink = \"test\"\nspawn = [-20, -12]\narrangement = \"relay\"\n\
         trick = [{{ run = \"{times} times\", at = \"2 s\", lasts = \"36 s\" }}]\n\
         route = [{{ at = [20, -12], hold = [{hold}] }}, {{ at = [-20, -12], hold = [{hold}] }}]\n"
    );
    let run = Words { link: "latency = \"20 ms\"", rest: cast, ..Words::default() }.run(45.0);
    let record = run.record();
    let (track, _) = crate::scenario::tracks(record, 0);
    let lawful =
        run.course().kinds.motion(0).limits(&run.course().tunables(velocitas_record::KnownTo::Server)[0]).level;
    // What an onlooker with a stopwatch would say.
    let dt = f64::from(run.course().rate.dt());
    let beyond = (1..track.len()).map(|i| f64::from(track.pos(i).distance(track.pos(i - 1))) - f64::from(lawful) * dt);
    (measure(record, 0, LabTime::ZERO, run.now()), beyond.filter(|metres| *metres > 0.004).sum())
}

#[test]
fn what_a_rogue_gains_whom_nobody_judges_is_counted_all_the_same() {
    let (m, watched) = winner(1.55, "\"sprint\"");
    assert!(m.verdicts.is_empty() && m.tricks == Some(1) && m.tricks_answered == Some(0), "{m:?}");
    let gain = of(m.gain_m);
    assert!(gain > 30.0 && (gain - watched).abs() < 0.02 * watched, "{gain} against {watched}");
    assert_eq!(m.gain_peak_m, m.gain_m, "nothing was taken back");
    let (honest, _) = winner(1.0, "\"sprint\"");
    assert_eq!((honest.gain_m, honest.tricks_idle), (Some(0.0), Some(1)), "no more than the rule allows");
    assert_eq!(
        (honest.gain_pressed_m, honest.gain_pressed_peak_m),
        (Some(0.0), Some(0.0)),
        "and no more than was pressed"
    );
}

#[test]
fn a_gain_is_told_beyond_what_is_allowed_and_beyond_what_was_pressed() {
    // Who is seen to walk half as fast again as its hands say does no more than a sprint may.
    let (walks, _) = winner(1.55, "");
    let (more, moving) = (of(walks.gain_pressed_m), 0.55 * 4.2 * 36.0);
    assert_eq!((walks.gain_m, walks.tricks_idle), (Some(0.0), Some(0)), "a sprint is allowed");
    assert!(more < moving && more > 0.95 * moving, "{more} of {moving}, less what was lost in turning round");
    // By two parts in a hundred too fast: each tick less than a step of the wire.
    let (creeps, _) = winner(1.02, "\"sprint\"");
    let (allowed, pressed, moving) = (of(creeps.gain_m), of(creeps.gain_pressed_m), 0.02 * 4.2 * 1.6 * 36.0);
    assert!(allowed < moving && allowed > 0.9 * moving, "{allowed} of {moving}");
    assert!((pressed - allowed).abs() < 0.2, "{pressed} and {allowed}");
}

#[test]
fn a_trick_longer_than_what_is_kept_is_not_taken_for_idle() {
    let cast = "[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\nlink = \"test\"\nspawn = [-20, -12]\narrangement = \"relay\"\n\
                trick = [{ run = \"1.5 times\", at = \"2 s\", lasts = \"150 s\" }]\n\
                route = [{ at = [20, -12], hold = [\"sprint\"], wait = \"50 ms\" }, { at = [-20, -12], hold = [\"sprint\"], wait = \"50 ms\" }]\n";
    let course = Words { link: "latency = \"20 ms\"", rest: cast.to_owned(), ..Words::default() }.course();
    let mut run = Run::new(course).expect("it fits");
    run.set_keep(Keep::Time(LEAST_KEPT));
    run.meter();
    run.advance(secs(170.0));
    let (figures, _) = run.figures();
    assert_eq!((figures[0].tricks, figures[0].tricks_unanswered()), (Some(1), 1), "{:?}", figures[0]);
    assert!(of(figures[0].gain_m) > 100.0, "{:?}", figures[0].gain_m);
}

#[test]
fn fates_add_up_whatever_happens() {
    let claims = walker("curlew", "arrangement = \"claims\"");
    let rogue =
        walker("magpie", "arrangement = \"claims\"\ntrick = [{ jump = \"6 m\", at = \"3 s\", every = \"2 s\" }]")
            .replace("role = \"bot\"", "role = \"rogue\"");
    let rest = walker("heron", "")
        + &claims
        + &rogue
        + "[[event]]\nat = \"4 s\"\nfreeze = { who = \"server\", lasts = \"3 s\" }\n\
           [[event]]\nat = \"9 s\"\nfreeze = { who = \"heron\", lasts = \"60 s\" }\n\
           [[event]]\nat = \"12 s\"\ncrash = { who = \"curlew\" }\n";
    let link = "latency = \"90 ms\"\njitter = \"30 ms\"\nloss = \"20 %\"\nreordering = \"10 %\"";
    for seed in 1..=4 {
        let run = Words { seed, link, rest: rest.clone(), ..Words::default() }.run(80.0);
        let mut met = [0; 9];
        for member in 0..3 {
            let inputs = measure(run.record(), member, LabTime::ZERO, run.now()).inputs;
            let fates = [
                inputs.fresh,
                inputs.late,
                inputs.passed_over,
                inputs.outdated,
                inputs.refused,
                inputs.unused,
                inputs.lost,
                inputs.unheard,
                inputs.under_way,
            ];
            assert_eq!(fates.iter().sum::<u32>(), inputs.sampled, "seed {seed}: {inputs:?}");
            assert!(inputs.fresh <= inputs.sampled);
            met.iter_mut().zip(fates).for_each(|(met, n)| *met += n);
        }
        let [fresh, late, passed_over, outdated, _, _, lost, unheard, under_way] = met;
        let all = [fresh, late, passed_over, outdated, lost, unheard, under_way];
        assert!(all.iter().all(|n| *n > 0), "seed {seed}: each fate is met: {met:?}");
    }
}

/// Courses of all kinds, each told apart by a number.
fn any_course(n: u64) -> Course {
    let links = [
        "latency = \"30 ms\"",
        "latency = \"110 ms\"\njitter = \"40 ms\"\nloss = \"9 %\"\nduplication = \"4 %\"\nreordering = \"7 %\"",
    ];
    let kinds = ["", "arrangement = \"claims\"", "arrangement = \"terminal\"", "arrangement = \"relay\""];
    let settings = ["", "settings = { interpolation = false }", "settings = { snapshot_every = 7, ease = \"0 ms\" }"];
    let member =
        |name, i: u64| walker(name, &format!("{}\n{}", kinds[(i % 4) as usize], settings[(i / 4 % 3) as usize]));
    let rest = member("heron", n)
        + &member("plover", n * 5 + 1)
        + &member("teal", n * 7 + 2)
        + &format!(
            "[[event]]\nat = \"{} s\"\nfreeze = {{ who = \"{}\", lasts = \"1500 ms\" }}\n",
            5 + n % 7,
            if n.is_multiple_of(2) { "server" } else { "heron" }
        );
    Words { seed: n, link: links[(n % 2) as usize], rest, first_tick: 65_000 * (n % 3), ..Words::default() }.course()
}

#[test]
fn the_meter_and_the_record_agree_on_any_course_and_watching_changes_nothing() {
    for n in 1..=12 {
        let mut metered = Run::new(any_course(n)).expect("it fits");
        metered.set_keep(Keep::Time(LEAST_KEPT));
        metered.meter();
        let mut whole = Run::new(any_course(n)).expect("it fits");
        whole.set_keep(Keep::All);
        let mut at = 0.0;
        while at < 85.0 {
            at += 3.7;
            metered.advance(secs(at));
        }
        whole.advance(secs(at));
        let mut unwatched = Lab::new(std::sync::Arc::new(any_course(n)));
        unwatched.advance(secs(at), &mut Unrecorded);
        assert_eq!(metered.digest(), whole.digest(), "course {n}");
        assert_eq!(unwatched.digest(), whole.digest(), "course {n}");
        let (figures, _) = metered.figures();
        for (machine, figures) in whole.record().cast.players().zip(figures) {
            assert_eq!(figures, metrics::measure(whole.record(), machine, LabTime::ZERO, whole.now()), "course {n}");
        }
    }
}

#[test]
fn figures_of_a_run_that_went_back_are_those_of_one_that_never_did() {
    for n in [1, 4, 7] {
        let mut metered = Run::new(any_course(n)).expect("it fits");
        metered.meter();
        metered.advance(secs(31.3));
        metered.resume_from(secs(24.6));
        for at in [24.6, 25.0, 29.0, 47.2] {
            metered.advance(secs(at));
            let (figures, _) = metered.figures();
            for (machine, figures) in metered.record().cast.players().zip(figures) {
                let whole = metrics::measure(metered.record(), machine, LabTime::ZERO, metered.now());
                assert_eq!(figures, whole, "course {n} at {at}");
            }
        }
    }
}

#[test]
fn what_did_not_stir_is_said_and_nothing_else() {
    let bot = |name: &str, route: &str| {
        format!("[[cast]]\nname = \"{name}\"\nrole = \"bot\"\nlink = \"test\"\nspawn = [0, 0]\n{route}\n")
    };
    let go = "route = [{ at = [9, 2] }, { at = [-9, 2] }]";
    let still =
        |rest: String, seconds| Words { link: "latency = \"20 ms\"", rest, ..Words::default() }.run(seconds).still();
    let said = still(bot("heron", go) + &bot("plover", ""), 12.0);
    assert_eq!(
        said,
        ["plover never moved", "input `sprint` of walker was never given", "input `hop` of walker was never given"]
    );
    // Two that differ have not changed for that.
    let apart = bot("heron", "").replace("[0, 0]", "[5, 3]") + &bot("plover", "");
    assert!(still(apart, 12.0).contains(&"field `pos` of walker never changed".to_owned()));
    // Whoever is there for a moment only is not expected to do anything, nor is anybody in a moment.
    assert!(
        still(bot("heron", go) + &bot("plover", "joins = \"8 s\""), 12.0).iter().all(|said| !said.contains("plover"))
    );
    assert!(still(bot("heron", go), 4.0).is_empty());
    // The demo stirs all there is, and going back takes nothing along.
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.advance(secs(20.0));
    assert!(run.still().is_empty(), "{:?}", run.still());
    run.resume_from(secs(0.2));
    run.advance(secs(1.0));
    assert!(run.still().is_empty(), "not there long enough");
}
