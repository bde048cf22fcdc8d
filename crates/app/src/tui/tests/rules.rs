//! The Rules screen.

use super::*;

#[test]
fn the_rules_screen_shows_source_fields_and_tunables_at_every_size() {
    let mut stage = after(2.0);
    type_keys(&mut stage, "2");
    for (width, height) in [(160, 47), (120, 36), (80, 24), (300, 90)] {
        let shown = text(&mut stage, width, height);
        for wanted in ["2 Rules", "courier.gait", "IN FORCE", "gait \"courier\"", "input {"] {
            assert!(shown.contains(wanted), "{width}x{height} lacks `{wanted}`:\n{shown}");
        }
        let panel = shown.contains("whole state 257 to its owner, 110 to others");
        assert_eq!(panel, width >= 110, "{width}x{height}:\n{shown}");
    }
    type_keys(&mut stage, "k");
    assert!(text(&mut stage, 80, 24).contains("tunables at plover"), "on one key where there is little room");
    // The ferry has a rule of its own, scrolled to its end and back.
    press(&mut stage, KeyCode::BackTab);
    for _ in 0..40 {
        press(&mut stage, KeyCode::PageDown);
    }
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("ferry.gait") && shown.contains("limits {") && shown.contains("lines above"), "{shown}");
    for _ in 0..40 {
        press(&mut stage, KeyCode::PageUp);
    }
    assert!(text(&mut stage, 160, 47).contains("# The canal ferry"));
    type_keys(&mut stage, "e");
    assert!(text(&mut stage, 160, 47).contains("velocitas new FOLDER"), "built in: there is no file to edit");
}

#[test]
fn a_tunable_turned_on_one_machine_is_marked_and_for_all_is_not() {
    let mut stage = after(2.0);
    type_keys(&mut stage, "2");
    press(&mut stage, KeyCode::Down);
    press(&mut stage, KeyCode::Right);
    pass(&mut stage, 200);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("haste") && shown.contains("1.7") && shown.contains("server 1.6"), "{shown}");
    stage.key(&KeyEvent::new(KeyCode::Right, KeyModifiers::SHIFT));
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("1.8") && !shown.contains("server 1.6") && shown.contains("turned"), "{shown}");
    // Looking back, nothing is turned but offered, from what it was then.
    type_keys(&mut stage, "<");
    press(&mut stage, KeyCode::Right);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("with haste at 1.7 on plover") && shown.contains("1.8"), "{shown}");
    press(&mut stage, KeyCode::Right);
    assert!(text(&mut stage, 160, 47).contains("with haste at 1.8 on plover"), "turned further it is offered further");
}

#[test]
fn a_broken_edit_stands_under_its_line_and_a_good_one_waits_for_the_present() {
    let mut stage = after(2.0);
    type_keys(&mut stage, "2");
    let before = stage.run.lab().server_known().kinds.motion(1).schema().clone();
    let good = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
    stage.edits.sources[0].take(good.replace("breath + dt", "breth + dt"), &before);
    stage.edits.mistake = (1, 1);
    for (width, height) in [(160, 47), (80, 24)] {
        let all = lines(&drawn(&mut stage, width, height));
        let caret = all.iter().position(|l| l.contains("^^^^^")).unwrap_or_else(|| panic!("{}", all.join("\n")));
        assert!(all[caret - 1].contains("breth") && all[caret + 1].contains("expected a name"), "{}", all.join("\n"));
        assert_eq!(all[caret].find('^'), all[caret - 1].find("breth"), "under the word");
        assert!(all.iter().any(|l| l.contains("BROKEN EDIT: 1 mistake")));
    }
    // The past is looked at: a good edit waits.
    type_keys(&mut stage, "<");
    stage.edits.sources[0].take(good.replace("4.2 m/s ", "5 m/s "), &before);
    stage.look_at_files(Duration::from_millis(20));
    assert!(text(&mut stage, 160, 47).contains("WAITING") && stage.run.record().changes.is_empty());
    press(&mut stage, KeyCode::End);
    stage.look_at_files(Duration::from_millis(20));
    assert_eq!(stage.run.record().changes.len(), 1);
    assert!(text(&mut stage, 160, 47).contains("IN FORCE since tick"));
    // Resuming from before the edit drops it, and the file says it again.
    type_keys(&mut stage, "<<");
    press(&mut stage, KeyCode::Enter);
    stage.look_at_files(Duration::from_millis(20));
    assert_eq!(stage.run.record().changes.len(), 1);
    assert_eq!(stage.run.lab().server_known().tunables[1][0], 5.0);
}

#[test]
fn what_does_not_fit_the_rules_screen_says_so() {
    let mut stage = after(1.0);
    press(&mut stage, KeyCode::BackTab);
    type_keys(&mut stage, "2");
    let shown = text(&mut stage, 120, 36);
    assert!(shown.contains("more: a taller terminal shows them"), "{shown}");
    assert!(shown.contains('\u{203a}'), "lines cut at the right are marked:\n{shown}");
    assert!(!text(&mut stage, 200, 60).contains("more: a taller"));
}

#[test]
fn an_edit_that_one_machine_alone_cannot_take_over_is_told_and_all_may() {
    let mut stage = after(2.0);
    type_keys(&mut stage, "2a");
    let before = stage.run.lab().server_known().kinds.motion(1).schema().clone();
    let good = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
    stage.edits.sources[0].take(good.replace("stick    bits 7 ", "stick    bits 9 "), &before);
    stage.look_at_files(Duration::from_millis(20));
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("the new rule has another layout") && stage.run.record().changes.is_empty(), "{shown}");
    type_keys(&mut stage, "a");
    stage.look_at_files(Duration::from_millis(20));
    assert_eq!(stage.run.record().changes.len(), 1);
    assert!(text(&mut stage, 160, 47).contains("IN FORCE since tick"));
}
