//! The help page.

use super::*;
use crate::tui::action::{Action, Screen};
use crate::tui::bindings::BINDINGS;
use crate::tui::screens::SCREENS;

/// What a page of help says, at a size at which all of it is seen.
fn help(stage: &mut Frame) -> String {
    let shown = lines(&drawn(stage, 164, 90));
    let halves = |from: usize, to: usize| -> Vec<String> {
        shown.iter().map(|row| row.chars().skip(from).take(to - from).collect::<String>().trim().to_owned()).collect()
    };
    [halves(5, 81), halves(82, 158)].concat().join(" ").split_whitespace().collect::<Vec<_>>().join(" ")
}

#[test]
fn help_lists_the_keys_that_work_here_and_every_glyph_and_is_searched_by_typing() {
    let mut stage = after(0.5);
    for screen in SCREENS.iter().map(|spec| spec.screen) {
        stage.act(Action::Show(screen));
        stage.act(Action::Help);
        let shown = help(&mut stage);
        for binding in &BINDINGS {
            assert_eq!(shown.contains(binding.help), binding.is_on(screen), "{screen:?}: {} in {shown}", binding.help);
        }
        for (glyph, _, said) in stage.shown.view().glyphs(stage.palette) {
            assert!(shown.contains(&format!("{glyph} {said}")), "{screen:?}: {said} in {shown}");
        }
        press(&mut stage, KeyCode::Esc);
    }
    stage.act(Action::Show(Screen::Field));
    type_keys(&mut stage, "?budg");
    let found = help(&mut stage);
    assert!(found.contains("what the course allows the selected member") && !found.contains("suspend"), "{found}");
    type_keys(&mut stage, "zz");
    assert!(help(&mut stage).contains("nothing here is called or does `budgzz`"));
    press(&mut stage, KeyCode::Esc);
    assert!(!stage.popups.is_open(Action::Help));
}

#[test]
fn help_scrolls_where_it_must_and_cuts_nothing_off() {
    let mut stage = after(0.5);
    for (width, height) in [(160, 47), (120, 36), (80, 24)] {
        type_keys(&mut stage, "?");
        let mut all = String::new();
        for _ in 0..120 {
            all += &lines(&drawn(&mut stage, width, height)).join(" ");
            press(&mut stage, KeyCode::Down);
        }
        assert!(all.contains("hand back to the script"), "the last of it, at {width}x{height}");
        for word in BINDINGS.iter().flat_map(|b| b.help.split(' ')) {
            let is_here = BINDINGS.iter().any(|b| b.help.contains(word) && b.on.is_empty());
            assert!(!is_here || all.contains(word), "{word} is cut off at {width}x{height}");
        }
        press(&mut stage, KeyCode::Esc);
    }
}
