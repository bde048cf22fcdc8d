//! Rules from files in whole runs: differing on one side, changing while they run, tried and attacked.

use std::sync::Arc;

use crate::scenario::{
    Words, actor, causes, corrections, first_predictions_are_exact, machine, member, unexplained, verdicts, walker,
};
use velocitas_core::{Motion, Rate, Schema};
use velocitas_gait::{compile, compile_after};
use velocitas_lab::cause::Cause;
use velocitas_lab::track::Track;
use velocitas_lab::vet::{Attack, Envelope, Feel, RATES, attack, feel, walk};
use velocitas_lab::{Acts, Command, Controls, LabTime, Part, Reach, RecordTick, ReloadError, Run, shipped_gait};

fn text(name: &str) -> String {
    shipped_gait(name).expect("it ships")
}

fn rule(text: &str, before: Option<&Schema>) -> Arc<dyn Motion> {
    let compiled = compile_after(text, before);
    match compiled.gait {
        Some(gait) => Arc::new(gait),
        None => panic!("{:?}", compiled.diagnostics),
    }
}

/// The number of the courier in courses made of words.
const COURIER: u8 = 1;

#[test]
fn a_sprint_that_only_the_client_knows_is_corrected_while_the_key_is_held_and_the_record_says_why() {
    let tune = "[[tune]]\nrule = \"courier\"\nknown_to = \"server\"\nset = { haste = 1 }\n";
    let cast = walker("plover", "").replace(crate::scenario::ROUND, "[]");
    let mut run = Words { link: "latency = \"40 ms\"", rest: tune.to_owned() + &cast, ..Words::default() }.run(2.0);
    run.command(Command::Helm(Some(member(0))));
    let courier = run.course().kinds.motion(COURIER).schema().clone();
    let keys = |sprint: bool| {
        let acts = Acts { hold: vec!["sprint".to_owned(); usize::from(sprint)], ..Acts::default() };
        let given = acts.given(&courier);
        Command::Keys(Controls { stick: (0.0, 1.0), given, ..Controls::default() })
    };
    let phase = |run: &mut Run, sprint: bool| {
        let from = run.now();
        run.command(keys(sprint));
        run.advance(from.plus(LabTime::from_secs(2.0)));
        // What was under way when the key changed belongs to the phase before.
        corrections(run.record(), 0, from.plus(LabTime::from_millis(400.0)))
    };
    let walking = phase(&mut run, false).len();
    let sprinting = phase(&mut run, true);
    let after = phase(&mut run, false).len();
    assert_eq!((walking, after), (0, 0), "whoever walks is the same on both sides");
    assert!(sprinting.len() > 20, "a correction with nearly every snapshot: {}", sprinting.len());
    for (at, c) in &sprinting {
        let found = causes(run.record(), 0, *at, c);
        let differs = found.iter().find(|f| matches!(f, Cause::Differs { tunable: "haste", .. }));
        let words = differs.map(|d| d.words(run.record()));
        assert_eq!(words.as_deref(), Some("haste is 1.6 at the client, 1 at the server"), "{found:?}");
    }
}

#[test]
fn a_tunable_turned_on_one_machine_differs_there_and_turned_for_all_does_not() {
    let two = walker("heron", "") + &walker("dunlin", "");
    let mut run = Words { link: "latency = \"30 ms\"", rest: two, ..Words::default() }.run(3.0);
    let tune = |value, reach| Command::Tune { kind: COURIER, tunable: "walk", value, reach };
    run.command(tune(5.0, Reach::All));
    run.advance(LabTime::from_secs(9.0));
    assert_eq!(
        corrections(run.record(), 0, LabTime::ZERO).len() + corrections(run.record(), 1, LabTime::ZERO).len(),
        0
    );
    run.command(tune(3.0, Reach::One(machine(run.record(), 1))));
    run.advance(LabTime::from_secs(15.0));
    assert_eq!(corrections(run.record(), 0, LabTime::ZERO).len(), 0, "heron knows what the server knows");
    assert!(corrections(run.record(), 1, LabTime::ZERO).len() > 20);
    assert_eq!(unexplained(run.record(), 1), 0);
    assert_eq!(
        run.record().known(machine(run.record(), 1), Part::Client, RecordTick(0)).tunables[1][0],
        4.2,
        "the past stays as it was"
    );
}

#[test]
fn a_saved_edit_holds_from_one_tick_on_for_everybody_without_a_correction() {
    let link = "latency = \"60 ms\"\njitter = \"15 ms\"\nloss = \"5 %\"";
    let cast = walker("heron", "") + &walker("curlew", "arrangement = \"claims\"") + &walker("teal", "");
    let mut run = Words { link, rest: cast, ..Words::default() }.run(6.0);
    let edits = [
        text("courier.gait").replace("walk     4.2 m/s", "walk     6 m/s"),
        // Another layout: a new field in front, a coarser stick, one input fewer.
        text("courier.gait")
            .replace("  vel     vector", "  dust    counter\n  vel     vector")
            .replace("  facing = look", "  facing = look\n  if hop { dust = dust + 1 }")
            .replace("stick    bits 7 ", "stick    bits 5 ")
            .replace("  sprint  held                       # true while the key is down\n", "")
            .replace("let hurries = sprint and", "let hurries ="),
        text("courier.gait"),
    ];
    for edit in edits {
        let before = run.lab().server_known().kinds.motion(COURIER).schema().clone();
        run.reload(COURIER, rule(&edit, Some(&before)), Reach::All).expect("it fits");
        run.advance(run.now().plus(LabTime::from_secs(5.0)));
    }
    assert_eq!(run.record().changes.len(), 3);
    for (member, claims) in [(0, false), (1, true), (2, false)] {
        assert_eq!(unexplained(run.record(), member), 0);
        assert_eq!(verdicts(run.record(), member), 0);
        if !claims {
            assert!(first_predictions_are_exact(run.record(), member) > 600);
        }
    }
    assert_eq!(run.lab().refused(), 0, "no datagram was read in the wrong layout");
    // Both layouts can be exported, each under its own names.
    let mut out = Vec::new();
    velocitas_lab::export::write(run.record(), &velocitas_lab::export::Ending::default(), &mut out).expect("memory");
    let out = String::from_utf8(out).expect("JSON");
    let with_dust = out.lines().filter(|l| l.contains("\"kind\":\"authority\"") && l.contains("\"dust\"")).count();
    assert!((800..1000).contains(&with_dust), "5 s of three at 60 Hz: {with_dust}");
}

#[test]
fn going_back_over_a_reload_and_on_again_gives_the_same_run() {
    let edited = rule(&text("courier.gait").replace("grip     38 m/s^2", "grip     12 m/s^2"), None);
    let run_with = |detour: bool| {
        let mut run = Words { link: "loss = \"3 %\"", rest: walker("heron", ""), ..Words::default() }.run(5.0);
        run.reload(COURIER, edited.clone(), Reach::All).expect("it fits");
        run.advance(LabTime::from_secs(9.0));
        if detour {
            run.resume_from(LabTime::from_secs(6.5));
            run.resume_from(LabTime::from_secs(5.2));
        }
        run.advance(LabTime::from_secs(12.0));
        run.digest()
    };
    assert_eq!(run_with(true), run_with(false));
    let mut run = Words { rest: walker("heron", ""), ..Words::default() }.run(5.0);
    run.reload(COURIER, edited.clone(), Reach::All).expect("it fits");
    run.advance(LabTime::from_secs(7.0));
    run.resume_from(LabTime::from_secs(4.0));
    assert!(run.record().changes.is_empty(), "what came later is dropped");
    assert_eq!(run.lab().server_known().versions, [0, 0]);
}

#[test]
fn one_machine_alone_may_differ_in_its_step_but_not_in_its_layout() {
    let mut run = Words { link: "latency = \"30 ms\"", rest: walker("heron", ""), ..Words::default() }.run(3.0);
    let one = Reach::One(machine(run.record(), 0));
    let wider = text("courier.gait").replace("stick    bits 7 ", "stick    bits 9 ");
    assert_eq!(run.reload(COURIER, rule(&wider, None), one), Err(ReloadError::Layout));
    let floaty = text("courier.gait").replace("fall * dt, -plunge", "fall * 0.5 * dt, -plunge");
    run.reload(COURIER, rule(&floaty, None), one).expect("the layout is the same");
    run.advance(LabTime::from_secs(20.0));
    let all = corrections(run.record(), 0, LabTime::ZERO);
    assert!(!all.is_empty(), "it hops, and falls otherwise");
    for (at, c) in &all {
        assert!(causes(run.record(), 0, *at, c).contains(&Cause::OtherRule(COURIER)));
    }
}

#[test]
fn a_rule_too_large_for_a_snapshot_of_everybody_is_refused_and_the_old_one_runs_on() {
    let cast: String = (0..30).map(|i| walker(&format!("bird {i}"), "")).collect();
    let mut run = Words { rest: cast, ..Words::default() }.run(0.5);
    let fields: String = (0..5).map(|i| format!("  more{i}  vector m  wire 1/4096\n")).collect();
    let huge = text("courier.gait").replace("  vel     vector", &format!("{fields}  vel     vector"));
    let refused = run.reload(COURIER, rule(&huge, None), Reach::All);
    assert!(matches!(&refused, Err(ReloadError::Size(_))), "{refused:?}");
    run.advance(LabTime::from_secs(1.5));
    assert!(run.record().changes.is_empty());
}

fn near(found: f32, expected: f32, share: f32) -> bool {
    (found - expected).abs() <= share * expected.abs()
}

#[test]
fn the_shipped_gaits_feel_alike_at_every_rate_and_as_they_should() {
    let feels = |name: &str| -> Vec<Feel> {
        let gait = compile(&text(name)).gait.expect("it ships");
        RATES.iter().filter_map(|hz| Rate::new(*hz)).map(|rate| feel(&gait, rate)).collect()
    };
    for f in feels("courier.gait") {
        let tick = 1.0 / f.tick_rate as f32;
        assert!(near(f.top_mps, 4.2 * 1.6, 0.005), "{f:?}");
        assert!(near(f.to_top_s, 0.95 * 6.72 / 38.0, 0.02) || (f.to_top_s - 0.168).abs() <= 2.0 * tick, "{f:?}");
        assert!(near(f.stop_m.unwrap_or(0.0), 6.72 * 6.72 / (2.0 * 38.0), 0.03), "{f:?}");
        assert!(f.jump_m.is_some_and(|h| near(h, 7.4 * 7.4 / (2.0 * 22.0), 0.01)), "{f:?}");
        assert!(f.air_s.is_some_and(|t| (t - 2.0 * 7.4 / 22.0).abs() <= 2.0 * tick), "{f:?}");
        assert_eq!(f.circle_m, None);
    }
    let ferry = feels("ferry.gait");
    for f in &ferry {
        assert!(near(f.top_mps, 14.0 / 9.0 / 0.45, 0.01), "{f:?}");
        assert!(near(f.to_top_s, libm::logf(20.0) / 0.45, 0.02), "e-folding to 95 %: {f:?}");
        assert!(near(f.stop_m.unwrap_or(0.0), 0.95 * f.top_mps / 0.45, 0.04), "{f:?}");
        assert!(f.circle_m.is_some_and(|c| near(c, ferry[1].circle_m.unwrap_or(0.0), 0.01)), "{f:?}");
        assert!(f.jump_m.is_none() && f.stop_s.is_some());
    }
}

#[test]
fn the_crane_arrives_without_overshoot_and_keeps_one_more_order() {
    let crane = compile(&text("crane.gait")).gait.expect("it ships");
    for hz in [20, 60, 128] {
        let f = feel(&crane, Rate::new(hz).expect("a rate"));
        // Less than a step of the wire: nobody else can see it.
        assert!(f.overshoot_m.is_some_and(|m| m < 1.0 / 256.0), "{f:?}");
        assert!(
            f.arrive_s.is_some_and(|s| (8.0..12.0).contains(&s)),
            "20 m at 3 m/s with starting and stopping: {f:?}"
        );
    }
    let walk = |orders: &str| {
        let text = format!(
            "{{ \"format\": 2, \"gait\": \"crane\", \"tick_rate\": 60, \"ground\": \"flat\", \"inputs\": [{orders}] }}"
        );
        let track = Track::parse(&text).expect("a track");
        let walked = walk(&track, &crane, None).expect("made for it");
        let at = walked.path().last().copied().expect("it has ticks");
        let through = |x: f32, y: f32| walked.path().iter().any(|p| p.distance(velocitas_core::vec3(x, y, p.z)) < 0.06);
        ((at.x, at.y), through(9.0, 0.0), through(9.0, 9.0))
    };
    let near = |(at, ..): ((f32, f32), bool, bool), x: f32, y: f32| (at.0 - x).abs() < 0.06 && (at.1 - y).abs() < 0.06;
    let nobody = walk("{ \"seconds\": 10 }");
    assert!(near(nobody, 0.0, 0.0), "not ordered is not ordered to the middle, nor anywhere: {nobody:?}");
    let two = walk("{ \"seconds\": 1, \"goal\": [9, 0, 0] }, { \"seconds\": 15, \"goal\": [9, 9, 0] }");
    assert!(near(two, 9.0, 9.0) && two.1, "first the one, then the other: {two:?}");
    let three = walk(
        "{ \"seconds\": 1, \"goal\": [9, 0, 0] }, { \"seconds\": 1, \"goal\": [9, 9, 0] }, { \"seconds\": 15, \"goal\": [0, 9, 0] }",
    );
    assert!(
        near(three, 0.0, 9.0) && three.1 && !three.2,
        "the newest takes the place of the one that waits: {three:?}"
    );
    let released = walk("{ \"seconds\": 1, \"goal\": [9, 0, 0] }, { \"seconds\": 15 }");
    assert!(near(released, 9.0, 0.0), "an order holds when nothing more is said: {released:?}");
}

/// Where the shipped tracks lead, a line each quarter second: a change of a gait or of the machine shows as a diff.
/// A track of each gait that ships.
const SHIPPED_TRACKS: [(&str, &str); 5] = [
    ("courier.gait", include_str!("../../../gaits/courier.track.json")),
    ("ferry.gait", include_str!("../../../gaits/ferry.track.json")),
    ("crane.gait", include_str!("../../../gaits/crane.track.json")),
    ("barge.gait", include_str!("../../../gaits/barge.track.json")),
    ("handcart.gait", include_str!("../../../gaits/handcart.track.json")),
];

#[test]
fn the_shipped_tracks_lead_where_they_always_led() {
    for (gait, track) in SHIPPED_TRACKS {
        let gait = compile(&text(gait)).gait.expect("it ships");
        let track = Track::parse(track).expect("it ships");
        let walked = walk(&track, &gait, None).expect("made for it");
        assert_eq!(walked.faults, 0);
        let velocity = gait.schema().velocity_lane();
        let line = |(i, state): (usize, &velocitas_core::State)| {
            let (at, v) = (state.vec3(0), velocity.map(|lane| state.vec3(lane)).unwrap_or_default());
            format!("{:>5}  {:>9.4} {:>9.4} {:>8.4}   {:>8.4} {:>8.4} {:>8.4}", i + 1, at.x, at.y, at.z, v.x, v.y, v.z)
        };
        let path: Vec<String> = walked.states.iter().enumerate().filter(|(i, _)| i % 15 == 14).map(line).collect();
        insta::assert_snapshot!(format!("path_of_the_{}", gait.name()), path.join("\n"));
        // A track written and read again is the same track.
        assert_eq!(Track::parse(&track.to_text()), Ok(track));
    }
}

#[test]
fn one_track_leads_to_the_same_place_at_every_tick_rate() {
    for (gait, track) in SHIPPED_TRACKS {
        let gait = compile(&text(gait)).gait.expect("it ships");
        let track = Track::parse(track).expect("it ships");
        let end = |hz| {
            let walked = walk(&track, &gait, Rate::new(hz)).expect("made for it");
            walked.path().last().copied().expect("it has ticks")
        };
        let usual = end(60);
        for hz in [20, 60, 128] {
            let apart = end(hz).distance(usual);
            assert!(apart < 0.05, "{} at {hz} Hz ends {apart} m from where it ends at 60 Hz", gait.name());
        }
    }
}

#[test]
fn an_attack_finds_a_limit_that_is_too_low_and_keeps_the_inputs_that_did_it() {
    let honest = compile(&text("courier.gait")).gait.expect("it ships");
    let how = Attack { seed: 5, restarts: 3, climbs: 15 };
    let envelope = attack(&honest, how, |_| true);
    assert_eq!(envelope.found.len(), 12);
    assert!(envelope.found.iter().all(|f| !f.exceeds()), "the shipped limits hold");
    // Somebody forgot the sprint in the limit.
    let wrong = text("courier.gait").replace("at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1))", "at most walk");
    let wrong = compile(&wrong).gait.expect("units cannot see it");
    let envelope = attack(&wrong, how, |_| true);
    let found = envelope.found.iter().find(|f| f.exceeds()).expect("sprinting exceeds it");
    let walked = walk(&found.track, &wrong, None).expect("its own track");
    let (level, ..) = walked.fastest(found.ticks);
    assert!((level - found.found_mps).abs() < 1e-3, "run again it does the same: {level} {}", found.found_mps);
    let again = attack(&wrong, how, |_| true);
    let speeds = |e: &Envelope| e.found.iter().map(|f| f.found_mps.to_bits()).collect::<Vec<_>>();
    assert_eq!(speeds(&again), speeds(&envelope), "the same seed finds the same");
    // A search that is stopped says what it found until then.
    let mut asked = 0;
    let stopped = attack(&wrong, how, |_| {
        asked += 1;
        asked < 5
    });
    assert!(stopped.found.len() < 12);
}

#[test]
fn tracks_that_do_not_fit_are_refused_with_what_was_expected() {
    let gait = compile(&text("courier.gait")).gait.expect("it ships");
    let track = include_str!("../../../gaits/courier.track.json");
    let said = |from: &str, to: &str| {
        assert!(track.contains(from), "{from}");
        let text = track.replacen(from, to, 1);
        match Track::parse(&text).and_then(|t| walk(&t, &gait, None)) {
            Ok(_) => panic!("`{to}` was accepted"),
            Err(error) => format!("{from} -> {to}\n  {error}"),
        }
    };
    let told = [
        said("\"format\": 2", "\"format\": 3"),
        said("\"format\": 2", "\"format\": 1"),
        said("\"format\": 2", "\"form\": 2"),
        said("\"gait\": \"courier\"", "\"gait\": \"ferry\""),
        said("\"tick_rate\": 60", "\"tick_rate\": 0"),
        said("\"ground\": \"kerbs\"", "\"ground\": \"moon\""),
        said("\"move\": [0, 1]", "\"mov\": [0, 1]"),
        said("\"move\": [0, 1]", "\"move\": [0, 1, 2]"),
        said("\"move\": [0, 1]", "\"move\": \"ahead\""),
        said("\"hop\": true", "\"hop\": 99"),
        said("\"sprint\": true", "\"sprint\": 1"),
        said("\"look\": 0.4", "\"look\": null"),
        said("\"seconds\": 0.5", "\"seconds\": 4000"),
        said("\"seconds\": 0.5", "\"seconds\": -1"),
        said("{ \"seconds\": 0.5 },", "{ \"seconds\": 0.5 "),
    ];
    insta::assert_snapshot!(told.join("\n"));
}

#[test]
fn a_course_sets_tunables_for_everybody_or_for_one_side() {
    use velocitas_lab::{Course, KnownTo};
    let tune = |known_to: &str| {
        let tune = format!("[[tune]]\nrule = \"courier\"\n{known_to}\nset = {{ walk = \"18 km/h\", haste = 1.5 }}\n");
        Words { rest: tune + &walker("heron", ""), ..Words::default() }.course()
    };
    let pace = |course: &Course, side| course.tunables(side)[usize::from(COURIER)][0];
    let sides = |course: &Course| (pace(course, KnownTo::Server), pace(course, KnownTo::Clients));
    assert_eq!(sides(&tune("")), (5.0, 5.0));
    assert_eq!(sides(&tune("known_to = \"server\"")), (5.0, 4.2));
    assert_eq!(sides(&tune("known_to = \"clients\"")), (4.2, 5.0));
    // What everybody knows is no cause of anything.
    let mut run = Run::new(tune("known_to = \"all\"")).expect("it fits");
    run.advance(LabTime::from_secs(10.0));
    assert_eq!(corrections(run.record(), 0, LabTime::ZERO).len(), 0);
    let speeds = run.record().authority(actor(run.record(), 0));
    let speeds = (0..speeds.len()).map(|i| speeds.vec3(i, 3).level().length());
    let fastest = speeds.fold(0.0, velocitas_core::max);
    assert!(near(fastest, 7.5, 0.01), "18 km/h times 1.5: {fastest}");
}

#[test]
fn each_gait_file_is_read_once_and_two_rules_of_one_name_are_refused() {
    use std::cell::RefCell;
    use velocitas_lab::{Course, Sources};
    let reads = RefCell::new(Vec::new());
    let read = |path: &str| {
        reads.borrow_mut().push(path.to_owned());
        shipped_gait(path.trim_start_matches("copy-of-"))
    };
    let parse = |cast: &str| {
        let text = format!(
            "format = 1\nname = \"x\"\ntick_rate = \"60 Hz\"\nworld = {{ min = [-30, -30], max = [30, 30] }}\n[link.test]\n{cast}"
        );
        Course::parse_with("x.course.toml", &text, Sources { own: &[], read: &read })
    };
    let ferry = walker("teal", "").replace("courier.gait", "ferry.gait").replace(crate::scenario::ROUND, "[]");
    let course = parse(&(walker("heron", "") + &ferry + &walker("plover", ""))).expect("sound");
    assert_eq!(*reads.borrow(), ["courier.gait", "ferry.gait"]);
    let kinds: Vec<u8> = course.cast.iter().map(|m| m.kind).collect();
    assert_eq!(kinds, [1, 2, 1]);
    assert_eq!(course.gait_file(2).map(|g| g.path.as_str()), Some("ferry.gait"));
    assert_eq!(course.gait_file(0), None, "the built-in rule has no file");
    let twin = walker("dunlin", "").replace("courier.gait", "copy-of-courier.gait");
    let refused = parse(&(walker("heron", "") + &twin)).map(|_| ()).unwrap_err();
    assert!(refused.message.contains("expected a rule of another name"), "{refused}");
}

#[test]
fn couriers_and_the_ferry_live_in_one_world_and_the_ferry_keeps_its_course() {
    let mut run = Run::new(velocitas_lab::Course::demo()).expect("it fits");
    run.advance(LabTime::from_secs(62.0));
    let teal = run.course().member("teal").expect("the ferry");
    let place = teal.index();
    let track = run.record().authority(actor(run.record(), place));
    let passed = |x: f32, y: f32| {
        (0..track.len()).any(|i| {
            let at = track.vec3(i, 0);
            velocitas_core::vec3(x - at.x, y - at.y, 0.0).length() < 3.0
        })
    };
    for waypoint in &run.course()[teal].script.route {
        assert!(passed(waypoint.at.0, waypoint.at.1), "it passed {:?}", waypoint.at);
    }
    assert_eq!(corrections(run.record(), place, LabTime::ZERO).len(), 0);
    assert!(first_predictions_are_exact(run.record(), place) > 3000);
    // Somebody else draws it near where it is: on the curve between two snapshots.
    let moment = run.moment(run.now());
    let echoes = moment.echoes(actor(run.record(), place), machine(run.record(), 0));
    let (truth, drawn) = (echoes.authority.expect("there"), echoes.drawn.expect("seen"));
    assert!(truth.pos.distance(drawn.pos) < 1.5, "a fifth of a second behind");
    assert!(truth.bearing.is_some() && drawn.bearing.is_some());
}

#[test]
fn a_car_with_a_brake_has_a_top_speed_and_a_hop_on_a_held_key_a_height() {
    let text = "gait \"kart\"\ninput {\n  move stick\n  look bearing\n  brake held\n  boost held\n  up held\n}\n\
                state {\n  pos point m\n  vel vector m/s\n  grounded flag\n}\n\
                body { radius 0.3 m height 1 m step 0.3 m }\n\
                step {\n  let top = if brake then 0 m/s else if boost then 9 m/s else 6 m/s\n\
                  vel.xy = toward(vel.xy, top * turn(move, look), 20 m/s^2 * dt)\n\
                  vel.z = vel.z - 20 m/s^2 * dt\n  if grounded and up { kick vel.z = 6 m/s }\n  slide pos, vel\n}\n\
                limits { pace vel.xy at most 9 m/s climb vel.z at most 6 m/s fall vel.z at least 20 m/s^2 }\n";
    let compiled = compile(text);
    let gait = compiled.gait.unwrap_or_else(|| panic!("{:?}", compiled.diagnostics));
    for hz in RATES {
        let f = feel(&gait, Rate::new(hz).expect("a rate"));
        assert!((f.top_mps - 9.0).abs() < 0.1, "{hz} Hz: {f:?}");
        assert!(f.jump_m.is_some_and(|height| (0.7..1.3).contains(&height)), "{hz} Hz: {f:?}");
        assert!(f.stop_m.is_some_and(|way| way > 1.0), "{hz} Hz: {f:?}");
    }
}
