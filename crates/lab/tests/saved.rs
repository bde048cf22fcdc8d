//! Courses that are saved while they run.

use velocitas_lab::{Course, Run, Saved, Sources};
use velocitas_record::{Happening, Knob, KnobValue, LabTime, MemberId};

const COURSE: &str = r#"format = 1
name = "quay"
seed = 5
tick_rate = "60 Hz"
world = { min = [-30, -20], max = [30, 20] }

[link.home]
latency = "40 ms"
loss = "2 %"

[[cast]]
name = "heron"
role = "helm"
gait = "a.gait"
link = "home"
spawn = [0, 0]
route = [{ at = [9, 0] }, { at = [0, 0] }]

[[cast]]
name = "teal"
role = "bot"
gait = "a.gait"
spawn = [4, 8]

[[event]]
at = "2 s"
every = "3 s"
push = { who = "heron", north = "4 m/s" }
"#;

fn secs(x: f64) -> LabTime {
    LabTime::from_secs(x)
}

/// A course whose gait is the courier's shipped text, with some of it changed.
fn read_with(text: &str, gait: (&str, &str)) -> Course {
    let courier = velocitas_lab::shipped_gait("courier.gait").expect("it ships").replace(gait.0, gait.1);
    let read = move |_: &str| Ok(courier.clone());
    Course::parse_with("quay", text, Sources { own: &[], read: &read }).unwrap_or_else(|e| panic!("{e}"))
}

fn read(text: &str) -> Course {
    read_with(text, ("", ""))
}

fn changed(changes: &[(&str, &str)]) -> Course {
    let text = changes.iter().fold(COURSE.to_owned(), |text, (from, to)| {
        assert!(text.contains(from), "{from}");
        text.replacen(from, to, 1)
    });
    read(&text)
}

fn at(seconds: f64) -> Run {
    let mut run = Run::new(read(COURSE)).expect("it fits");
    run.advance(secs(seconds));
    run
}

/// When somebody was pushed, in tenths of a second.
fn pushes(run: &Run) -> Vec<u64> {
    let rows = &run.record().of(run.course().machine(MemberId::new(0))).happenings;
    let pushed = rows.iter().filter(|row| {
        matches!(row.what, Happening::Pushed(..)) && row.part == velocitas_record::Part::Client && row.tick.is_some()
    });
    let mut moments: Vec<u64> = pushed.map(|row| row.at.0 / 100_000_000).collect();
    moments.dedup();
    moments
}

fn words(saved: &Saved) -> (Vec<&str>, Vec<&str>) {
    (saved.taken.iter().map(String::as_str).collect(), saved.restart.iter().map(String::as_str).collect())
}

#[test]
fn events_links_settings_and_budgets_hold_from_the_moment_they_are_saved() {
    let mut run = at(3.0);
    let saved = changed(&[
        ("latency = \"40 ms\"", "latency = \"90 ms\"\ndown = { loss = \"5 %\" }"),
        ("every = \"3 s\"", "every = \"2 s\""),
        ("spawn = [4, 8]\n", "spawn = [4, 8]\nsettings = { prediction = false }\n"),
        ("[[event]]", "[[budget]]\nview_age = \"200 ms\"\n\n[[event]]"),
    ]);
    let came = run.take_over(&saved);
    assert_eq!(words(&came), (vec!["budget", "teal: settings", "event", "link"], vec![]));
    let [heron, teal] = [0, 1].map(MemberId::new);
    let knobs = run.lab().knobs(heron);
    assert_eq!((knobs.up.latency_ms, knobs.up.loss, knobs.down.loss), (90.0, 0.02, 0.05));
    assert!(!run.lab().knobs(teal).settings.predict && run.lab().knobs(heron).settings.predict);
    assert_eq!(run.course().limits.iter().filter(|limit| limit.line.is_some()).count(), 2);
    run.advance(secs(9.5));
    // At 2 s by the old course, then in step with the new one.
    assert_eq!(pushes(&run), [20, 40, 60, 80]);
    // Everything is explained by what is known to have been changed.
    let (figures, _) = run.figures();
    assert!(figures[0].corrections.count > 0 && figures.iter().all(|m| m.corrections.unexplained == 0));
}

#[test]
fn defaults_that_are_saved_hold_for_everybody_who_names_nothing_else() {
    let mut run = at(3.0);
    run.take_over(&changed(&[("spawn = [4, 8]\n", "spawn = [4, 8]\nsettings = { send_every = 3 }\n")]));
    let both = [
        ("spawn = [4, 8]\n", "spawn = [4, 8]\nsettings = { send_every = 3 }\n"),
        ("[link.home]", "[defaults]\nsend_every = 2\nmissing = \"rest\"\n\n[link.home]"),
    ];
    assert_eq!(words(&run.take_over(&changed(&both))), (vec!["defaults"], vec![]));
    let sent = |run: &Run| [0, 1].map(|member| run.lab().knobs(MemberId::new(member)).settings.send_every);
    assert_eq!(sent(&run), [2, 3]);
    // As they were again.
    assert_eq!(words(&run.take_over(&changed(&both[..1]))), (vec!["defaults"], vec![]));
    assert_eq!(sent(&run), [1, 3]);
}

#[test]
fn what_was_taken_over_is_taken_over_again_when_a_run_goes_on_from_before_or_after() {
    let mut run = at(6.0);
    run.take_over(&changed(&[("latency = \"40 ms\"", "latency = \"90 ms\""), ("at = \"2 s\"", "at = \"2.5 s\"")]));
    run.advance(secs(15.0));
    let whole = run.digest();
    run.resume_from(secs(9.0));
    run.advance(secs(15.0));
    assert_eq!(run.digest(), whole);
    // From before it, it never was.
    run.resume_from(secs(5.0));
    run.advance(secs(15.0));
    assert_eq!(run.digest(), at(15.0).digest());
    assert_ne!(run.digest(), whole);
}

#[test]
fn what_needs_a_new_beginning_is_named_until_it_is_as_it_was_and_the_rest_is_taken_over() {
    let mut run = at(1.0);
    let restart = [
        ("seed = 5", "seed = 6"),
        ("tick_rate = \"60 Hz\"", "tick_rate = \"30 Hz\""),
        ("max = [30, 20]", "max = [31, 20]"),
        ("spawn = [4, 8]", "spawn = [5, 8]"),
        ("{ at = [9, 0] }", "{ at = [8, 0] }"),
    ];
    let mut all = restart.to_vec();
    all.push(("loss = \"2 %\"", "loss = \"3 %\""));
    let came = run.take_over(&changed(&all));
    let needs = ["heron: route", "teal: spawn", "seed", "tick_rate", "world"];
    assert_eq!(words(&came), (vec!["link"], needs.to_vec()));
    assert_eq!((run.course().seed, run.course().rate.hz(), run.lab().knobs(MemberId::new(0)).up.loss), (5, 60, 0.03));
    // Saved once more with something else: that is still so.
    all.push(("at = \"2 s\"", "at = \"4 s\""));
    assert_eq!(words(&run.take_over(&changed(&all))), (vec!["event"], needs.to_vec()));
    // And no more once it is as it was.
    assert_eq!(words(&run.take_over(&read(COURSE))), (vec!["event", "link"], vec![]));
    assert_eq!(words(&run.take_over(&read(COURSE))), (vec![], vec![]));
}

#[test]
fn others_in_the_cast_are_not_taken_over() {
    let mut run = at(1.0);
    let came = run.take_over(&changed(&[("name = \"teal\"", "name = \"knot\""), ("loss = \"2 %\"", "loss = \"3 %\"")]));
    assert_eq!(words(&came), (vec![], vec!["cast (others take part)"]));
    assert!(came.course.is_none());
    assert_eq!(run.lab().knobs(MemberId::new(0)).up.loss, 0.02);
}

#[test]
fn what_a_hand_turned_stays_unless_the_course_says_it_anew() {
    let mut run = at(1.0);
    let heron = MemberId::new(0);
    for (knob, value) in [(Knob::Latency, 150.0), (Knob::Loss, 9.0)] {
        run.command(velocitas_record::Command::Set { member: heron, knob, value: KnobValue::Number(value) });
    }
    run.take_over(&changed(&[("loss = \"2 %\"", "loss = \"3 %\"")]));
    let knobs = run.lab().knobs(heron);
    assert_eq!((knobs.up.latency_ms, knobs.up.loss), (150.0, 0.03));
}

#[test]
fn an_event_tunes_what_it_names_in_whatever_order_the_saved_rule_has_it() {
    let mut run = at(1.0);
    let tune = "[[event]]\nat = \"2 s\"\ntune = { rule = \"courier\", set = { haste = 1.9 } }\n";
    let text = COURSE.to_owned() + tune;
    let course = read_with(&text, ("tune {", "tune {\n  aaa 1 from 0 to 2\n"));
    let came = run.take_over(&course);
    assert_eq!(words(&came).0, ["event"], "{came:?}");
    run.advance(secs(4.0));
    let known = run.lab().server_known();
    let place = known.kinds.motion(1).tunables().iter().position(|t| t.name == "haste").expect("it has it");
    assert_eq!(known.tunables[1][place], 1.9);
    // What the running rule has not cannot be tuned.
    let text = COURSE.to_owned() + &tune.replace("haste = 1.9", "aaa = 1.5");
    let came = run.take_over(&read_with(&text, ("tune {", "tune {\n  aaa 1 from 0 to 2\n")));
    assert!(
        came.course.is_none() && came.restart.iter().any(|said| said.starts_with("event (it speaks of a tunable")),
        "{came:?}"
    );
}
