//! The help page.

use std::collections::BTreeSet;

use super::*;
use crate::tui::action::{Action, Screen};
use crate::tui::bindings::{BINDINGS, Binding};
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
        for _ in 0..140 {
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

/// A key as the pages write it.
fn written(binding: &Binding) -> String {
    let name = match binding.code {
        KeyCode::Char(' ') => "space".to_owned(),
        KeyCode::Char(c) => c.to_string(),
        KeyCode::Tab | KeyCode::BackTab => "tab".to_owned(),
        KeyCode::PageUp => "PgUp".to_owned(),
        KeyCode::PageDown => "PgDn".to_owned(),
        KeyCode::Up | KeyCode::Down | KeyCode::Left | KeyCode::Right => format!("{}", binding.code).to_lowercase(),
        code => format!("{code}"),
    };
    match binding.modifiers {
        KeyModifiers::CONTROL => format!("C-{name}"),
        KeyModifiers::SHIFT => format!("S-{name}"),
        _ => name,
    }
}

#[test]
fn the_page_of_screens_names_every_key_and_none_that_there_is_not() {
    let page = include_str!("../../../../../docs/screens.md");
    let table = page.split_once("| key | does | key | does |").expect("the table of keys").1;
    let rows = table.lines().skip(2).take_while(|line| line.starts_with('|'));
    let cells = rows.flat_map(|row| {
        let cells: Vec<&str> = row.trim_matches('|').split(" | ").map(str::trim).collect();
        [cells[0], cells[2]]
    });
    let mut named: BTreeSet<String> = BTreeSet::new();
    for word in cells.flat_map(str::split_whitespace) {
        let word = if word.len() > 1 { word.trim_end_matches(',') } else { word };
        match word {
            // Shift turns for all.
            "arrows" => named.extend(["up", "down", "left", "right", "S-left", "S-right"].map(str::to_owned)),
            word => drop(named.insert(word.to_owned())),
        }
    }
    let known: BTreeSet<String> = BINDINGS.iter().map(written).collect();
    // `=` is `+` where that wants Shift.
    let missing: Vec<_> = known.difference(&named).filter(|key| *key != "=").collect();
    let unknown: Vec<_> = named.difference(&known).collect();
    assert!(missing.is_empty() && unknown.is_empty(), "not on the page: {missing:?}; only on the page: {unknown:?}");
}
