//! Who comes and goes, and what machines get wrong about it.

use super::*;

/// The row of the panel that begins with a word.
fn row(stage: &mut Frame, name: &str) -> String {
    let shown = text(stage, 160, 47);
    let rows = shown.lines().filter_map(|line| line.split('\u{2502}').rev().nth(1).map(str::trim).map(str::to_owned));
    let found: Vec<String> = rows.filter(|row| row.starts_with(name)).collect();
    assert_eq!(found.len(), 1, "`{name}` in\n{shown}");
    found[0][name.len()..].trim().to_owned()
}

#[test]
fn somebody_crashes_leaves_and_returns_by_key_and_the_panel_says_what_the_record_does() {
    let mut stage = comings();
    stage.advance_to(LabTime::from_secs(3.0));
    let known = |stage: &mut Frame| {
        let moment = stage.moment();
        let (know, not) = moment.known_to(stage.subject().expect("it came"));
        (know.len(), not.join(", "))
    };
    assert_eq!(
        (row(&mut stage, "owned by"), known(&mut stage)),
        ("heron; all 3 know it".to_owned(), (3, String::new()))
    );
    press(&mut stage, KeyCode::Char('r'));
    assert!(text(&mut stage, 160, 47).contains("heron is there"));
    press(&mut stage, KeyCode::Char('c'));
    pass(&mut stage, 1000);
    assert!(
        text(&mut stage, 160, 47).contains("heron (silent)")
            && row(&mut stage, "\u{25cf} predicted").contains("it is out")
    );
    assert_eq!(row(&mut stage, "owned by"), "heron; all 2 know it");
    // Missed.
    pass(&mut stage, 5500);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("heron is gone") || row(&mut stage, "gone").contains("s ago"), "{shown}");
    press(&mut stage, KeyCode::Char('g'));
    assert!(text(&mut stage, 160, 47).contains("heron is not there: r brings it back"));
    press(&mut stage, KeyCode::Char('r'));
    pass(&mut stage, 2500);
    assert!(row(&mut stage, "owned by").starts_with("heron; all"));
    press(&mut stage, KeyCode::Char('g'));
    pass(&mut stage, 1000);
    assert!(row(&mut stage, "gone").contains("s ago"), "at once, with a goodbye");
    // Looking back nothing is done by accident: it was there still, and its going is offered.
    press(&mut stage, KeyCode::Char('<'));
    press(&mut stage, KeyCode::Char('<'));
    press(&mut stage, KeyCode::Char('r'));
    assert!(text(&mut stage, 160, 47).contains("heron is there"), "{}", text(&mut stage, 160, 47));
    press(&mut stage, KeyCode::Char('c'));
    assert!(text(&mut stage, 160, 47).contains("with heron crashing") && !stage.run().lab().runs(FIRST));
}

#[test]
fn things_are_looked_at_too_and_an_order_shows_at_once() {
    let mut stage = comings();
    stage.advance_to(LabTime::from_secs(3.0));
    for _ in 0..3 {
        press(&mut stage, KeyCode::BackTab);
    }
    assert!(text(&mut stage, 160, 47).contains("barge \u{b7} figures of heron"));
    assert_eq!(row(&mut stage, "owned by"), "nobody");
    press(&mut stage, KeyCode::Tab);
    press(&mut stage, KeyCode::Tab);
    assert!(row(&mut stage, "owned by").starts_with("heron, plover; obeys"), "{}", row(&mut stage, "owned by"));
    assert!(text(&mut stage, 160, 47).contains("nobody predicts it"));
    // The helm's own order, sent eight metres to the north of where it stands.
    press(&mut stage, KeyCode::Tab);
    type_keys(&mut stage, "ho");
    pass(&mut stage, 40);
    press(&mut stage, KeyCode::Esc);
    press(&mut stage, KeyCode::BackTab);
    pass(&mut stage, 20);
    let shown = row(&mut stage, "\u{2295} order");
    let crane = stage.subject().expect("it is there");
    let ((x, y), standing) = stage.moment().order(crane, stage.machine(FIRST)).expect("it was ordered");
    assert!(
        shown.contains(&format!("{x:.2}")) && shown.contains(&format!("{y:.2}")) && shown.ends_with(standing.name())
    );
    pass(&mut stage, 400);
    let (order, owned) = (row(&mut stage, "\u{2295} order"), row(&mut stage, "owned by"));
    assert!(order.ends_with("obeyed") && owned.ends_with("obeys heron"), "{order}, {owned}");
}

#[test]
fn a_fault_shows_in_words_with_its_remedy_and_m_mends_it() {
    let text_of = |name: &str| {
        let path = format!("{}/../../courses/faults/{name}.course.toml", env!("CARGO_MANIFEST_DIR"));
        std::fs::read_to_string(path).expect("it ships")
    };
    for (name, words) in [
        ("untold", "plover does not know of heron"),
        ("twin", "plover is there twice"),
        ("leaver", "curlew still sees plover"),
        ("two-movers", "heron moves handcart, which it owns no longer"),
        ("unlatched", "plover pressed what no input says"),
        ("present", "plover took older states for ticks"),
        ("one-distance", "cm off what it was told of itself"),
    ] {
        let course = Course::parse(name, &text_of(name), &[]).unwrap_or_else(|e| panic!("{e}"));
        let mut stage = Frame::new(Run::new(course).expect("it fits"), Palette::new(Colours::True, false));
        stage.advance_to(LabTime::from_secs(9.0));
        pass(&mut stage, 40);
        for (width, height) in [(160, 47), (120, 36), (80, 24)] {
            let shown = text(&mut stage, width, height);
            assert!(shown.contains(words) && shown.contains("m mends it"), "{name} at {width}x{height}:\n{shown}");
        }
        press(&mut stage, KeyCode::Char('m'));
        assert!(text(&mut stage, 160, 47).contains("mended"));
        pass(&mut stage, 9000);
        assert!(!text(&mut stage, 160, 47).contains("m mends it"), "{name} is mended");
    }
}
