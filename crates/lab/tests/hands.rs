//! What hands do: scripts, tracks, presses at random, exercise; and that what was done at the helm can be done again.

use crate::scenario::{Words, actor, machine, member, unexplained, verdicts};
use velocitas_core::{Input, Motion, Schema};
use velocitas_lab::track::{Recorder, Track};
use velocitas_lab::{Course, Run, Sources};
use velocitas_record::record::Record;
use velocitas_record::{Acts, Command, Controls, LabTime};

/// A rule with an input of every kind.
const KITE: &str = "gait \"kite\"\n\
    input {\n  move stick\n  facing bearing owned\n  gaze pitch\n  tuck held\n  dash press\n  flare press\n  lift axis\n  goal point\n}\n\
    state {\n  pos point m wire 1/256 agree 2 cm blend curve\n  vel vector m/s wire 1/128 agree 10 cm/s\n  dashes counter\n}\n\
    tune {\n  walk 4 m/s\n  rise 3 m/s\n}\n\
    body { radius 0.3 m height 1.5 m step 0.3 m }\n\
    step {\n  let top = walk * if tuck then 0.5 else 1\n\
      vel.xy = toward(vel.xy, turn(move, facing) * top, 40 m/s^2 * dt)\n\
      vel.z = toward(vel.z, lift * rise, 20 m/s^2 * dt)\n\
      if dash { dashes = dashes + 1 }\n\
      if flare and goal.given { vel.z = rise * 0.5 * cos(gaze) }\n\
      slide pos, vel\n}\n\
    limits {\n  pace vel.xy at most walk slack 4 %\n  climb vel.z at most rise slack 4 %\n  drop vel.z at most rise slack 4 %\n}\n";

fn read(path: &str) -> Result<String, String> {
    if path == "kite.gait" { Ok(KITE.to_owned()) } else { Err(format!("no {path} here")) }
}

/// A course with one kite whose hands do so.
fn kite(hands: &str, with: impl Fn(&str) -> Result<String, String>) -> Course {
    let cast = format!(
        "[[cast]]\nname = \"teal\"\nrole = \"bot\"\ngait = \"kite.gait\"\nlink = \"test\"\nspawn = [0, 0]\n{hands}\n"
    );
    let text = Words { link: "latency = \"40 ms\"\njitter = \"6 ms\"", rest: cast, ..Words::default() }.text();
    let course = Course::parse_with("kite.course.toml", &text, Sources { own: &[], read: &with });
    course.unwrap_or_else(|e| panic!("{e}"))
}

fn run(course: Course, secs: f64) -> Run {
    let mut run = Run::new(course).expect("it fits");
    run.advance(LabTime::from_secs(secs));
    run
}

/// The states that the server made of the first member's body, tick by tick.
fn authority(record: &Record) -> Vec<velocitas_core::State> {
    let track = record.authority(actor(record, 0));
    (0..track.len()).map(|i| track.state(i)).collect()
}

/// Every input that the server used, in order.
fn used(record: &Record) -> Vec<Input> {
    let rows = record.of(machine(record, 0)).own(actor(record, 0)).map(|own| &own.inputs).expect("it plays");
    rows.rows().span(LabTime::ZERO, record.end).filter_map(|row| rows.used(&row)).collect()
}

fn lane(schema: &Schema, name: &str) -> usize {
    schema.input.iter().find(|f| f.name == name).map(|f| f.lane).expect("an input of it")
}

/// What hands do at odd moments, in an order that changes everything a rule has.
fn meddle(rule: &dyn Motion) -> Vec<(u64, Controls)> {
    let schema = rule.schema();
    let owned = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect();
    let keys = |stick, facing: f32, press: &[&str], hold: &[&str], lift: f32| {
        let acts = Acts { press: owned(press), hold: owned(hold), axes: vec![("lift".to_owned(), lift)], order: None };
        let order = (lift != 0.0).then(|| velocitas_core::vec3(facing, 3.0, 0.0));
        Controls { stick, facing, pitch: facing / 4.0, order, given: acts.given(schema) }
    };
    vec![
        (611_000_003, keys((0.0, 1.0), 1.57, &[], &[], 0.0)),
        (900_000_000, keys((0.0, 1.0), 1.57, &["dash"], &["tuck"], 0.0)),
        (900_000_000, keys((0.0, 1.0), 1.57, &["dash", "flare"], &["tuck"], 0.0)),
        (1_416_666_667, keys((-0.5, 0.25), 0.3, &[], &["tuck"], 1.0)),
        (1_433_333_334, keys((-0.5, 0.25), 0.3, &["dash"], &[], 1.0)),
        (2_750_000_001, keys((0.0, 0.0), -2.0, &[], &[], -1.0)),
        (3_600_000_000, keys((0.0, 0.0), -2.0, &["flare", "dash"], &[], 0.0)),
    ]
}

#[test]
fn a_track_kept_at_the_helm_and_played_gives_the_authority_the_same_states() {
    let course = kite("", read);
    let kinds = course.kinds.clone();
    let rule = kinds.motion(course.cast[0].kind);
    let rate = course.rate;
    let mut live = Run::new(course).expect("it fits");
    live.command(Command::Helm(Some(member(0))));
    let mut recorder = Recorder::begin(live.now(), rule.schema(), &Input::default());
    for (at, controls) in meddle(rule) {
        live.advance(LabTime(at));
        live.command(Command::Keys(controls));
        recorder.note(live.now(), rule.schema(), &controls.to_input(rule.schema(), rule.schema()));
    }
    live.advance(LabTime::from_secs(5.0));
    let text = recorder.track(rule, rate, live.now()).to_text();
    let played =
        kite(
            "track = \"kept.track.json\"",
            |path| if path == "kept.track.json" { Ok(text.clone()) } else { read(path) },
        );
    let played = run(played, 5.0);
    let dashes = lane(rule.schema(), "dash");
    let pressed = |record: &Record| used(record).iter().map(|input| input.int(dashes)).sum::<u32>();
    assert_eq!(pressed(live.record()), 4, "each press was heard");
    assert!(authority(live.record()) == authority(played.record()));
    assert!(authority(live.record()).iter().any(|state| state.vec3(0).length() > 2.0), "and it went somewhere");
    // Something done otherwise is told apart.
    let other = text.replacen("[0.0,1.0]", "[0.0,0.5]", 1);
    assert_ne!(other, text);
    let other =
        kite(
            "track = \"kept.track.json\"",
            |path| if path == "kept.track.json" { Ok(other.clone()) } else { read(path) },
        );
    assert!(authority(live.record()) != authority(run(other, 5.0).record()));
}

#[test]
fn a_recording_forgets_what_came_after_a_moment_that_was_gone_back_to() {
    let course = kite("", read);
    let rule = course.kinds.motion(course.cast[0].kind);
    let mut recorder = Recorder::begin(LabTime::from_secs(10.0), rule.schema(), &Input::default());
    for (at, controls) in meddle(rule) {
        recorder.note(LabTime(10_000_000_000 + at), rule.schema(), &controls.to_input(rule.schema(), rule.schema()));
    }
    recorder.forget_after(LabTime::from_secs(11.0));
    let track = recorder.track(rule, course.rate, LabTime::from_secs(12.0));
    let ends: Vec<f64> = track.inputs.iter().map(|span| span.seconds).collect();
    assert_eq!(ends, [0.611_000_003, 0.288_999_997, 1.1]);
    assert_eq!(track.lasts(), LabTime::from_secs(2.0));
    assert_eq!(track.inputs[2].fields["dash"], 2, "of presses at one moment none is lost");
}

#[test]
fn a_script_is_played_again_and_again_and_every_press_is_heard() {
    let hands = "script = [{ lasts = \"1 s\", stick = [0, 1], facing = \"90 deg\", press = [\"dash\"] },\n\
                 { lasts = \"500 ms\", hold = [\"tuck\"], axis = { lift = -0.5 }, order = [3, 4, 5] }]";
    let run = run(kite(hands, read), 15.2);
    let record = run.record();
    let schema = record.layout(actor(record, 0), velocitas_record::RecordTick(1)).schema().clone();
    let all = used(record);
    let of = |name: &str| lane(&schema, name);
    // Eleven times it began; the first was over before it had joined.
    let dashes = all.iter().map(|input| input.int(of("dash"))).sum::<u32>();
    assert!((9..=10).contains(&dashes), "{dashes}");
    let tucked = all.iter().filter(|input| input.flag(of("tuck"))).count() as f64 / all.len() as f64;
    assert!((0.28..0.40).contains(&tucked), "a third of the time: {tucked}");
    let lift = all.iter().map(|input| input.real(of("lift"))).fold(0.0, velocitas_core::min);
    assert!((lift + 0.5).abs() < 0.01, "{lift}");
    let goal = all.last().map(|input| input.vec3(of("goal"))).expect("inputs");
    assert!(goal.distance(velocitas_core::vec3(3.0, 4.0, 5.0)) < 0.1, "{goal:?}");
    assert_eq!(unexplained(record, 0), 0);
}

#[test]
fn presses_at_random_and_exercise_use_every_input_and_accuse_nobody() {
    for hands in [
        "random = \"3 /s\"",
        "exercise = true",
        "route = [{ at = [8, 0] }, { at = [0, 8] }]\nrandom = \"2 /s\"\nexercise = true",
    ] {
        let course = kite(hands, read);
        let (once, again) = (run(course.clone(), 60.0), run(course, 60.0));
        assert_eq!(once.digest(), again.digest(), "{hands}: the same seed, the same hands");
        let record = once.record();
        let schema = record.layout(actor(record, 0), velocitas_record::RecordTick(1)).schema().clone();
        let all = used(record);
        for f in &schema.input {
            let given = all.iter().filter(|input| (f.lane..f.lane + f.kind.lanes()).any(|lane| input.int(lane) != 0));
            assert!(given.count() >= 3, "{hands}: `{}` was used", f.name);
        }
        assert_eq!((unexplained(record, 0), verdicts(record, 0)), (0, 0), "{hands}");
    }
}

#[test]
fn a_track_that_does_not_fit_is_refused_where_the_course_names_it() {
    let said = |track: &str| {
        let text = Words {
            rest: "[[cast]]\nname = \"teal\"\nrole = \"bot\"\ngait = \"kite.gait\"\nspawn = [0, 0]\ntrack = \"a.track.json\"\n".to_owned(),
            ..Words::default()
        }
        .text();
        let with =
            |path: &str| if path == "a.track.json" && !track.is_empty() { Ok(track.to_owned()) } else { read(path) };
        let refused = Course::parse_with("kite.course.toml", &text, Sources { own: &[], read: &with });
        refused.map(|_| ()).expect_err("it does not fit").to_string()
    };
    let track = |gait: &str, inputs: &str| format!("{{ \"format\": 2, \"gait\": \"{gait}\", \"inputs\": [{inputs}] }}");
    for (text, expected) in [
        (String::new(), "no a.track.json here"),
        (track("ferry", ""), "expected a track for `kite`; found one for `ferry`"),
        (track("kite", "{ \"seconds\": 1, \"hop\": true }"), "found `hop`"),
        (track("kite", "{ \"seconds\": 0 }"), "expected spans of more than 0 seconds; found 0"),
        (track("kite", "{ \"ticks\": 1 }"), "missing field `seconds`"),
        (
            track("kite", "").replace("2", "1"),
            "expected format 2, which counts `seconds`; found format 1, which counts ticks",
        ),
    ] {
        let said = said(&text);
        assert!(said.contains(expected) && said.starts_with("kite.course.toml:"), "{said}");
    }
    assert!(Track::parse(&track("kite", "")).is_ok());
}
