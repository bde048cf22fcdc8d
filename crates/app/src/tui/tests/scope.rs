//! Scope: values at the playhead, pages of minutes.

use super::*;

#[test]
fn scope_says_what_each_lane_is_at_the_playhead_and_keeps_its_lanes() {
    let mut stage = after(12.0);
    type_keys(&mut stage, "4");
    stage.look(LabTime::from_secs(10.5));
    // What is drawn is judged a second a frame.
    (0..8).for_each(|_| drop(text(&mut stage, 160, 47)));
    let shown = text(&mut stage, 160, 47);
    for wanted in ["Scope", "prediction error, m", "1 mm", "mean", "lanes", "0:10.50"] {
        assert!(shown.contains(wanted), "{wanted} in {shown}");
    }
    assert!(!shown.contains("reading"));
    // What stands beside a lane is what the record says.
    let lane = velocitas_analysis::lane::Lane::of_key("lead").expect("in the table");
    assert!(!shown.contains("lead, ticks   "));
    (0..3).for_each(|_| drop(press(&mut stage, KeyCode::Down)));
    type_keys(&mut stage, "a");
    let of = velocitas_analysis::lane::Subject {
        machine: stage.machine(FIRST),
        actor: stage.body(FIRST),
        viewer: stage.machine(FIRST),
    };
    for _ in 0..2 {
        let lead = velocitas_analysis::lane::value_at(stage.run.record(), lane, of, stage.at)[0].expect("it is ahead");
        let shown = text(&mut stage, 160, 47);
        assert!(shown.contains(&format!("lead, ticks   {lead} ticks ")), "{lead} in {shown}");
        // A column on.
        let before = stage.at;
        press(&mut stage, KeyCode::Right);
        assert_eq!(stage.at.minus(before).millis(), 40.0);
    }
    // On another screen and back they are there; hidden they are not.
    type_keys(&mut stage, "14");
    assert!(text(&mut stage, 160, 47).contains("lead, ticks"));
    type_keys(&mut stage, "a");
    assert!(!text(&mut stage, 160, 47).contains("lead, ticks   "));
    // A click looks there.
    let click = MouseEvent {
        kind: MouseEventKind::Down(MouseButton::Left),
        column: 9 + 20,
        row: 10,
        modifiers: KeyModifiers::NONE,
    };
    let from = stage.rail.page().0;
    stage.mouse(&click, Size::new(160, 47));
    assert_eq!(stage.at.minus(from).millis().round(), 21.0 * 40.0);
}

#[test]
fn a_page_of_minutes_is_read_over_frames_and_says_so_meanwhile() {
    let mut stage = after(100.0);
    type_keys(&mut stage, "4{{{{{{");
    assert!(text(&mut stage, 160, 47).contains("reading"));
    for _ in 0..60 {
        text(&mut stage, 160, 47);
    }
    let shown = text(&mut stage, 160, 47);
    assert!(!shown.contains("reading") && shown.contains("a column 2560 ms"), "{shown}");
    // Standing still it is drawn until there is no more to be read.
    type_keys(&mut stage, " {");
    text(&mut stage, 160, 47);
    assert!(stage.is_unfinished());
    (0..60).for_each(|_| drop(text(&mut stage, 160, 47)));
    assert!(!stage.is_unfinished());
}

#[test]
fn lanes_are_remembered_and_what_is_no_lane_is_left_out() {
    let mut stage = after(2.0);
    // The second lane goes, the one before it gets an even axis.
    type_keys(&mut stage, "4");
    press(&mut stage, KeyCode::Down);
    type_keys(&mut stage, "a");
    press(&mut stage, KeyCode::Up);
    type_keys(&mut stage, "l");
    let remembered = stage.shown.remember();
    let scope = remembered.get("Scope").expect("it has something to remember");
    assert_eq!(scope["lanes"], serde_json::json!(["error", "round-trip", "margin", "late", "drawn-error"]));
    assert_eq!(scope["even"], serde_json::json!(["error"]));
    let mut next = after(2.0);
    next.shown.recall(&remembered);
    assert_eq!(next.shown.remember(), remembered);
    type_keys(&mut next, "4");
    let shown = text(&mut next, 160, 47);
    assert!(shown.contains("prediction error, m") && !shown.contains("jump, m  "), "{shown}");
    // A file that somebody wrote into.
    let odd =
        serde_json::json!({ "Scope": { "lanes": ["lead", "lead", 7, "nonsense"], "even": ["lead"], "height": 1e9 } });
    next.shown.recall(odd.as_object().expect("it is one"));
    let scope = &next.shown.remember()["Scope"];
    assert_eq!((&scope["lanes"], &scope["height"]), (&serde_json::json!(["lead"]), &remembered["Scope"]["height"]));
    assert!(text(&mut next, 160, 47).contains("lead, ticks"));
    next.shown.recall(serde_json::json!({ "Scope": [] }).as_object().expect("it is one"));
}

#[test]
fn what_a_lane_says_stands_in_the_list_only_where_the_lane_has_no_room() {
    let mut stage = after(12.0);
    type_keys(&mut stage, "4");
    stage.look(LabTime::from_secs(10.5));
    (0..8).for_each(|_| drop(text(&mut stage, 160, 47)));
    let trip =
        |shown: &str| shown.lines().filter(|line| line.contains("round trip")).map(str::to_owned).collect::<Vec<_>>();
    let shown = trip(&text(&mut stage, 160, 47));
    let said = shown.iter().filter(|line| line.contains(" ms")).count();
    assert_eq!(said, 1, "{shown:?}");
    // Higher lanes: it has no room any more, and the list says it.
    type_keys(&mut stage, "[[[[");
    (0..4).for_each(|_| drop(text(&mut stage, 120, 36)));
    let shown = trip(&text(&mut stage, 120, 36));
    assert!(shown.len() == 1 && shown[0].contains(" ms"), "{shown:?}");
}
