//! Pausing, stepping, looking back; the rail.

use super::*;

#[test]
fn space_pauses_and_time_stands_until_it_runs_again() {
    let mut stage = stage();
    pass(&mut stage, 1000);
    assert_eq!(stage.at, LabTime::from_secs(1.0));
    type_keys(&mut stage, " ");
    pass(&mut stage, 500);
    assert_eq!(stage.at, LabTime::from_secs(1.0));
    assert!(text(&mut stage, 120, 36).contains("PAUSED"));
    type_keys(&mut stage, " ++");
    pass(&mut stage, 500);
    assert_eq!(stage.at, LabTime::from_secs(3.0));
}

#[test]
fn ticks_are_stepped_back_and_on_in_the_selected_machines_count() {
    let mut stage = after(5.0);
    let tick = |stage: &mut Frame| stage.moment().tick(stage.machine(FIRST), Part::Client).unwrap_or_default().0;
    let newest = tick(&mut stage);
    type_keys(&mut stage, ",,,");
    // A frame may hold two ticks: they were made at the same moment and are stepped over together.
    assert!((3..=6).contains(&(newest - tick(&mut stage))), "{} from {newest}", tick(&mut stage));
    assert!(!stage.is_live());
    assert!(text(&mut stage, 160, 47).contains("BACK \u{2212}0.0"));
    type_keys(&mut stage, "...");
    assert_eq!(tick(&mut stage), newest);
    // Beyond the present a step makes the next tick.
    press(&mut stage, KeyCode::End);
    type_keys(&mut stage, " .");
    assert!(tick(&mut stage) > newest && stage.is_live() && !stage.pace.running);
}

#[test]
fn looking_back_knobs_and_helm_only_offer_the_way_to_live() {
    let mut stage = after(5.0);
    type_keys(&mut stage, "<");
    let commands = stage.run().commands().len();
    for code in [KeyCode::Char('h'), KeyCode::Char(' ')] {
        press(&mut stage, code);
        assert!(text(&mut stage, 120, 36).contains("looking back: End returns to live, Enter resumes from here"));
    }
    assert_eq!(stage.run().commands().len(), commands);
    press(&mut stage, KeyCode::Enter);
    assert!(stage.is_live() && stage.run().now() == LabTime::from_secs(4.0));
    assert!(text(&mut stage, 120, 36).contains("the 1.0 s after it were dropped"));
}

#[test]
fn events_are_jumped_to_and_named() {
    let mut stage = after(6.0);
    type_keys(&mut stage, "p");
    assert!(!stage.is_live());
    assert!(
        stage
            .moment()
            .last_correction(stage.machine(FIRST))
            .is_some_and(|c| stage.at.minus(c.at) < LabTime::from_millis(300.0))
    );
    assert!(text(&mut stage, 160, 47).contains("crate 7: the server stops"));
}

#[test]
fn a_click_on_the_rail_moves_the_playhead() {
    let mut stage = after(4.0);
    let size = Size::new(160, 47);
    // The rail has 11 rows here; its lanes begin after nine columns of names, a column is 40 ms.
    let click = MouseEvent {
        kind: MouseEventKind::Down(MouseButton::Left),
        column: 9 + 50,
        row: 40,
        modifiers: KeyModifiers::NONE,
    };
    stage.mouse(&click, size);
    assert!(!stage.is_live());
    assert_eq!(stage.at.millis().round(), 2040.0);
    stage.mouse(&MouseEvent { row: 10, ..click }, size);
    assert_eq!(stage.at.millis().round(), 2040.0, "the field is no rail");
}

#[test]
fn the_rails_page_stands_until_the_playhead_reaches_its_end() {
    let mut stage = after(3.0);
    let before = stage.rail.span();
    stage.advance_to(LabTime::from_secs(5.5));
    assert_eq!(stage.rail.span(), before);
    stage.advance_to(LabTime::from_secs(6.5));
    let turned = stage.rail.span();
    assert!(turned.0 > before.0 && turned.1 > LabTime::from_secs(8.0), "{turned:?}");
    // Looking far back turns it back, wherever that is.
    press(&mut stage, KeyCode::Home);
    assert!(stage.rail.span().0 <= stage.at);
    // Coarser slices show more.
    let long = |stage: &mut Frame| stage.rail.span().1.minus(stage.rail.span().0);
    let fine = long(&mut stage);
    type_keys(&mut stage, "{");
    assert_eq!(long(&mut stage).0, fine.0 * 2);
}

#[test]
fn the_rail_says_where_the_kept_part_begins_and_the_playhead_stays_in_it() {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.set_keep(velocitas_lab::Keep::Time(velocitas_lab::LEAST_KEPT));
    run.advance(LabTime::from_secs(140.0));
    let mut stage = Frame::new(run, Palette::new(Colours::True, false));
    stage.resized(Size::new(160, 47));
    press(&mut stage, KeyCode::Home);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("kept from 1:20") && shown.contains("1:20.00"), "{shown}");
    type_keys(&mut stage, "<");
    assert_eq!(stage.at, LabTime::from_secs(80.0), "before that there is nothing to look at");
    let fresh = text(&mut after(5.0), 160, 47);
    assert!(!fresh.contains("kept from"), "{fresh}");
}
