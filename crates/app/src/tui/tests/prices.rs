//! What a knob's values cost: tried beside the frames, walked along by keys, taken or seen as a branch.

use super::*;
use velocitas_record::settings::Knob;

/// The popup's lines.
fn popup(stage: &mut Frame) -> Vec<String> {
    text(stage, 160, 47).lines().map(str::to_owned).collect()
}

/// The line of the popup that names the value.
fn value(stage: &mut Frame) -> String {
    let lines = popup(stage);
    let title = lines.iter().position(|line| line.contains(" costs ") && line.contains("Esc closes"));
    lines[title.unwrap_or_else(|| panic!("it is not open:\n{}", lines.join("\n"))) + 1].clone()
}

/// What stands behind a measure's name.
fn costs(stage: &mut Frame, measure: &str) -> String {
    let shown = text(stage, 160, 47);
    let row = shown.lines().find_map(|line| line.split_once(measure).map(|(_, rest)| rest.trim().to_owned()));
    row.unwrap_or_else(|| panic!("no {measure}:\n{shown}"))
}

/// A knob of the first as it is now.
fn knob(stage: &Frame, knob: Knob) -> String {
    let value = knob.get(stage.run.lab().knobs(FIRST));
    velocitas_analysis::cause::shown(knob, value)
}

#[test]
fn p_tries_the_values_around_the_one_in_force_and_enter_takes_the_one_that_is_chosen() {
    let mut stage = after(9.0);
    let before = stage.run.digest();
    type_keys(&mut stage, "P");
    assert!(stage.works() && value(&mut stage).contains("\u{25c2} 40 ms \u{25b8}   in force   tried "));
    assert!(costs(&mut stage, "view age").starts_with('\u{2026}'), "not known yet, and said so");
    settle(&mut stage);
    assert_eq!(stage.run.digest(), before, "the run is as it was");
    let is = value(&mut stage);
    assert!(is.contains("in force") && !is.contains("tried"), "{is}");
    // What it has cost is what the panel's figures say of the same seconds.
    let (from, to) = (LabTime::from_secs(0.0), LabTime(8_999_999_999));
    let figures = velocitas_analysis::metrics::measure_all(stage.run.found(), stage.machine(FIRST), from, to).0;
    let measure = velocitas_analysis::budget::Measure::named("view_age").expect("there is one");
    let measured = measure.shown((measure.get)(&figures).expect("others are seen"));
    assert!(costs(&mut stage, "view age").starts_with(&measured), "{measured}: {}", costs(&mut stage, "view age"));
    for _ in 0..3 {
        press(&mut stage, KeyCode::Right);
    }
    assert!(value(&mut stage).contains("\u{25c2} 75 ms \u{25b8}   instead of 40 ms"), "{}", value(&mut stage));
    assert!(costs(&mut stage, "view age").contains(&format!("was {measured}")), "{}", costs(&mut stage, "view age"));
    // At every size it says what the keys do, and the chosen value stands under the curves.
    for (width, height) in [(160, 47), (120, 36), (80, 24)] {
        let shown = text(&mut stage, width, height);
        for wanted in ["75 ms", "roughness of others", "bytes down", "Enter take it", "the course's budget"] {
            assert!(shown.contains(wanted), "{width}x{height} lacks `{wanted}`:\n{shown}");
        }
    }
    press(&mut stage, KeyCode::Enter);
    assert!(!stage.popups.is_open(Action::Price));
    assert_eq!(stage.notice(), Some("latency, one way of plover set to 75 ms"));
    pass(&mut stage, 100);
    assert_eq!(knob(&stage, Knob::Latency), "75 ms");
}

#[test]
fn looking_back_the_chosen_value_begins_a_branch_and_the_one_in_force_nothing() {
    let mut stage = after(9.0);
    stage.look(LabTime::from_secs(6.0));
    type_keys(&mut stage, "P");
    press(&mut stage, KeyCode::Enter);
    assert_eq!(stage.notice(), Some("latency, one way is 40 ms already"));
    assert!(stage.branching.branch.is_none());
    type_keys(&mut stage, "P");
    press(&mut stage, KeyCode::Left);
    assert!(text(&mut stage, 160, 47).contains("Enter see it as a branch"));
    // Its ends are ends.
    for _ in 0..30 {
        press(&mut stage, KeyCode::Left);
    }
    assert!(value(&mut stage).contains("10 ms \u{25b8}   instead of 40 ms"), "{}", value(&mut stage));
    press(&mut stage, KeyCode::Enter);
    assert!(text(&mut stage, 160, 47).contains("branch from 0:06.00"), "its box is there at once");
    settle(&mut stage);
    let branch = stage.branching.branch.as_ref().and_then(|b| b.run()).expect("it has run");
    let turned = Knob::Latency.get(branch.lab().knobs(FIRST));
    assert_eq!(velocitas_analysis::cause::shown(Knob::Latency, turned), "10 ms");
    assert_eq!(knob(&stage, Knob::Latency), "40 ms", "the run is as it was");
}

#[test]
fn esc_and_the_key_itself_let_go_of_it_at_once_and_where_nothing_is_turned_it_says_so() {
    let mut stage = after(3.0);
    for close in [KeyCode::Esc, KeyCode::Char('P')] {
        type_keys(&mut stage, "P");
        assert!(stage.popups.is_open(Action::Price) && stage.works());
        press(&mut stage, close);
        assert!(!stage.popups.is_open(Action::Price) && !stage.works());
    }
    type_keys(&mut stage, "4");
    type_keys(&mut stage, "P");
    assert!(!stage.popups.is_open(Action::Price), "nothing is turned on that screen");
    line(&mut stage, "price");
    assert!(stage.notice().is_some_and(|said| said.contains("choose a knob on screen 1")), "{:?}", stage.notice());
    let mut early = after(0.4);
    type_keys(&mut early, "P");
    assert_eq!(early.notice(), Some("there is no whole second to look at yet"));
}

#[test]
fn a_tunable_is_priced_on_the_rules_screen_and_taken_by_all() {
    let mut stage = after(4.0);
    type_keys(&mut stage, "2");
    press(&mut stage, KeyCode::Down);
    type_keys(&mut stage, "P");
    assert!(text(&mut stage, 160, 47).contains("what haste costs plover"));
    press(&mut stage, KeyCode::Right);
    assert!(value(&mut stage).contains("1.7 \u{25b8}   instead of 1.6"), "{}", value(&mut stage));
    assert!(text(&mut stage, 160, 47).contains("Enter take it, on all machines"));
    press(&mut stage, KeyCode::Enter);
    pass(&mut stage, 200);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("1.7") && !shown.contains("server 1.6"), "the server has it as well:\n{shown}");
}
