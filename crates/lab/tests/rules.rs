//! Rules from files in whole runs: differing on one side, changing while they run.

use std::sync::Arc;

use crate::scenario::{
    Words, actor, causes, corrections, first_predictions_are_exact, machine, member, unexplained, verdicts, walker,
};
use velocitas_analysis::cause::Cause;
use velocitas_core::{Motion, Schema};
use velocitas_gait::{compile, compile_after};
use velocitas_lab::{Course, ReloadError, Run, shipped_gait};
use velocitas_record::{Acts, Changed, Command, Controls, Known, KnownTo, LabTime, Part, Reach, RecordTick};

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

#[test]
fn a_course_sets_tunables_for_everybody_or_for_one_side() {
    use velocitas_lab::Course;
    use velocitas_record::KnownTo;
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
    assert!((fastest - 7.5).abs() < 0.075, "18 km/h times 1.5: {fastest}");
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
    let mut run = Run::new(Course::demo()).expect("it fits");
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
fn a_turned_tunable_survives_a_reload_and_the_others_follow_the_rule() {
    let text = text("courier.gait");
    let mut known = Course::demo().known(KnownTo::Clients);
    let at = |known: &Known, name: &str| {
        let i = known.kinds.motion(1).tunables().iter().position(|t| t.name == name).expect("it has it");
        known.tunables[1][i]
    };
    known.take(&Changed::Tuned { kind: 1, tunable: "haste", value: 2.5 });
    let edited = text.replace("4.2 m/s ", "5 m/s ").replace("haste    1.6", "haste    1.7");
    let rule: Arc<dyn Motion> = Arc::new(compile(&edited).gait.expect("sound"));
    known.take(&Changed::Reloaded { kind: 1, version: 1, rule });
    assert_eq!((at(&known, "haste"), at(&known, "walk"), known.versions[1]), (2.5, 5.0, 1));
    known.take(&Changed::Tuned { kind: 1, tunable: "wings", value: 1.0 });
    known.take(&Changed::Tuned { kind: 1, tunable: "walk", value: 1e9 });
    assert_eq!(at(&known, "walk"), 20.0, "held in range");
}
