//! What every screen shows, at every size, in every palette.

use super::*;

#[test]
fn every_designed_size_shows_when_whose_and_what() {
    let mut stage = after(5.0);
    for (width, height) in [(160, 47), (120, 36), (80, 24), (300, 90), (110, 30), (109, 24)] {
        let shown = text(&mut stage, width, height);
        for wanted in ["VELOCITAS", "LIVE \u{d7}1", "0:05.00", "plover", "RTT", "rail", "now", "\u{25cf}"] {
            assert!(shown.contains(wanted), "{width}x{height} lacks `{wanted}`:\n{shown}");
        }
    }
    let shown = text(&mut stage, 160, 47);
    for wanted in ["predicted", "authority", "same tick", "corrected", "latency, one way", "loupe", "knobs of plover"] {
        assert!(shown.contains(wanted), "{wanted}");
    }
}

#[test]
fn nothing_is_cut_at_the_right_edge_of_the_panel() {
    for (entity, seconds) in [(0, 5.0), (2, 33.0), (3, 20.0), (4, 17.0)] {
        let mut stage = after(seconds);
        for _ in 0..entity {
            press(&mut stage, KeyCode::Tab);
        }
        let rows = lines(&drawn(&mut stage, 160, 47));
        for row in &rows[3..34] {
            let before_border = row.chars().nth(158);
            assert!(matches!(before_border, Some(' ' | '\u{2500}')), "cut: {row}");
        }
    }
}

#[test]
fn a_small_terminal_says_what_it_needs_and_none_is_too_small() {
    let mut stage = after(1.0);
    assert!(text(&mut stage, 79, 24).contains("Velocitas needs 80\u{d7}24 cells; this is 79\u{d7}24"));
    for (width, height) in [(0, 0), (1, 1), (3, 90), (200, 2), (80, 23)] {
        let _ = text(&mut stage, width, height);
    }
}

#[test]
fn drawing_twice_gives_the_same_cells() {
    let mut stage = after(4.0);
    assert_eq!(drawn(&mut stage, 160, 47), drawn(&mut stage, 160, 47));
}

#[test]
fn without_colour_shapes_alone_tell_the_echoes_and_the_ground_apart() {
    let mut stage = with_palette(Palette::new(Colours::None, false));
    stage.advance_to(LabTime::from_secs(4.0));
    let buffer = drawn(&mut stage, 160, 47);
    assert!(buffer.content.iter().all(|c| c.bg == ratatui::style::Color::Reset));
    let shown = lines(&buffer).join("\n");
    for wanted in ["\u{25cf}", "\u{25c6}", "\u{25cb}", "~", "#", "%"] {
        assert!(shown.contains(wanted), "{wanted}");
    }
}

#[test]
fn in_ascii_every_cell_is_ascii() {
    let mut stage = with_palette(Palette::new(Colours::True, true));
    stage.advance_to(LabTime::from_secs(4.0));
    for row in lines(&drawn(&mut stage, 160, 47)) {
        // Words may carry a sigma or a middle dot of prose; shapes may not.
        let strange: String = row.chars().filter(|c| *c > '\u{2000}').collect();
        assert!(strange.is_empty(), "{strange} in {row}");
    }
}

#[test]
fn live_paused_and_back_never_look_alike() {
    let mut stage = after(4.0);
    let badges: Vec<(String, ratatui::style::Style)> = (0..3)
        .map(|i| {
            if i == 1 {
                type_keys(&mut stage, " ");
            } else if i == 2 {
                type_keys(&mut stage, "<");
            }
            let buffer = drawn(&mut stage, 160, 47);
            let row = lines(&buffer)[0].clone();
            let at = ["LIVE", "PAUSED", "BACK"].iter().find_map(|w| row.find(w)).expect("a badge");
            let column = row[..at].chars().count() as u16;
            (row[at..at + 4].to_owned(), buffer[(column, 0)].style())
        })
        .collect();
    for i in 0..3 {
        for j in i + 1..3 {
            assert_ne!(badges[i].0, badges[j].0);
            assert_ne!(badges[i].1, badges[j].1, "{} and {}", badges[i].0, badges[j].0);
        }
    }
}

#[test]
fn a_verdict_is_shown_with_its_evidence() {
    // Magpie's first jump is at eleven seconds.
    let mut stage = after(11.3);
    for _ in 0..4 {
        press(&mut stage, KeyCode::Tab);
    }
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("! reach at tick") && shown.contains("limit 0.122 (slack 4 %)"), "{shown}");
    assert!(shown.contains("the guard pulled back"), "{shown}");
}

#[test]
fn the_ferry_is_drawn_in_its_size_with_its_heading_and_its_look() {
    let mut stage = after(12.0);
    press(&mut stage, KeyCode::BackTab);
    let shown = text(&mut stage, 160, 47);
    let around = shown.chars().filter(|c| ('\u{2801}'..='\u{28ff}').contains(c)).count();
    assert!(around > 12, "an outline of dots:\n{shown}");
    assert!(shown.contains("lawful: under_way"), "{shown}");
}
