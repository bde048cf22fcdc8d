//! What would cure a bad stretch is tried: the planted remedy comes first, and where nothing cures that is said.

use crate::planted::{ACROSS, FENCE, planted, plover};
use crate::scenario::{Words, machine};
use velocitas_lab::diagnose::{CURED, DiagnoseError, HELPS, Reaches, Remedy, Tried, TroubleCase, rank};
use velocitas_lab::{Course, Keep, Run};
use velocitas_record::{Calm, Command, Knob, KnobValue, LabTime};

fn secs(x: f64) -> LabTime {
    LabTime::from_secs(x)
}

fn ran(words: &Words<'_>, seconds: f64) -> Run {
    let mut run = Run::new(words.course()).expect("it fits");
    run.set_keep(Keep::All);
    run.advance(secs(seconds));
    run
}

fn tried(case: &TroubleCase) -> Vec<Tried> {
    let mut tried: Vec<Tried> = case.remedies.iter().map(|remedy| case.try_out(remedy)).collect();
    rank(&mut tried);
    tried
}

#[test]
fn the_planted_remedy_comes_first_and_cures() {
    for plant in planted() {
        for seed in 1..=2 {
            let run = ran(&plant.words(seed), 16.0);
            let whose = Some(machine(run.record(), 0));
            let all = velocitas_analysis::trouble::troubles(run.found(), whose, secs(4.0), secs(14.0));
            let about = all.into_iter().find(|t| t.reason.name().starts_with(plant.cause)).expect("it is a trouble");
            let case = TroubleCase::about(&run, about, (secs(4.0), secs(14.0))).expect("it is kept");
            let tried = tried(&case);
            let first = &tried[0];
            let words = first.remedy.words.as_str();
            assert!(
                plant.remedies.contains(&words),
                "{}, seed {seed}: {words}, {:.2} left, {:?}",
                plant.cause,
                first.left,
                tried.iter().map(|t| (t.remedy.words.as_str(), t.left)).collect::<Vec<_>>()
            );
            // Of few there are, one of another kind that comes instead is much.
            let most = if plant.cause == "teleported" { 0.3 } else { 0.1 };
            assert!(
                first.left <= most,
                "{words}, seed {seed}: {:.2} left, {:?}\n{:?}",
                first.left,
                first.outcome,
                case.before
            );
            assert!(first.outcome.corrections < case.before.corrections);
        }
    }
}

#[test]
fn a_changed_owner_is_cured_by_none_and_not_by_another_link() {
    // Both drive it as soon as it is theirs, and go on until they hear that it is no longer.
    let cart = "[[thing]]\nname = \"cart\"\ngait = \"handcart.gait\"\nat = [0, 9]\nowners = [\"heron\"]\n";
    let hands = "link = \"test\"\nrandom = \"6 /s\"\n";
    let driver = |name: &str| {
        format!("[[cast]]\nname = \"{name}\"\nrole = \"bot\"\ngait = \"courier.gait\"\nspawn = [0, 0]\n{hands}")
    };
    let turns = "[[event]]\nat = \"6 s\"\nevery = \"2 s\"\nown = { what = \"cart\", by = [\"plover\"] }\n\
                 [[event]]\nat = \"7 s\"\nevery = \"2 s\"\nown = { what = \"cart\", by = [\"heron\"] }\n";
    let rest = driver("heron") + &driver("plover") + cart + turns;
    let run = ran(&Words { link: "latency = \"90 ms\"", rest, ..Words::default() }, 16.0);
    let stretch = (secs(5.0), secs(15.0));
    let all = velocitas_analysis::trouble::troubles(run.found(), None, stretch.0, stretch.1);
    let about = all.iter().find(|t| t.reason.name() == "changed_hands").unwrap_or_else(|| panic!("{all:?}")).clone();
    let case = TroubleCase::about(&run, about, stretch).expect("it is kept");
    let tried = tried(&case);
    assert_eq!(tried[0].remedy.words.as_str(), "nothing changes hands");
    assert!(tried[0].left < CURED, "{}", tried[0].left);
    assert!(!TroubleCase::wants_pairs(&tried));
}

#[test]
fn a_remedy_that_changes_nothing_leaves_all_of_it() {
    let run = ran(&planted()[0].words(3), 16.0);
    let case = TroubleCase::of(&run, None, secs(4.0), secs(14.0)).expect("there is a trouble");
    let nothing = Remedy { words: "nothing".to_owned(), reaches: Reaches::Setting, commands: Vec::new(), rule: None };
    let Tried { outcome, left, .. } = case.try_out(&nothing);
    assert_eq!((outcome, left), (case.before, 1.0), "the same luck, and so the same");
}

#[test]
fn what_nothing_cures_is_left_and_where_nothing_is_wrong_there_is_no_case() {
    // Twice wrong: in the corner of two fences each of them stops.
    let other = FENCE.replace("fence", "hedge").replace("at = [5, 0]", "at = [0, 5]").replace("[0.6, 8]", "[16, 0.6]");
    let fences = FENCE.replace("[0.6, 8]", "[0.6, 16]") + &other;
    let rest = fences.replace("KNOWN", "server") + &plover("[{ at = [9, 9] }, { at = [0, 0] }]", "");
    let run = ran(&Words { link: "latency = \"50 ms\"", rest, ..Words::default() }, 16.0);
    let all = velocitas_analysis::trouble::troubles(run.found(), None, secs(2.0), secs(14.0));
    let both = all.iter().find(|t| t.reason.name() == "one_sided+one_sided").unwrap_or_else(|| panic!("{all:?}"));
    let case = TroubleCase::about(&run, both.clone(), (secs(2.0), secs(14.0))).expect("it is kept");
    let alone = tried(&case);
    assert!(alone.iter().all(|t| t.left > CURED), "neither does alone");
    assert!(TroubleCase::wants_pairs(&alone), "{}", alone[0].left);
    let pairs = case.pairs(&alone);
    let mut both: Vec<Tried> = pairs.iter().map(|remedy| case.try_out(remedy)).collect();
    rank(&mut both);
    let words = &both[0].remedy.words;
    assert!(words.contains("fence known to all") && words.contains("hedge known to all"), "{words}");
    assert!(both[0].left < 0.1 && both[0].left < alone[0].left, "{} {}", both[0].left, alone[0].left);

    // Where nothing is left, that is nothing, and not less.
    let rest = FENCE.replace("KNOWN", "server") + &plover(ACROSS, "");
    let run = ran(&Words { link: "latency = \"50 ms\"", rest, ..Words::default() }, 12.0);
    let about = velocitas_analysis::trouble::troubles(run.found(), None, secs(5.0), secs(10.0)).remove(0);
    let case = TroubleCase::about(&run, about, (secs(5.0), secs(10.0))).expect("it is kept");
    let left: Vec<f64> = tried(&case).iter().map(|t| t.outcome.seen_m).collect();
    assert!(left.contains(&0.0) && left.iter().all(|m| m.is_sign_positive()), "{left:?}");

    let calm = ran(&Words { link: "latency = \"50 ms\"", rest: plover("[]", ""), ..Words::default() }, 8.0);
    assert_eq!(TroubleCase::of(&calm, None, secs(2.0), secs(7.0)).err(), Some(DiagnoseError::Nothing));
    let stretch = |from, to| TroubleCase::of(&calm, None, secs(from), secs(to)).err();
    for (from, to) in [(5.0, 5.0), (5.2, 5.9), (6.0, 9.0), (7.0, 3.0)] {
        assert!(matches!(stretch(from, to), Some(DiagnoseError::Stretch(..))), "{from} to {to}");
    }
}

#[test]
fn of_remedies_that_leave_as_little_the_nearest_at_hand_comes_first() {
    let run = ran(&planted()[0].words(3), 16.0);
    let case = TroubleCase::of(&run, None, secs(4.0), secs(14.0)).expect("there is a trouble");
    let one = case.try_out(&case.remedies[0]);
    let with = |reaches, left, bytes| {
        let mut other = one.clone();
        (other.remedy.reaches, other.left, other.outcome.bytes) = (reaches, left, bytes);
        other
    };
    let mut all = vec![
        with(Reaches::Mistake, 0.5, 1),
        with(Reaches::World, 0.002, 1),
        with(Reaches::Setting, 0.004, 3),
        with(Reaches::Setting, 0.0, 2),
        with(Reaches::Link, 0.001, 1),
        with(Reaches::Mistake, 0.009, 9),
    ];
    rank(&mut all);
    let order: Vec<(Reaches, u64)> = all.iter().map(|t| (t.remedy.reaches, t.outcome.bytes)).collect();
    let expected = [
        (Reaches::Mistake, 9),
        (Reaches::Setting, 2),
        (Reaches::Setting, 3),
        (Reaches::Link, 1),
        (Reaches::World, 1),
        (Reaches::Mistake, 1),
    ];
    assert_eq!(order, expected);
}

#[test]
fn a_remedy_applied_to_the_run_is_what_its_branch_was() {
    let words = planted()[0].words(1);
    let mut run = ran(&words, 16.0);
    let case = TroubleCase::of(&run, None, secs(6.0), secs(14.0)).expect("there is a trouble");
    let tried = tried(&case);
    assert!(tried.last().is_some_and(|t| t.left > HELPS));
    run.resume_from(secs(4.0));
    tried[0].remedy.apply(&mut run);
    run.advance(secs(16.0));
    let again = TroubleCase::of(&run, None, secs(6.0), secs(14.0));
    let left = again.map_or(0.0, |case| case.before.seen_m);
    assert!((left - tried[0].outcome.seen_m).abs() < 1e-9, "{left} {}", tried[0].outcome.seen_m);
}

#[test]
fn what_is_calm_stays_so_whatever_the_course_has_in_store() {
    let events = "[[event]]\nat = \"4 s\"\nlink = { who = \"plover\", loss = \"50 %\" }\n\
                  [[event]]\nat = \"5 s\"\nevery = \"1 s\"\npush = { who = \"plover\", east = \"6 m/s\" }\n\
                  [[event]]\nat = \"5.5 s\"\nevery = \"1 s\"\nfreeze = { who = \"plover\", lasts = \"300 ms\" }\n";
    let keys = "host = { hitches = \"60 /min\", hitch = \"200 ms\" }";
    let words =
        Words { link: "latency = \"50 ms\"", rest: events.to_owned() + &plover(ACROSS, keys), ..Words::default() };
    let mut run = ran(&words, 2.0);
    let plover = crate::scenario::member(0);
    for calm in [Calm::Up(plover), Calm::Down(plover), Calm::Frames(Some(plover)), Calm::Pushes] {
        run.command(Command::Calm(calm));
    }
    // A knob that is turned later does not undo it either.
    run.command(Command::Set { member: plover, knob: Knob::Latency, value: KnobValue::Number(200.0) });
    run.advance(secs(12.0));
    let record = run.record();
    let late = |at: LabTime| at > secs(2.5);
    assert!(record.datagrams(machine(record, 0), secs(2.5), secs(12.0)).all(|row| row.arrived == Some(row.at)));
    assert!(crate::scenario::corrections(record, 0, secs(2.5)).is_empty());
    let frames: Vec<LabTime> =
        record.of(machine(record, 0)).frames.iter().map(|f| f.at).filter(|at| late(*at)).collect();
    assert!(frames.windows(2).all(|pair| pair[1].minus(pair[0]) < LabTime::from_millis(30.0)));
    let digest = run.digest();
    run.resume_from(secs(8.0));
    run.advance(secs(12.0));
    assert_eq!(run.digest(), digest, "going back and on it is calm as well");
}

#[test]
fn the_demo_is_cured_by_telling_all_of_its_crate() {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.advance(secs(11.0));
    let plover = run.record().cast.players().next();
    let case = TroubleCase::of(&run, plover, secs(0.0), secs(10.0)).expect("there is a trouble");
    let tried = tried(&case);
    assert_eq!(tried[0].remedy.words, "crate 7 known to all");
    assert!(tried[0].left <= CURED);
}
