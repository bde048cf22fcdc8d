//! Branches and what would cure: begun by key, shown beside the run, kept or dropped.

use super::*;
use crate::tui::why::Why;

/// Looks at files until something is so, as the frames do.
#[track_caller]
fn until(stage: &mut Frame, wanted: impl Fn(&mut Frame) -> bool) {
    for _ in 0..1000 {
        stage.look_at_files(Duration::from_millis(200));
        if wanted(stage) {
            return;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    panic!("it never came: {}", last_row(stage));
}

fn last_row(stage: &mut Frame) -> String {
    lines(&drawn(stage, 160, 47)).pop().expect("rows")
}

/// The row of the branch's box in the panel that begins so.
fn figures(stage: &mut Frame, name: &str) -> Vec<String> {
    let shown = text(stage, 160, 47);
    let row = shown.lines().find_map(|line| line.split_once(name).map(|(_, rest)| rest.to_owned()));
    let row = row.unwrap_or_else(|| panic!("no {name}:\n{shown}"));
    row.trim_end_matches(['\u{2502}', ' ']).split_whitespace().map(str::to_owned).collect()
}

#[test]
fn a_knob_turned_in_the_past_offers_a_branch_that_enter_begins() {
    let mut stage = after(8.0);
    stage.look(LabTime::from_secs(3.0));
    press(&mut stage, KeyCode::Right);
    let offered = "Enter begin a branch from 0:03.00 with plover: latency, one way 50 ms   Esc let it be";
    assert!(last_row(&mut stage).contains(offered), "{}", last_row(&mut stage));
    // Turned further it is offered further; Esc lets it be; to look elsewhere as well.
    press(&mut stage, KeyCode::Right);
    assert!(last_row(&mut stage).contains("latency, one way 60 ms"));
    press(&mut stage, KeyCode::Esc);
    assert!(!last_row(&mut stage).contains("branch"));
    press(&mut stage, KeyCode::Right);
    press(&mut stage, KeyCode::Char('.'));
    assert!(stage.branching.offered.is_none(), "elsewhere it would be another branch");
    stage.look(LabTime::from_secs(3.0));
    press(&mut stage, KeyCode::Right);
    let before = stage.run.digest();
    press(&mut stage, KeyCode::Enter);
    assert!(text(&mut stage, 160, 47).contains("branch from 0:03.00"), "its box is there at once");
    settle(&mut stage);
    assert_eq!((stage.run.digest(), stage.run.now()), (before, LabTime::from_secs(8.0)), "the run is as it was");
    let branch = stage.branching.branch.as_ref().and_then(|b| b.run()).expect("it has run");
    assert_eq!(branch.now(), stage.run.now());
    assert_ne!(branch.digest(), before);
    assert!(
        lines(&drawn(&mut stage, 160, 47)).iter().any(|line| line.starts_with(" \u{2514}branch")),
        "a lane of its own"
    );
}

#[test]
fn both_figures_and_their_difference_stand_in_the_panel_and_hollow_echoes_in_the_field() {
    let mut stage = after(8.0);
    stage.look(LabTime::from_secs(1.0));
    line(&mut stage, "branch latency 0 ms");
    assert!(stage.branching.branch.is_some() && stage.works());
    settle(&mut stage);
    stage.look(LabTime::from_secs(0.5));
    assert!(text(&mut stage, 160, 47).contains("the same until 0:01.00; look later"));
    stage.look(LabTime::from_secs(7.0));
    let record = |run: &Run| {
        let moment = run.moment(LabTime::from_secs(7.0));
        moment.figures(stage.machine(FIRST), super::super::stage::WINDOW).measured.corrections.count
    };
    let (here, there) =
        (record(&stage.run), record(stage.branching.branch.as_ref().and_then(|b| b.run()).expect("it has run")));
    let row = figures(&mut stage, "\u{2502} corrections");
    let expected = [here.to_string(), there.to_string(), (i64::from(there) - i64::from(here)).to_string()];
    assert_eq!(row[..3].iter().map(|n| n.trim_start_matches('+')).collect::<Vec<_>>(), expected);
    let hollow = ['\u{25c7}', '\u{25a1}'];
    let shown = |at: f64, stage: &mut Frame| {
        stage.look(LabTime::from_secs(at));
        lines(&drawn(stage, 160, 40))[3..26].concat().chars().filter(|c| hollow.contains(c)).count()
    };
    let seen: usize = (20..70).map(|tenth| shown(f64::from(tenth) / 10.0, &mut stage)).sum();
    assert!(seen > 0, "somewhere somebody is a cell further");
    assert_eq!(shown(0.5, &mut stage), 0, "before it there is nothing hollow");
}

#[test]
fn a_branch_is_kept_or_dropped() {
    let mut stage = after(6.0);
    type_keys(&mut stage, "K");
    assert!(stage.notice().is_some_and(|n| n.starts_with("there is no branch")));
    let digest = stage.run.digest();
    let begin = |stage: &mut Frame| {
        stage.look(LabTime::from_secs(2.0));
        press(stage, KeyCode::Right);
        press(stage, KeyCode::Enter);
    };
    begin(&mut stage);
    type_keys(&mut stage, "K");
    if stage.notice().is_some_and(|n| n.starts_with("the branch is not there yet")) {
        settle(&mut stage);
        type_keys(&mut stage, "K");
    }
    assert!(stage.branching.branch.is_none() && stage.run.digest() != digest);
    // It is what a run comes to in which that was set there.
    let mut same = Run::new(Course::demo()).expect("it fits");
    same.advance(LabTime::from_secs(2.0));
    let set = velocitas_record::Command::Set {
        member: FIRST,
        knob: velocitas_record::Knob::Latency,
        value: velocitas_record::KnobValue::Number(50.0),
    };
    same.command(set);
    same.advance(LabTime::from_secs(6.0));
    assert_eq!(stage.run.digest(), same.digest());
    begin(&mut stage);
    settle(&mut stage);
    let kept = stage.run.digest();
    type_keys(&mut stage, "D");
    assert!(stage.branching.branch.is_none() && stage.run.digest() == kept);
    // Whoever resumes lets go of it, since it is of what is dropped.
    begin(&mut stage);
    settle(&mut stage);
    stage.look(LabTime::from_secs(4.0));
    press(&mut stage, KeyCode::Enter);
    assert!(stage.branching.branch.is_none());
}

#[test]
fn why_lists_troubles_tries_remedies_and_opens_one_as_a_branch() {
    let mut stage = after(9.0);
    type_keys(&mut stage, "y");
    settle(&mut stage);
    let shown = text(&mut stage, 160, 47);
    let crate7 =
        shown.lines().position(|l| l.contains("\u{25b8} crate 7: 64 corrections")).expect("the worst is chosen");
    let rows: Vec<&str> = shown.lines().skip(crate7).collect();
    let best = rows.iter().position(|l| l.contains("  crate 7 known to all")).expect("it cures");
    let cells: Vec<&str> = rows[best].split_whitespace().collect();
    let left = cells.iter().position(|cell| *cell == "%").expect("what is left");
    assert!(cells[left - 1].parse::<u32>().is_ok_and(|l| l <= 10) && cells[left + 1] == "0", "{}", rows[best]);
    assert!(rows[best - 1].contains("100 %") && rows[best - 1].contains("as it was"), "{shown}");
    assert!(shown.contains("more change next to nothing"), "{shown}");
    // At every size nothing spills over, and it says what keys do.
    for (width, height) in [(120, 36), (80, 24)] {
        let shown = text(&mut stage, width, height);
        assert!(shown.contains("crate 7 known to all") && shown.contains("Enter see it as a branch"), "{shown}");
    }
    // The next trouble is looked into as well.
    press(&mut stage, KeyCode::Tab);
    settle(&mut stage);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("\u{25b8} ") && !shown.contains("\u{25b8} crate 7"), "{shown}");
    press(&mut stage, KeyCode::BackTab);
    settle(&mut stage);
    press(&mut stage, KeyCode::Enter);
    assert!(!stage.popups.is_open(Action::Why));
    settle(&mut stage);
    stage.look(LabTime::from_secs(8.0));
    let row = figures(&mut stage, "\u{2502} corrections");
    assert_eq!((row[0].as_str(), row[1].as_str()), ("64", "0"), "{row:?}");
}

#[test]
fn a_remedy_is_applied_from_now_on_and_esc_closes() {
    let mut stage = after(6.0);
    type_keys(&mut stage, "y");
    press(&mut stage, KeyCode::Esc);
    assert!(!stage.popups.is_open(Action::Why) && !stage.works());
    type_keys(&mut stage, "y");
    settle(&mut stage);
    type_keys(&mut stage, "a");
    assert_eq!(stage.notice(), Some("from now on: crate 7 known to all"));
    let now = stage.run.now();
    let told: Vec<_> = stage.run.commands().iter().filter(|(at, _)| *at == now).map(|(_, command)| *command).collect();
    assert!(
        matches!(told[..], [velocitas_record::Command::Solid { there: true, .. }, velocitas_record::Command::Calm(_)]),
        "{told:?}"
    );
    // Nothing to look at yet, and nothing wrong.
    let mut fresh = after(0.0);
    type_keys(&mut fresh, "y");
    assert_eq!(fresh.notice(), Some("there is no whole second to look at yet"));
}

#[test]
fn typed_branches_say_what_they_cannot() {
    let mut stage = after(5.0);
    let wrong = line(&mut stage, "branch latency 0 ms");
    assert!(wrong.contains("a branch begins in the past: look back first"), "{wrong}");
    press(&mut stage, KeyCode::Esc);
    stage.look(LabTime::from_secs(2.0));
    let wrong = line(&mut stage, "branch latancy 0 ms");
    assert!(wrong.contains("there is no `latancy` that changes a run") && wrong.contains("latency"), "{wrong}");
    press(&mut stage, KeyCode::Esc);
    let wrong = line(&mut stage, "branch latency 9 m");
    assert!(wrong.contains("the unit must be"), "{wrong}");
}

#[test]
fn whatever_changes_a_run_is_offered_in_the_past_and_begun_there() {
    use velocitas_record::{Command, Sudden};
    let mut stage = after(6.0);
    // What the knob was then, not what it is now.
    line(&mut stage, "latency 200 ms");
    stage.look(LabTime::from_secs(4.0));
    press(&mut stage, KeyCode::Right);
    assert!(last_row(&mut stage).contains("plover: latency, one way 50 ms"), "{}", last_row(&mut stage));
    for (said, offered) in [
        ("push plover east 5 m/s", "plover pushed by 5.0, 0.0, 0.0 m/s"),
        ("teleport plover -20 -8", "plover put at -20.0, -8.0, 0.0"),
        ("freeze dunlin 2 s", "dunlin standing still for 2 s"),
        ("crash heron", "heron crashing"),
        ("leave heron", "heron leaving"),
        ("know crate 7", "crate 7 known to plover"),
        ("tune walk 5 m/s", "walk at 5 m/s on all"),
        ("tune walk 5 m/s plover", "walk at 5 m/s on plover"),
        ("loss 9 % heron", "heron: loss, one way 9 %"),
    ] {
        let commands = stage.run.commands().len();
        let row = line(&mut stage, said);
        assert!(row.contains(&format!("begin a branch from 0:04.00 with {offered}   Esc")), "{said}: {row}");
        assert_eq!(stage.run.commands().len(), commands, "nothing was done yet");
        press(&mut stage, KeyCode::Esc);
        // Or at once.
        line(&mut stage, &format!("branch {said}"));
        settle(&mut stage);
        let branch = stage.branching.branch.as_ref().and_then(|b| b.run()).expect("it has run");
        assert_eq!((branch.now(), branch.commands()[0].0), (stage.run.now(), LabTime::from_secs(4.0)), "{said}");
        assert_ne!(branch.digest(), stage.run.digest(), "{said}");
        press(&mut stage, KeyCode::Char('D'));
    }
    let wrong = line(&mut stage, "teleport plover 500 500");
    assert!(wrong.contains("there is no room there"), "{wrong}");
    press(&mut stage, KeyCode::Esc);
    // By key, and kept.
    type_keys(&mut stage, "f");
    press(&mut stage, KeyCode::Enter);
    settle(&mut stage);
    press(&mut stage, KeyCode::Char('K'));
    let first = stage.run.commands()[0];
    assert!(
        matches!(first, (at, Command::Happens(_, Sudden::Freeze(_))) if at == LabTime::from_secs(4.0)),
        "{first:?}"
    );
}

#[test]
fn a_rule_that_is_saved_while_the_past_is_looked_at_is_offered_from_there() {
    let folder = tempfile::tempdir().expect("a folder");
    let (path, gait) = (folder.path().join("quay.course.toml"), folder.path().join("courier.gait"));
    let courier = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
    std::fs::write(&gait, &courier).expect("written");
    std::fs::write(&path, QUAY.replace("role = \"helm\"", "role = \"helm\"\ngait = \"courier.gait\""))
        .expect("written");
    let run = Run::new(crate::files::course(Some(&path), &[]).unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
    let mut stage = Frame::new(run, Palette::new(Colours::True, false));
    stage.read_from(Some(&path), &[]);
    stage.advance_to(LabTime::from_secs(5.0));
    stage.look(LabTime::from_secs(2.0));
    std::fs::write(&gait, courier.replace("4.2 m/s", "7 m/s ")).expect("written");
    until(&mut stage, |stage| stage.branching.offered.is_some());
    assert!(
        last_row(&mut stage).contains("from 0:02.00 with courier.gait as it is saved now, on all"),
        "{}",
        last_row(&mut stage)
    );
    // On one machine alone another layout could not take effect: it is not offered, and why is said.
    press(&mut stage, KeyCode::Esc);
    stage.edits.one_only = true;
    std::fs::write(&gait, courier.replace("stick    bits 7 ", "stick    bits 9 ")).expect("written");
    until(&mut stage, |stage| stage.notice().is_some_and(|said| said.contains("the new rule has another layout")));
    assert!(stage.branching.offered.is_none());
    stage.edits.one_only = false;
    std::fs::write(&gait, courier.replace("4.2 m/s", "7 m/s ")).expect("written");
    until(&mut stage, |stage| stage.branching.offered.is_some());
    press(&mut stage, KeyCode::Enter);
    settle(&mut stage);
    let walk = |run: &Run| run.lab().server_known().tunables[1][0];
    let branch = stage.branching.branch.as_ref().and_then(|b| b.run()).expect("it has run");
    assert_eq!((walk(branch), walk(&stage.run)), (7.0, 4.2));
    assert_eq!(branch.rules()[0].text.as_deref(), Some(courier.replace("4.2 m/s", "7 m/s ").as_str()));
    // Kept, a take of it has the rule.
    press(&mut stage, KeyCode::Char('K'));
    let said = stage.keep_take(folder.path(), Some("kept")).expect("written");
    assert!(said.starts_with("kept as kept.take, to 0:05.00"), "{said}");
    let take = velocitas_lab::take::Take::read(&std::fs::read(folder.path().join("kept.take")).expect("there"), &[]);
    let take = take.expect("sound");
    let mut again = Run::of_take(&take).expect("it fits");
    again.advance(take.end);
    assert_eq!((again.digest(), walk(&again), take.look.map(|(at, _)| at)), (stage.run.digest(), 7.0, Some(stage.at)));
    assert!(stage.keep_take(folder.path(), Some("kept.take")).is_err_and(|why| why.contains("it is there already")));
}

#[test]
fn what_memory_let_go_is_looked_at_again_and_the_present_stays() {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.set_keep(velocitas_lab::Keep::Bytes(16_000_000));
    run.meter();
    run.advance(LabTime::from_secs(140.0));
    let kept_from = run.record().kept_from;
    assert!(kept_from > LabTime::from_secs(40.0) && run.reach() == LabTime::ZERO, "{kept_from}");
    let mut stage = Frame::new(run, Palette::new(Colours::True, false));
    stage.resized(Size::new(160, 47));
    stage.pace.running = false;
    let digest = stage.run.digest();
    assert!(!text(&mut stage, 160, 47).contains("kept from"), "all of it can be had");
    line(&mut stage, "go 0:08.5");
    assert_eq!(stage.at, LabTime::from_secs(140.0), "it is not there yet");
    assert!(last_row(&mut stage).contains("0:08.50 is no longer kept: it is run again"), "{}", last_row(&mut stage));
    settle(&mut stage);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("BACK \u{2212}131.50 s") && shown.contains("corrected "), "{shown}");
    assert!(shown.contains("run again from 0:00.00: the same as it was"), "{shown}");
    // As whoever looked then saw it.
    let mut then = after(18.5);
    then.look(LabTime::from_secs(8.5));
    // Where the camera stands hangs on where it stood before, but not once it was asked to look closer.
    let field = |stage: &mut Frame| {
        type_keys(stage, "][");
        lines(&drawn(stage, 160, 47))[2..30].join("\n")
    };
    assert_eq!(field(&mut stage), field(&mut then));
    // On beyond its end it is lengthened; a knob is offered from what it was then; the present is as it was.
    (0..12).for_each(|_| type_keys(&mut stage, ">"));
    assert_eq!(stage.at, LabTime::from_secs(20.5));
    press(&mut stage, KeyCode::Right);
    assert!(
        last_row(&mut stage).contains("from 0:20.50 with plover: latency, one way 50 ms"),
        "{}",
        last_row(&mut stage)
    );
    press(&mut stage, KeyCode::End);
    assert!(stage.is_live() && stage.run.digest() == digest && stage.run.record().kept_from == kept_from);
    stage.pace.running = false;
    // Resumed from there, the rest is dropped, and what came before can be had still.
    press(&mut stage, KeyCode::Home);
    settle(&mut stage);
    line(&mut stage, "go 0:30");
    settle(&mut stage);
    press(&mut stage, KeyCode::Enter);
    assert!(stage.is_live() && stage.run.now() == LabTime::from_secs(30.0) && stage.run.reach() == LabTime::ZERO);
    assert!(last_row(&mut stage).contains("the 110.0 s after it were dropped"), "{}", last_row(&mut stage));
    let mut same = Run::new(Course::demo()).expect("it fits");
    same.advance(LabTime::from_secs(30.0));
    assert_eq!(stage.run.digest(), same.digest());
    assert_eq!(stage.run.figures().0.len(), 6, "figures begin again with what is kept");
}

#[test]
fn why_looks_at_the_seconds_with_what_is_under_the_playhead() {
    use velocitas_core::{Fact, Restored};
    let stage = after(14.0);
    let machine = stage.machine(FIRST);
    let rows = &stage.run.record().of(machine).happenings;
    let seen = |row: &&velocitas_record::HappeningRow| matches!(row.what, Happening::Fact(Fact::Corrected(c)) if c.why != Restored::Settled);
    // In the middle of a second, and the last of all before the present.
    let moments: Vec<LabTime> = rows.iter().filter(seen).map(|row| row.at).collect();
    let middle = moments.iter().find(|at| at.0 % 1_000_000_000 > 400_000_000).expect("it is corrected");
    for (at, now) in [(*middle, false), (*moments.last().expect("it is corrected"), true)] {
        let mut stage = after(if now { at.secs() + 0.001 } else { 14.0 });
        // As `check` prints it: in milliseconds, rounded up.
        stage.look(LabTime(at.0.div_ceil(1_000_000) * 1_000_000));
        let why = Why::ask(&mut stage).expect("there is something to ask");
        assert!(why.stretch.0 <= at && at < why.stretch.1, "{at} is not within {:?}", why.stretch);
        let chosen = &why.troubles[why.chosen];
        assert!(chosen.first <= at && at <= chosen.last && chosen.corrections > 0, "{at}: {chosen:?}");
        let now = stage.run.now();
        type_keys(&mut stage, "y");
        settle(&mut stage);
        assert_eq!(stage.run.now(), now, "the run itself stays where it is");
    }
}
