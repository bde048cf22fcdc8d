//! A course that is saved while it runs, and its budgets.

use super::*;

#[test]
fn a_course_that_is_saved_is_taken_over_and_what_is_not_is_told_until_it_is_begun_again() {
    let (_folder, path, mut stage) = on_file(QUAY);
    std::fs::write(&path, QUAY.replace("40 ms", "90 ms")).expect("written");
    until_said(&mut stage, "quay.course.toml: took over link, from now on");
    assert_eq!(stage.run.lab().knobs(MemberId::new(0)).up.latency_ms, 90.0);

    // A mistake changes nothing, and stays in sight.
    std::fs::write(&path, QUAY.replace("40 ms", "40 m")).expect("written");
    until_said(&mut stage, "the unit must be ms, s, min");
    stage.notices.fade(Duration::from_secs(9));
    for (width, height) in [(160, 47), (120, 36), (80, 24)] {
        let shown = text(&mut stage, width, height);
        assert!(shown.contains("quay.course.toml:6:11"), "{shown}");
    }
    assert_eq!(stage.run.lab().knobs(MemberId::new(0)).up.latency_ms, 90.0);

    // What needs a new beginning is named, and then it is begun.
    let next = QUAY.replace("spawn = [0, 0]", "spawn = [0, 9]").replace("40 ms", "70 ms");
    std::fs::write(&path, &next).expect("written");
    until_said(&mut stage, "took over link; needs a new beginning (C-r): teal: spawn");
    stage.notices.fade(Duration::from_secs(9));
    assert!(text(&mut stage, 160, 47).contains("C-r begins again with what is saved"));
    stage.key(&KeyEvent::new(KeyCode::Char('r'), KeyModifiers::CONTROL));
    assert!(stage.run.now() == LabTime::ZERO && stage.pace.running && stage.course_trouble().is_none());
    stage.advance_to(LabTime::from_secs(1.0));
    let at = stage.run.lab().server_state(MemberId::new(0)).map(|state| state.vec3(0).y);
    assert!(at.is_some_and(|y| y > 8.0), "{at:?}");

    // Looking back, it waits for the present.
    type_keys(&mut stage, ",");
    std::fs::write(&path, next.replace("70 ms", "10 ms")).expect("written");
    for _ in 0..40 {
        stage.look_at_files(Duration::from_millis(200));
        std::thread::sleep(Duration::from_millis(5));
    }
    assert_eq!(stage.run.lab().knobs(MemberId::new(0)).up.latency_ms, 70.0);
    press(&mut stage, KeyCode::End);
    until_said(&mut stage, "took over link");
    assert_eq!(stage.run.lab().knobs(MemberId::new(0)).up.latency_ms, 10.0);
}

#[test]
fn budgets_are_held_against_the_run_so_far() {
    let (_folder, path, mut stage) = on_file(QUAY);
    type_keys(&mut stage, "b");
    for (width, height) in [(160, 47), (120, 36), (80, 24)] {
        let shown = text(&mut stage, width, height);
        let row = shown.lines().find(|line| line.contains("bytes up")).unwrap_or_else(|| panic!("{shown}"));
        assert!(row.contains(" B/s   at most 500 B/s"), "{row}");
        assert!(shown.contains("verdicts on the honest"), "{shown}");
    }
    // Another bound, saved, holds at once.
    std::fs::write(&path, QUAY.replace("500 B/s", "3 kB/s")).expect("written");
    until_said(&mut stage, "took over budget");
    let shown = text(&mut stage, 160, 47);
    assert!(
        shown.contains("at most 3 kB/s") && shown.contains("what counts is 0:30.00, the time that it is checked over"),
        "{shown}"
    );
    stage.advance_to(LabTime::from_secs(9.0));
    assert!(text(&mut stage, 160, 47).contains("the run up to 0:09.00"));
    press(&mut stage, KeyCode::Esc);
    assert!(!text(&mut stage, 160, 47).contains("at most 3 kB/s"));
}
