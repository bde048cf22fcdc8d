//! A record of a run that is over: every screen shows what it showed of the run, and keys that would change it say why not.

use std::io::Cursor;

use velocitas_lab::stored::{Store, Stored};
use velocitas_lab::take::Journal;
use velocitas_lab::{Course, Keep, Run};
use velocitas_record::LabTime;

use super::*;

/// Twelve seconds of the demo, and the same read back from a file.
fn both() -> [Frame; 2] {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.set_keep(Keep::All);
    run.meter();
    let mut journal = Journal::new("demo", "test");
    let mut store = Store::new(Vec::new(), run.record()).expect("memory");
    store.text(&journal.news(&run)).expect("memory");
    run.advance_with(LabTime::from_secs(12.0), &mut store);
    store.text(&journal.news(&run)).expect("memory");
    let file = store.finish(run.now(), &run.ending().expect("it runs")).expect("memory");
    let stored = Stored::read(Cursor::new(file), &[], Keep::All).expect("it is sound");
    [run, stored.run().expect("it fits")].map(|run| Frame::new(run, Palette::new(Colours::True, false)))
}

#[test]
fn every_screen_of_a_record_is_that_of_its_run() {
    let [mut run, mut record] = both();
    for (at, keys) in [
        (9.1, "1"),
        (9.1, "d"),
        (9.1, "d3"),
        (8.9, "3i"),
        (9.1, "i4"),
        (9.1, "2"),
        (11.3, "6"),
        (3.0, "1s"),
        (7.0, "b"),
    ] {
        let shown = [&mut run, &mut record].map(|stage| {
            stage.look(LabTime::from_secs(at));
            type_keys(stage, keys);
            let mut rows = lines(&drawn(stage, 160, 47));
            // Which of the two it is, and what can be done with it: of a record nobody asks why.
            rows[0].truncate(0);
            rows.pop();
            let rail = rows.iter_mut().find(|row| row.contains(" rail ")).expect("it is on each screen");
            assert_eq!(rail.contains(" y "), !stage.run.is_over(), "{rail}");
            *rail = rail.replace(" y ", " ").replace('\u{2500}', "");
            rows
        });
        let [was, is] = &shown;
        let parted = was.iter().zip(is).find(|(was, is)| was != is);
        assert!(parted.is_none(), "{keys} at {at}: {parted:#?}");
    }
}

#[test]
fn the_run_is_kept_as_a_record_that_opens() {
    let folder = tempfile::tempdir().expect("a folder");
    let mut stage = after(4.0);
    type_keys(&mut stage, "u");
    stage.advance_to(LabTime::from_secs(9.0));
    assert!(stage.keep_record(folder.path(), "").is_err_and(|why| why.contains("expected a name")));
    let said = stage.keep_record(folder.path(), "quay").expect("it can");
    assert!(said.contains("quay.record is being written"), "{said}");
    assert!(stage.keep_record(folder.path(), "other").is_err_and(|why| why.contains("still being written")));
    while stage.kept.writing.is_some() {
        stage.look_at_jobs();
        std::thread::sleep(Duration::from_millis(2));
    }
    assert!(
        stage.notice().is_some_and(|said| said.contains("kept as quay.record, to 0:09.00")),
        "{:?}",
        stage.notice()
    );
    let file = std::fs::File::open(folder.path().join("quay.record")).expect("it is there");
    let stored = Stored::read(file, &[], Keep::All).expect("it is sound");
    assert_eq!((stored.ending, stored.damage), (stage.run.ending(), None));
    assert_eq!(stored.take.commands, stage.run.commands());
    // Over nothing that is there.
    assert!(stage.keep_record(folder.path(), "quay").is_err_and(|why| why.contains("there already")));
}

#[test]
fn keys_that_would_change_a_run_that_is_over_say_why_not() {
    let [_, mut record] = both();
    let shown = text(&mut record, 160, 47);
    let keys = shown.lines().next_back().expect("there is a last row");
    assert!(!["y why", "h helm", "space pause", "crash", "- + speed"].iter().any(|hint| keys.contains(hint)), "{keys}");
    assert!(["n p event", "tab entity", "arrows knobs", ": type"].iter().all(|hint| keys.contains(hint)), "{keys}");
    for (at, keys) in [
        (5.0, "h"),
        (5.0, " "),
        (12.0, " "),
        (12.0, "y"),
        (5.0, "y"),
        (5.0, "u"),
        (12.0, "u"),
        (5.0, "m"),
        (5.0, "+"),
        (5.0, "2e"),
        (5.0, "6a"),
        (5.0, "1K"),
    ] {
        record.say("nothing yet");
        record.look(LabTime::from_secs(at));
        type_keys(&mut record, keys);
        assert!(
            record.notice().is_some_and(|said| said.contains("a run that is over")),
            "{keys}: {:?}",
            record.notice()
        );
    }
    record.look(LabTime::from_secs(5.0));
    press(&mut record, KeyCode::Right);
    assert!(record.notice().is_some_and(|said| said.contains("a run that is over")), "a knob: {:?}", record.notice());
    press(&mut record, KeyCode::Enter);
    assert!(record.branching.branch.is_none() && record.run.now() == LabTime::from_secs(12.0));
    let shown = text(&mut record, 160, 47);
    assert!(shown.contains("RECORD of 0:12.00") && !shown.contains("resume from here"), "{shown}");
    // Its course can be begun anew.
    record.key(&KeyEvent::new(KeyCode::Char('r'), KeyModifiers::CONTROL));
    assert!(!record.run.is_over() && record.is_live());
}
