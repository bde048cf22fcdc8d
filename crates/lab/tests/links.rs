//! Links as players have them, and what happens to them and over them while a course runs.

use crate::scenario::{Words, actor, causes, corrections, facts, machine, unexplained, verdicts, walker};
use velocitas_core::{Drawn, Fact, vec3};
use velocitas_lab::{Course, PROFILES, Run, Sources, shipped_gait};
use velocitas_record::record::Record;
use velocitas_record::{Happening, LabTime};

fn secs(x: f64) -> LabTime {
    LabTime::from_secs(x)
}

/// Couriers who press at random on a kind of link, and one who walks its round.
fn pressers(profile: &str, seed: u64) -> Course {
    let presser = |name: &str| {
        format!(
            "[[cast]]\nname = \"{name}\"\nrole = \"bot\"\ngait = \"courier.gait\"\nlink = \"{profile}\"\nspawn = [0, 0]\nrandom = \"3 /s\"\n"
        )
    };
    let crates = "[[solid]]\nname = \"crate\"\nat = [5, 3]\nsize = [2, 1.6]\nyaw = \"20 deg\"\nheight = \"1.2 m\"\n";
    let cast: String = ["heron", "plover", "dunlin"].map(presser).concat();
    let round = walker("teal", "").replace("\"test\"", &format!("\"{profile}\""));
    Words { seed, rest: crates.to_owned() + &cast + &round, ..Words::default() }.course()
}

fn step_faults(record: &Record) -> usize {
    record
        .cast
        .machines()
        .flat_map(|machine| facts(record, machine))
        .filter(|(_, f)| matches!(f, Fact::StepFault { .. }))
        .count()
}

#[track_caller]
fn soak(seconds: f64, seeds: std::ops::Range<u64>) {
    for profile in &PROFILES {
        for seed in seeds.clone() {
            let mut run = Run::new(pressers(profile.name, seed)).expect("it fits");
            run.advance(secs(seconds));
            let record = run.record();
            let all: Vec<usize> = (0..4).map(|member| unexplained(record, member)).collect();
            let accused: usize = (0..4).map(|member| verdicts(record, member)).sum();
            assert_eq!((all, accused, step_faults(record)), (vec![0; 4], 0, 0), "{} with seed {seed}", profile.name);
        }
    }
}

#[test]
fn random_pressers_on_each_profile_are_corrected_with_reason_and_accused_of_nothing() {
    soak(60.0, 1..3);
}

#[test]
#[ignore = "minutes: run it after changes to links, hands or causes"]
fn thirty_minutes_of_random_pressers_on_each_profile() {
    soak(1800.0, 1..2);
}

/// The share of datagrams lost and the mean way of those that were not, in milliseconds, between two moments, up.
fn way(record: &Record, from: f64, to: f64) -> (f64, f64) {
    let rows: Vec<_> =
        record.datagrams(machine(record, 0), secs(from), secs(to)).filter(|row| row.kind.is_up()).collect();
    let ways: Vec<f64> = rows.iter().filter_map(|row| Some(row.arrived?.minus(row.at).millis())).collect();
    (1.0 - ways.len() as f64 / rows.len() as f64, ways.iter().sum::<f64>() / ways.len() as f64)
}

#[test]
fn an_event_turns_a_link_each_way_apart_and_the_record_says_so() {
    let events = "[[event]]\nat = \"10 s\"\nlink = { who = \"heron\", latency = \"90 ms\", down = { loss = \"100 %\" } }\n\
                  [[event]]\nat = \"12 s\"\nlink = { who = \"heron\", profile = \"satellite\" }\n";
    let rest = walker("heron", "") + events;
    let run = Words { link: "latency = \"20 ms\"", rest, ..Words::default() }.run(30.0);
    let record = run.record();
    assert_eq!(way(record, 5.0, 9.9), (0.0, 20.0));
    assert_eq!(way(record, 10.1, 11.8), (0.0, 90.0));
    let (loss, ms) = way(record, 14.0, 30.0);
    assert!((0.0..0.1).contains(&loss) && (280.0..330.0).contains(&ms), "{loss} {ms}");
    let down: Vec<_> =
        record.datagrams(machine(record, 0), secs(10.1), secs(11.9)).filter(|row| !row.kind.is_up()).collect();
    assert!(down.len() > 20 && down.iter().all(|row| row.arrived.is_none()), "nothing comes down");
    let told: Vec<(bool, &str, f64)> = record
        .of(machine(record, 0))
        .happenings
        .span(LabTime::ZERO, secs(11.0))
        .filter_map(|row| match row.what {
            Happening::Link { up, knob, value } => Some((up, knob.spec().key, value)),
            _ => None,
        })
        .collect();
    assert_eq!(told, [(true, "latency", 90.0), (false, "latency", 90.0), (false, "loss", 1.0)]);
}

#[test]
fn a_teleport_is_explained_and_cut_for_its_owner_and_for_others() {
    let event = "[[event]]\nat = \"10 s\"\nteleport = { who = \"heron\", to = [-20, 10] }\n\
                 [[event]]\nat = \"15 s\"\nteleport = { who = \"heron\", to = [-20, 11] }\n";
    let standing = |name: &str| walker(name, "").replace(crate::scenario::ROUND, "[]");
    let rest = standing("heron") + &standing("plover") + event;
    let run = Words { link: "latency = \"40 ms\"", rest, ..Words::default() }.run(20.0);
    let record = run.record();
    let all = corrections(record, 0, LabTime::ZERO);
    assert_eq!(all.len(), 2, "one each");
    for (at, c) in &all {
        let why: Vec<&str> = causes(record, 0, *at, c).iter().map(velocitas_analysis::cause::Cause::name).collect();
        assert_eq!(why, ["teleported"]);
    }
    // On no screen is it ever anywhere between: a metre would be eased otherwise.
    for viewer in [0, 1] {
        let viewer = machine(record, viewer);
        let frames = record.of(viewer).frames.until(record.end);
        let drawn = (0..frames).filter_map(|number| record.drawn_in(viewer, actor(record, 0), number));
        let places: Vec<f32> = drawn.filter(|row| row.how != Drawn::First).map(|row| row.pos.y).collect();
        let near = |y: f32| [0.0, 10.0, 11.0].iter().any(|place| (y - place).abs() < 0.01);
        assert!(places.len() > 900 && places.iter().all(|y| near(*y)), "{:?}", places.iter().find(|y| !near(**y)));
        assert!([0.0, 10.0, 11.0].iter().all(|place| places.iter().any(|y| (y - place).abs() < 0.01)));
    }
    let there = record.authority(actor(record, 0));
    assert!(there.pos(there.len() - 1).distance(vec3(-20.0, 11.0, 0.0)) < 0.01);
}

#[test]
fn an_event_turns_tunables_on_one_side_and_what_differs_is_the_cause() {
    let event = "[[event]]\nat = \"5 s\"\ntune = { rule = \"courier\", known_to = \"clients\", set = { walk = \"5 m/s\" } }\n\
                 [[event]]\nat = \"10 s\"\ntune = { rule = \"courier\", set = { walk = \"5 m/s\" } }\n";
    let run = Words { link: "latency = \"30 ms\"", rest: walker("heron", "") + event, ..Words::default() }.run(20.0);
    let record = run.record();
    let in_time = |from: f64, to: f64| {
        let all = corrections(record, 0, secs(from));
        all.into_iter().filter(|(at, _)| *at < secs(to)).collect::<Vec<_>>()
    };
    assert_eq!((in_time(0.0, 5.0).len(), in_time(11.0, 20.0).len()), (0, 0));
    let between = in_time(5.2, 10.0);
    assert!(between.len() > 20, "{}", between.len());
    let words = causes(record, 0, between[5].0, &between[5].1)[0].words(record);
    assert_eq!(words, "walk is 5 m/s at the client, 4.2 m/s at the server");
}

#[test]
fn a_link_follows_the_trace_that_its_course_names() {
    let text =
        Words { link: "trace = \"evening.csv\"\nlatency = \"10 ms\"", rest: walker("heron", ""), ..Words::default() }
            .text();
    let read = |path: &str| match path {
        "evening.csv" => Ok("seconds,delay_ms\n0,30\n5,lost\n6,80\n10,0\n".to_owned()),
        gait => shipped_gait(gait),
    };
    let course = Course::parse_with("x.course.toml", &text, Sources { own: &[], read: &read }).expect("sound");
    let warned: Vec<String> = course.warnings.iter().map(ToString::to_string).collect();
    assert!(
        warned.iter().any(|w| w.contains("`test` follows this trace for 10 s, then it begins again")),
        "{warned:?}"
    );
    let mut run = Run::new(course).expect("it fits");
    run.advance(secs(20.0));
    let record = run.record();
    assert_eq!(way(record, 1.0, 4.9), (0.0, 40.0));
    assert!(way(record, 5.05, 5.95).0 > 0.99);
    assert_eq!(way(record, 11.0, 14.9), (0.0, 40.0), "it begins again");
    assert_eq!(way(record, 16.2, 19.9), (0.0, 90.0));
}

/// Every course that ships besides the demo and those with faults, by its path.
fn shipped() -> Vec<(std::path::PathBuf, Course)> {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../courses");
    let files = |folder: &std::path::Path| {
        let all = std::fs::read_dir(folder).expect("it is there").map(|entry| entry.expect("an entry").path());
        let mut files: Vec<_> = all.filter(|path| path.to_string_lossy().ends_with(".course.toml")).collect();
        files.sort();
        files
    };
    let all = [files(&folder), files(&folder.join("links"))].concat();
    let read = |path: std::path::PathBuf| {
        let text = std::fs::read_to_string(&path).expect("it reads");
        let course = Course::parse(&path.to_string_lossy(), &text, &[]).unwrap_or_else(|e| panic!("{e}"));
        (path, course)
    };
    all.into_iter().map(read).collect()
}

#[test]
fn every_shipped_course_means_what_it_says_and_explains_what_it_corrects() {
    let all = shipped();
    assert!(
        PROFILES
            .iter()
            .all(|profile| all.iter().any(|(path, _)| path.ends_with(format!("links/{}.course.toml", profile.name))))
    );
    for (path, course) in all {
        let warned: Vec<String> = course.warnings.iter().map(ToString::to_string).collect();
        assert_eq!(warned, [""; 0], "{}", path.display());
        let mut run = Run::new(course).expect("it fits");
        run.advance(secs(90.0));
        let record = run.record();
        let unexplained: usize = (0..run.course().cast.len()).map(|member| unexplained(record, member)).sum();
        let honest = run.course().members().filter(|m| run.course()[*m].role != velocitas_record::Role::Rogue);
        let accused: usize = honest.map(|member| verdicts(record, member.index())).sum();
        assert_eq!((unexplained, accused, step_faults(record)), (0, 0, 0), "{}", path.display());
    }
}
