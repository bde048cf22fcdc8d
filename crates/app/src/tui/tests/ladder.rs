//! Ladder: a press followed, messages opened.

use super::*;

#[test]
fn a_press_is_followed_down_the_ladder_and_its_messages_open_field_by_field() {
    let mut stage = after(12.0);
    stage.look(LabTime::from_secs(8.9));
    type_keys(&mut stage, "3");
    let shown = text(&mut stage, 160, 47);
    for wanted in ["Ladder", "10 ms a row", "server", "heron", "0:08.90", "no message is chosen"] {
        assert!(shown.contains(wanted), "{wanted} in {shown}");
    }
    type_keys(&mut stage, "i");
    let shown = text(&mut stage, 160, 47);
    for wanted in ["the way of input", "pressed", "sent 3 times", "in all", "on heron's screen"] {
        assert!(shown.contains(wanted), "{wanted} in {shown}");
    }
    // Every station is told in the panel and stands on its line.
    for station in ["arrived", "used by tick", "compared"] {
        assert_eq!(shown.matches(station).count(), 2 + usize::from(station == "arrived") * 2, "{station} in {shown}");
    }
    // Its messages are stepped through.
    let opened: Vec<String> = (0..4)
        .map(|_| {
            press(&mut stage, KeyCode::Down);
            let shown = text(&mut stage, 160, 47);
            let titles = shown.lines().filter_map(|line| line.rsplit_once("\u{256d} ")).map(|(_, title)| title);
            titles.filter(|title| title.contains(" bytes ")).collect::<String>()
        })
        .collect();
    assert!(
        opened[..3].iter().all(|title| title.starts_with("inputs")) && opened[3].starts_with("snapshot"),
        "{opened:?}"
    );
    // The moment is the same, whatever is shown of it.
    assert_eq!(stage.at, LabTime::from_secs(8.9));
    press(&mut stage, KeyCode::Esc);
    assert!(text(&mut stage, 160, 47).contains("no message is chosen"));
    // One more machine where there is room, and back to three.
    type_keys(&mut stage, "s");
    let head = |stage: &mut Frame| lines(&drawn(stage, 160, 47))[3].chars().take(112).collect::<String>();
    assert!(head(&mut stage).contains("dunlin"), "{}", head(&mut stage));
    type_keys(&mut stage, "s");
    assert!(!head(&mut stage).contains("dunlin") && head(&mut stage).contains("heron"));
    type_keys(&mut stage, "[[[");
    assert!(text(&mut stage, 160, 47).contains("100 ms a row"));
    type_keys(&mut stage, "]]]]]]]");
    assert!(text(&mut stage, 160, 47).contains("2 ms a row"));
}

#[test]
fn a_message_is_chosen_near_the_moment_and_nothing_is_followed_before_a_press() {
    let mut stage = after(0.3);
    type_keys(&mut stage, "3i");
    assert!(text(&mut stage, 160, 47).contains("pressed nothing from rest by now"));
    let mut stage = after(9.0);
    type_keys(&mut stage, "3");
    text(&mut stage, 160, 47);
    press(&mut stage, KeyCode::Up);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("left     0:0") && shown.contains("goes     from") && !stage.pace.running, "{shown}");
    // What is chosen of one is not of the next.
    press(&mut stage, KeyCode::Tab);
    press(&mut stage, KeyCode::Tab);
    assert!(text(&mut stage, 160, 47).contains("no message is chosen"));
}
