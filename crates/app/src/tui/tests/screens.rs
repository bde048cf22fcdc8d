//! Reviewed snapshots of every screen from the demo: at three sizes, looking back, with a branch, where there is too little room.

use super::*;
use crate::tui::screens::{SCREENS, Screen};

const SIZES: [(u16, u16); 3] = [(160, 47), (120, 36), (80, 24)];

/// The demo at a moment in the middle of what happened, on a screen.
fn at(screen: Screen) -> Frame {
    let mut stage = after(10.5);
    stage.resized(Size::new(160, 47));
    stage.look(LabTime::from_secs(8.9));
    stage.act(Action::Show(screen));
    stage
}

/// What is on the screen once everything has been read.
fn settled(stage: &mut Frame, width: u16, height: u16) -> String {
    stage.resized(Size::new(width, height));
    stage.refresh();
    for _ in 0..20 {
        drawn(stage, width, height);
    }
    lines(&drawn(stage, width, height)).iter().map(|line| line.trim_end().to_owned() + "\n").collect()
}

#[test]
fn every_screen_is_as_it_was_reviewed_at_three_sizes() {
    for spec in &SCREENS {
        let mut stage = at(spec.screen);
        for (width, height) in SIZES {
            let name = format!("{}_{width}x{height}", spec.name[2..].to_lowercase());
            insta::assert_snapshot!(name, settled(&mut stage, width, height));
        }
        insta::assert_snapshot!("too_small", settled(&mut stage, 79, 24));
    }
}

#[test]
fn the_field_from_the_side_and_side_by_side_is_as_it_was_reviewed() {
    let mut stage = at(Screen::Field);
    stage.look(LabTime::from_secs(9.6));
    type_keys(&mut stage, "dsl");
    insta::assert_snapshot!("field_from_the_south_two_screens", settled(&mut stage, 160, 47));
}

#[test]
fn an_input_that_is_followed_is_as_it_was_reviewed() {
    let mut stage = at(Screen::Ladder);
    settled(&mut stage, 160, 47);
    type_keys(&mut stage, "i");
    press(&mut stage, KeyCode::Down);
    insta::assert_snapshot!("ladder_follows", settled(&mut stage, 160, 47));
    // A machine that the terminal is too narrow for has its words all the same.
    let shown = settled(&mut stage, 110, 30);
    assert!(shown.contains("on heron's screen"), "{shown}");
}

#[test]
fn with_a_branch_every_screen_shows_what_is_otherwise() {
    let mut stage = at(Screen::Field);
    stage.look(LabTime::from_secs(7.0));
    press(&mut stage, KeyCode::Right);
    press(&mut stage, KeyCode::Enter);
    while stage.works() {
        stage.look_at_jobs();
        std::thread::sleep(Duration::from_millis(5));
    }
    stage.look_at_jobs();
    stage.look(LabTime::from_secs(9.2));
    stage.act(Action::Show(Screen::Scope));
    let shown = settled(&mut stage, 160, 47);
    assert!(shown.contains("behind: the branch") || shown.contains("reading"), "{shown}");
    let area = Rect::new(0, 2, 113, 33);
    let drawing = stage.shown.view().drawing(&stage, area).expect("there are lanes");
    let ghosts = drawing.plots.iter().flat_map(|plot| &plot.marks);
    let is_ghost = |mark: &&velocitas_report::drawing::Mark| {
        matches!(mark, velocitas_report::drawing::Mark::Band { ghost: true, .. })
    };
    assert!(ghosts.filter(is_ghost).count() >= 3, "the branch lies behind");
    insta::assert_snapshot!("scope_with_a_branch", shown);
}

#[test]
fn a_kept_take_lies_behind_and_what_is_none_is_told() {
    let folder = tempfile::tempdir().expect("a folder");
    let mut stage = after(6.0);
    stage.keep_take(folder.path(), Some("kept.take")).expect("it is written");
    let path = folder.path().join("kept.take");
    type_keys(&mut stage, "4");
    stage.lay_behind(path.to_str().expect("a name"));
    while stage.works() {
        stage.look_at_jobs();
        std::thread::sleep(Duration::from_millis(5));
    }
    stage.look_at_jobs();
    assert!(stage.notice().is_some_and(|said| said.contains("lies behind on Scope")), "{:?}", stage.notice());
    settled(&mut stage, 160, 47);
    let drawing = stage.shown.view().drawing(&stage, Rect::new(0, 2, 113, 33)).expect("there are lanes");
    // It is the same run: what lies behind is what lies before.
    for plot in &drawing.plots {
        let bands = |wanted: bool| -> Vec<_> {
            let of = plot.marks.iter().filter_map(|mark| match mark {
                velocitas_report::drawing::Mark::Band { series, spans, ghost, .. } if *ghost == wanted => {
                    Some((series.clone(), spans.clone()))
                }
                _ => None,
            });
            of.collect()
        };
        assert_eq!(bands(true), bands(false), "{}", plot.name);
    }
    stage.lay_behind("nowhere.take");
    while stage.works() {
        stage.look_at_jobs();
        std::thread::sleep(Duration::from_millis(5));
    }
    stage.look_at_jobs();
    assert!(stage.notice().is_some_and(|said| said.contains("cannot read")), "{:?}", stage.notice());
}

#[test]
fn the_tour_opens_the_moment_that_it_tells_of() {
    let page = include_str!("../../../../../docs/screens.md");
    let command =
        page.lines().find_map(|line| line.trim().strip_prefix("cargo run --release -- --at ")).expect("a command");
    let (minutes, seconds) = command.trim().split_once(':').expect("minutes and seconds");
    let at = minutes.parse::<f64>().expect("minutes") * 60.0 + seconds.parse::<f64>().expect("seconds");
    let mut stage = after(at);
    // What it says of that moment, in the order of the page.
    assert!(page.contains("`×` above it") && page.contains("*a push at tick 540 that only the\nserver knew*"));
    let field = settled(&mut stage, 160, 47);
    assert!(field.contains("looking at plover") && field.contains('×'), "{field}");
    let words = field.replace(['│', '\n'], " ").split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(words.contains("a push at tick 540"), "{field}");
    assert!(field.contains("loupe · plover · 1 dot 2 cm") && field.contains("apart at one tick"), "{field}");
    type_keys(&mut stage, "d");
    assert!(settled(&mut stage, 160, 47).contains("from the south"));
    type_keys(&mut stage, "d");
    assert!(settled(&mut stage, 160, 47).contains("from the east"));
    type_keys(&mut stage, "d3");
    // `i` follows the newest press, leg by leg, with their sum.
    type_keys(&mut stage, "i");
    let ladder = settled(&mut stage, 160, 47);
    assert!(ladder.contains("Ladder"), "{ladder}");
    type_keys(&mut stage, "i4");
    // "No input was late, and the margin never fell below a tick."
    let scope = settled(&mut stage, 160, 47);
    assert!(scope.contains("prediction error") && scope.contains("jump"), "{scope}");
    let record = stage.run.record();
    let from = LabTime::from_secs(at - 1.0);
    let late = velocitas_analysis::metrics::measure(record, stage.machine(FIRST), from, stage.at).inputs.late;
    let margins = record.of(stage.machine(FIRST)).clocks.iter().filter(|row| row.at >= from);
    let least = margins.filter_map(|row| row.fact.margin).min();
    assert!(late == 0 && least.is_some_and(|quarters| quarters >= 4), "{late} late, {least:?} quarters");
}
