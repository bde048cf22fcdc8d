mod branching;
mod field;
mod guard;
mod help;
mod ladder;
mod record;
mod scope;
mod screens;
mod taking_away;

use std::time::Duration;

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::buffer::Buffer;
use ratatui::layout::{Rect, Size};
use velocitas_lab::{Course, Run};
use velocitas_record::{Happening, LabTime, MemberId, Part};

use velocitas_report::drawing::Theme;

use super::action::Action;
use super::stage::Wish;
use super::{Colours, Frame, Palette, draw};

/// The first of the cast.
const FIRST: MemberId = MemberId::new(0);

fn stage() -> Frame {
    with_palette(Palette::new(Colours::True, false))
}

fn with_palette(palette: Palette) -> Frame {
    Frame::new(Run::new(Course::demo()).expect("it fits"), palette)
}

/// The demo after `seconds`.
fn after(seconds: f64) -> Frame {
    let mut stage = stage();
    stage.advance_to(LabTime::from_secs(seconds));
    stage
}

fn drawn(stage: &mut Frame, width: u16, height: u16) -> Buffer {
    let area = Rect::new(0, 0, width, height);
    let mut buffer = Buffer::empty(area);
    draw(stage, area, &mut buffer);
    buffer
}

fn lines(buffer: &Buffer) -> Vec<String> {
    let row = |y| (0..buffer.area.width).map(|x| buffer[(x, y)].symbol().to_owned()).collect::<String>();
    (0..buffer.area.height).map(row).collect()
}

fn text(stage: &mut Frame, width: u16, height: u16) -> String {
    lines(&drawn(stage, width, height)).join("\n")
}

fn press(stage: &mut Frame, code: KeyCode) -> Option<Wish> {
    stage.key(&KeyEvent::new(code, KeyModifiers::NONE))
}

fn type_keys(stage: &mut Frame, keys: &str) {
    for c in keys.chars() {
        press(stage, KeyCode::Char(c));
    }
}

/// Real time passes.
fn pass(stage: &mut Frame, millis: u64) {
    for _ in 0..millis / 20 {
        stage.wait_for(Duration::from_millis(20));
        while stage.advance_a_little() {}
    }
}

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
    assert!(tick(&mut stage) > newest && stage.is_live() && !stage.running);
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
fn knobs_turn_for_one_machine_or_for_all() {
    let mut stage = after(1.0);
    let latency = |stage: &mut Frame, member: u16| stage.run().lab().knobs(MemberId::new(member)).up.latency_ms;
    press(&mut stage, KeyCode::Right);
    assert_eq!((latency(&mut stage, 0), latency(&mut stage, 1)), (50.0, 22.0));
    stage.key(&KeyEvent::new(KeyCode::Left, KeyModifiers::SHIFT));
    assert_eq!((latency(&mut stage, 0), latency(&mut stage, 1)), (40.0, 40.0));
    for _ in 0..9 {
        press(&mut stage, KeyCode::Down);
    }
    press(&mut stage, KeyCode::Right);
    assert!(!stage.run().lab().knobs(FIRST).settings.interpolate);
}

#[test]
fn the_helm_drives_with_held_keys_where_releases_are_told() {
    let mut stage = after(1.0);
    stage.driving.releases = true;
    type_keys(&mut stage, "h");
    assert_eq!(stage.run().lab().helm(), Some(FIRST));
    pass(&mut stage, 400);
    let from = stage
        .moment()
        .echoes(stage.body(FIRST).expect("it is there"), stage.machine(FIRST))
        .predicted
        .expect("it plays")
        .pos;
    press(&mut stage, KeyCode::Char('w'));
    pass(&mut stage, 1000);
    let key = KeyEvent::new_with_kind(KeyCode::Char('w'), KeyModifiers::NONE, KeyEventKind::Release);
    stage.key(&key);
    pass(&mut stage, 400);
    let to = stage
        .moment()
        .echoes(stage.body(FIRST).expect("it is there"), stage.machine(FIRST))
        .predicted
        .expect("it plays")
        .pos;
    assert!((3.4..4.6).contains(&(to.y - from.y)), "{} m north in a second", to.y - from.y);
    pass(&mut stage, 500);
    let still = stage
        .moment()
        .echoes(stage.body(FIRST).expect("it is there"), stage.machine(FIRST))
        .predicted
        .expect("it plays")
        .pos;
    assert!(still.distance(to) < 1e-3, "and then it stands");
    assert!(text(&mut stage, 120, 36).contains("driving plover"));
    press(&mut stage, KeyCode::Esc);
    type_keys(&mut stage, "h");
    assert_eq!(stage.run().lab().helm(), None);
}

#[test]
fn losing_the_focus_lets_go_of_everything() {
    let mut stage = after(1.0);
    stage.driving.releases = true;
    type_keys(&mut stage, "hw");
    stage.release_all();
    pass(&mut stage, 1000);
    let speed = stage
        .moment()
        .echoes(stage.body(FIRST).expect("it is there"), stage.machine(FIRST))
        .predicted
        .and_then(|e| e.speed);
    assert_eq!(speed, Some(0.0));
}

#[test]
fn quitting_works_in_every_mode() {
    let mut stage = after(0.5);
    let quit = KeyEvent::new(KeyCode::Char('q'), KeyModifiers::CONTROL);
    type_keys(&mut stage, "h");
    assert_eq!(stage.key(&quit), Some(Wish::Leave));
    type_keys(&mut stage, "?");
    assert_eq!(stage.key(&quit), Some(Wish::Leave));
    let interrupt = KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL);
    assert_eq!(stage.key(&interrupt), Some(Wish::Leave));
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
fn no_key_at_any_moment_panics() {
    hammer(stage());
    hammer(comings());
}

/// Presses whatever there is, at any moment.
fn hammer(mut stage: Frame) {
    let codes: Vec<KeyCode> = (' '..='~')
        .map(KeyCode::Char)
        // Those write files.
        .filter(|c| ![KeyCode::Char('x'), KeyCode::Char('w')].contains(c))
        .chain([KeyCode::Esc, KeyCode::Enter, KeyCode::Tab, KeyCode::BackTab, KeyCode::Home, KeyCode::End])
        .chain([KeyCode::Up, KeyCode::Down, KeyCode::Left, KeyCode::Right, KeyCode::F(5), KeyCode::Null])
        .collect();
    let mut state = 12345u32;
    for i in 0..1500 {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        let modifiers = [KeyModifiers::NONE, KeyModifiers::SHIFT, KeyModifiers::CONTROL][(state >> 28) as usize % 3];
        stage.key(&KeyEvent::new(codes[(state >> 8) as usize % codes.len()], modifiers));
        if i % 3 == 0 {
            pass(&mut stage, 40);
        }
        if i % 10 == 0 {
            let (width, height) = [(160, 47), (80, 24), (120, 36)][i % 3];
            drawn(&mut stage, width, height);
        }
    }
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
fn a_value_is_typed_for_a_knob_and_what_is_none_stays_to_be_mended() {
    let mut stage = after(1.0);
    let latency = |stage: &mut Frame| stage.run().lab().knobs(FIRST).up.latency_ms;
    type_keys(&mut stage, "t0.2 s");
    assert!(text(&mut stage, 160, 47).contains("latency, one way   0.2 s_ ms"), "{}", text(&mut stage, 160, 47));
    press(&mut stage, KeyCode::Enter);
    assert_eq!(latency(&mut stage), 200.0);
    type_keys(&mut stage, "tq1");
    press(&mut stage, KeyCode::Enter);
    assert!(text(&mut stage, 160, 47).contains("expected a time such as"), "{}", text(&mut stage, 160, 47));
    press(&mut stage, KeyCode::Esc);
    assert_eq!(latency(&mut stage), 200.0);
    // Looking back it is offered.
    type_keys(&mut stage, ",t150");
    press(&mut stage, KeyCode::Enter);
    assert!(
        text(&mut stage, 160, 47).contains("with plover: latency, one way 150 ms"),
        "{}",
        text(&mut stage, 160, 47)
    );
    assert_eq!(latency(&mut stage), 200.0);
}

#[test]
fn things_happen_to_the_selected_member_at_a_key_also_to_who_says_where_it_is() {
    let mut stage = after(2.0);
    let count = |stage: &mut Frame, wanted: fn(&Happening) -> bool| {
        let rows = &stage.run().record().of(stage.machine(stage.entity)).happenings;
        rows.span(LabTime::from_secs(2.0), stage.run().now()).filter(|row| wanted(&row.what)).count()
    };
    type_keys(&mut stage, "ujf");
    let found = [
        count(&mut stage, |what| matches!(what, Happening::Pushed(..))),
        count(&mut stage, |what| matches!(what, Happening::Teleported(..))),
        count(&mut stage, |what| matches!(what, Happening::Frozen(_))),
    ];
    assert_eq!(found, [1, 1, 1]);
    // Curlew says where it is.
    for _ in 0..3 {
        press(&mut stage, KeyCode::Tab);
    }
    type_keys(&mut stage, "uj");
    assert_eq!(count(&mut stage, |what| matches!(what, Happening::Pushed(..) | Happening::Teleported(..))), 2);
}

#[test]
fn knobs_that_do_not_fit_are_scrolled_to() {
    let mut stage = after(2.0);
    let shown = text(&mut stage, 120, 36);
    assert!(shown.contains("latency, one way") && !shown.contains("queue  "));
    press(&mut stage, KeyCode::Up);
    let shown = text(&mut stage, 120, 36);
    assert!(shown.contains("queue  ") && !shown.contains("latency, one way"));
    // On the smallest screen the panel is a key away.
    assert!(!text(&mut stage, 80, 24).contains("knobs of plover"));
    type_keys(&mut stage, "k");
    assert!(text(&mut stage, 80, 24).contains("knobs of plover"));
}

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
fn the_ferry_is_drawn_in_its_size_with_its_heading_and_its_look() {
    let mut stage = after(12.0);
    press(&mut stage, KeyCode::BackTab);
    let shown = text(&mut stage, 160, 47);
    let around = shown.chars().filter(|c| ('\u{2801}'..='\u{28ff}').contains(c)).count();
    assert!(around > 12, "an outline of dots:\n{shown}");
    assert!(shown.contains("lawful: under_way"), "{shown}");
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

fn comings() -> Frame {
    let course = Course::parse("comings", velocitas_lab::COMINGS, &[]).unwrap_or_else(|e| panic!("{e}"));
    Frame::new(Run::new(course).expect("it fits"), Palette::new(Colours::True, false))
}

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

/// A stage on a course in a folder, so that it can be saved again.
fn on_file(text: &str) -> (tempfile::TempDir, std::path::PathBuf, Frame) {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("quay.course.toml");
    std::fs::write(&path, text).expect("written");
    let run = Run::new(crate::files::course(Some(&path), &[]).unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
    let mut stage = Frame::new(run, Palette::new(Colours::True, false));
    stage.resized(Size::new(160, 47));
    stage.read_from(Some(&path), &[]);
    stage.advance_to(LabTime::from_secs(4.0));
    (folder, path, stage)
}

/// Looks at files until something was said, as the frames do.
#[track_caller]
fn until_said(stage: &mut Frame, what: &str) {
    for _ in 0..200 {
        stage.look_at_files(Duration::from_millis(200));
        if stage.notice().is_some_and(|said| said.contains(what)) {
            return;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    panic!("never said `{what}`, but {:?}", stage.notice());
}

const QUAY: &str = "format = 1\nname = \"quay\"\ntick_rate = \"60 Hz\"\nworld = { min = [-30, -20], max = [30, 20] }\n\
    [link.home]\nlatency = \"40 ms\"\n\
    [[cast]]\nname = \"teal\"\nrole = \"helm\"\nlink = \"home\"\nspawn = [0, 0]\nroute = [{ at = [9, 0] }, { at = [0, 0] }]\n\
    [[budget]]\nbytes_up = \"1 kB/s\"\n";

#[test]
fn a_course_that_is_saved_is_taken_over_and_what_is_not_is_told_until_it_is_begun_again() {
    let (_folder, path, mut stage) = on_file(QUAY);
    std::fs::write(&path, QUAY.replace("40 ms", "90 ms")).expect("written");
    until_said(&mut stage, "quay.course.toml: took over link, from now on");
    assert_eq!(stage.run.lab().knobs(MemberId::new(0)).up.latency_ms, 90.0);

    // A mistake changes nothing, and stays in sight.
    std::fs::write(&path, QUAY.replace("40 ms", "40 m")).expect("written");
    until_said(&mut stage, "the unit must be ms, s, min");
    stage.fade(Duration::from_secs(9));
    for (width, height) in [(160, 47), (120, 36), (80, 24)] {
        let shown = text(&mut stage, width, height);
        assert!(shown.contains("quay.course.toml:6:11"), "{shown}");
    }
    assert_eq!(stage.run.lab().knobs(MemberId::new(0)).up.latency_ms, 90.0);

    // What needs a new beginning is named, and then it is begun.
    let next = QUAY.replace("spawn = [0, 0]", "spawn = [0, 9]").replace("40 ms", "70 ms");
    std::fs::write(&path, &next).expect("written");
    until_said(&mut stage, "took over link; needs a new beginning (C-r): teal: spawn");
    stage.fade(Duration::from_secs(9));
    assert!(text(&mut stage, 160, 47).contains("C-r begins again with what is saved"));
    stage.key(&KeyEvent::new(KeyCode::Char('r'), KeyModifiers::CONTROL));
    assert!(stage.run.now() == LabTime::ZERO && stage.running && stage.course_trouble().is_none());
    stage.advance_to(LabTime::from_secs(1.0));
    let at = stage.run.lab().server_state(MemberId::new(0)).map(|state| state.vec3(0).y);
    assert!(at.is_some_and(|y| y > 8.0), "{at:?}");

    // Looking back, it waits for the present.
    type_keys(&mut stage, ",");
    std::fs::write(&path, next.replace("70 ms", "10 ms")).expect("written");
    for _ in 0..40 {
        stage.look_at_files(Duration::from_millis(200));
        std::thread::sleep(Duration::from_millis(5));
    }
    assert_eq!(stage.run.lab().knobs(MemberId::new(0)).up.latency_ms, 70.0);
    press(&mut stage, KeyCode::End);
    until_said(&mut stage, "took over link");
    assert_eq!(stage.run.lab().knobs(MemberId::new(0)).up.latency_ms, 10.0);
}

#[test]
fn budgets_are_held_against_the_run_so_far() {
    let (_folder, path, mut stage) = on_file(QUAY);
    type_keys(&mut stage, "b");
    for (width, height) in [(160, 47), (120, 36), (80, 24)] {
        let shown = text(&mut stage, width, height);
        let row = shown.lines().find(|line| line.contains("bytes up")).unwrap_or_else(|| panic!("{shown}"));
        assert!(row.contains("1.55 kB/s") && row.contains("at most 1 kB/s"), "{row}");
        assert!(shown.contains("verdicts on the honest"), "{shown}");
    }
    // Another bound, saved, holds at once.
    std::fs::write(&path, QUAY.replace("1 kB/s", "3 kB/s")).expect("written");
    until_said(&mut stage, "took over budget");
    type_keys(&mut stage, "b");
    let shown = text(&mut stage, 160, 47);
    assert!(
        shown.contains("at most 3 kB/s") && shown.contains("what counts is 0:30.00, the time that it is checked over"),
        "{shown}"
    );
    stage.advance_to(LabTime::from_secs(9.0));
    assert!(text(&mut stage, 160, 47).contains("the run up to 0:09.00"));
    press(&mut stage, KeyCode::Esc);
    assert!(!text(&mut stage, 160, 47).contains("at most 3 kB/s"));
}

#[test]
fn a_machine_forgets_the_nearest_solid_at_a_key_and_knows_it_again() {
    // The server alone knows of the crate that plover runs into.
    let mut stage = after(4.0);
    let unknown = |stage: &mut Frame| -> Vec<String> {
        let solids = stage.run.course().world.solids.iter();
        let unknown = solids.filter(|solid| !stage.run.lab().known(stage.entity).knows(solid.solid.id));
        unknown.map(|solid| solid.name.clone()).collect()
    };
    assert_eq!(unknown(&mut stage), ["crate 7"]);
    type_keys(&mut stage, "o");
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("plover knows of `crate 7`") && unknown(&mut stage).is_empty(), "{shown}");
    type_keys(&mut stage, "o");
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("plover has forgotten `crate 7`") && shown.contains("crate 7, known"), "{shown}");
    assert_eq!(unknown(&mut stage), ["crate 7"]);
    // Looking back it is offered, as it was then.
    let at = stage.run.now().minus(LabTime::from_secs(0.1));
    stage.look(at);
    type_keys(&mut stage, "o");
    assert!(text(&mut stage, 160, 47).contains("with crate 7 known to plover"), "{}", text(&mut stage, 160, 47));
    assert_eq!(unknown(&mut stage), ["crate 7"]);
}

/// Types a line behind `:` and enters it; returns what the last row says then.
fn line(stage: &mut Frame, text: &str) -> String {
    type_keys(stage, ":");
    type_keys(stage, text);
    press(stage, KeyCode::Enter);
    lines(&drawn(stage, 160, 47)).pop().unwrap_or_default()
}

#[test]
fn what_keys_do_can_be_typed() {
    let mut stage = after(4.0);
    let member = |stage: &mut Frame, name: &str| stage.run.course().member(name).expect("a member");
    for (text, said) in [
        ("latency 150 ms", "latency, one way of plover set to 150 ms"),
        ("loss 5 % heron", "loss, one way of heron set to 5 %"),
        ("prediction off all", "prediction of all set to off"),
        ("push heron east 5 m/s north -2", "heron is pushed, and only the server knows"),
        ("push curlew east 5 m/s", "curlew is pushed, and is told so"),
        ("freeze dunlin 2 s", "dunlin stands still"),
        ("teleport plover -20 -8", "plover is put elsewhere by the server"),
        ("know crate 7", "plover knows of `crate 7`"),
        ("forget crate stack heron", "heron has forgotten `crate stack`"),
        ("tune walk 5 m/s", "walk is 5 m/s at all machines"),
        ("tune walk 18 km/h heron", "walk is 5 m/s at heron"),
        ("crash teal", "teal crashed"),
        ("return teal", "teal comes"),
    ] {
        let last = line(&mut stage, text);
        assert!(last.contains(said) && stage.prompt.is_none(), "{text}: {last}");
    }
    let (plover, heron) = (member(&mut stage, "plover"), member(&mut stage, "heron"));
    assert_eq!(stage.run.lab().knobs(plover).up.latency_ms, 150.0);
    assert_eq!((stage.run.lab().knobs(heron).down.loss, stage.entity), (0.05, plover));
    assert!(stage.run.course().members().all(|m| !stage.run.lab().knobs(m).settings.predict));
    stage.advance_to(LabTime::from_secs(6.0));
    let at = stage.run.lab().server_state(plover).map(|state| state.vec3(0)).expect("it is there");
    assert!((at.x + 20.0).abs() < 8.0 && (at.y + 8.0).abs() < 8.0, "{at:?}");

    // Moments: looking back nothing is done to the world.
    line(&mut stage, "go 0:02.5");
    assert_eq!(stage.at, LabTime::from_secs(2.5));
    assert!(
        line(&mut stage, "latency 10 ms").contains("begin a branch from 0:02.50 with plover: latency, one way 10 ms")
    );
    press(&mut stage, KeyCode::Esc);
    line(&mut stage, "go tick 200");
    assert!(text(&mut stage, 160, 47).contains("plover 200 "), "{}", text(&mut stage, 160, 47));
    line(&mut stage, "look teal");
    assert_eq!(stage.name(stage.entity), "teal");
    line(&mut stage, "go live");
    assert!(stage.is_live());
    type_keys(&mut stage, ":quit");
    assert_eq!(press(&mut stage, KeyCode::Enter), Some(Wish::Leave));
}

#[test]
fn what_cannot_be_done_says_why_and_stays_to_be_mended() {
    let mut stage = after(2.0);
    for (text, said) in [
        ("latancy 150 ms", "there is no `latancy`: did you mean `latency`?"),
        ("latency fast", "expected a time"),
        ("latency 150 ms nobody", "expected a time"),
        ("push east", "expected where to and how fast"),
        ("push up 5 m", "expected a speed such as 5 m/s"),
        ("push plovr east 5", "expected east, north or up; found `plovr`"),
        ("teleport 1", "expected two or three numbers of metres"),
        ("teleport -27 4", "there is no room there"),
        ("freeze", "expected a time"),
        ("go 9:00", "expected a moment from 0:00.00 to 0:02.00"),
        ("go tick 99999", "plover made no tick 99999 that is kept"),
        ("look plovr", "did you mean `plover`?"),
        ("tune wolk 5 m/s", "did you mean `walk`?"),
        ("tune walk 99 m/s", "expected walk from 0.5 to 20 m/s"),
        ("forget crate 9", "there is no solid `crate 9`"),
    ] {
        let last = line(&mut stage, text);
        assert!(last.contains(said) && last.contains(text), "{text}: {last}");
        // Mended: the line is still there.
        press(&mut stage, KeyCode::Backspace);
        assert!(!lines(&drawn(&mut stage, 160, 47)).pop().is_some_and(|last| last.contains(said)), "{text}");
        press(&mut stage, KeyCode::Esc);
        assert!(stage.prompt.is_none());
    }
    assert!(stage.run.commands().is_empty(), "nothing was done");
}

#[test]
fn lines_are_completed_and_remembered() {
    let mut stage = after(2.0);
    let typed = |stage: &mut Frame| stage.prompt.as_ref().map(|prompt| prompt.text.clone()).unwrap_or_default();
    type_keys(&mut stage, ":late");
    press(&mut stage, KeyCode::Tab);
    assert_eq!(typed(&mut stage), "latency ");
    assert!(text(&mut stage, 160, 47).contains("latency VALUE [NAME | all]"));
    type_keys(&mut stage, "70 ms");
    press(&mut stage, KeyCode::Enter);
    type_keys(&mut stage, ":forget crate 1");
    press(&mut stage, KeyCode::Tab);
    assert_eq!(typed(&mut stage), "forget crate 1 ");
    press(&mut stage, KeyCode::Enter);
    type_keys(&mut stage, ":bu");
    assert!(text(&mut stage, 160, 47).contains(":bu_   budget  "));
    press(&mut stage, KeyCode::Up);
    assert_eq!(typed(&mut stage), "forget crate 1");
    press(&mut stage, KeyCode::Up);
    press(&mut stage, KeyCode::Up);
    assert_eq!(typed(&mut stage), "latency 70 ms");
    press(&mut stage, KeyCode::Down);
    assert_eq!(typed(&mut stage), "forget crate 1");
    for _ in 0..2 {
        press(&mut stage, KeyCode::Down);
    }
    assert_eq!(typed(&mut stage), "");
    press(&mut stage, KeyCode::Backspace);
    assert!(stage.prompt.is_none());
    for (width, height) in [(160, 47), (120, 36), (80, 24)] {
        type_keys(&mut stage, ":");
        let last = lines(&drawn(&mut stage, width, height)).pop().unwrap_or_default();
        assert!(last.contains(":_   go  look  screen"), "{last}");
        press(&mut stage, KeyCode::Esc);
    }
}

#[test]
fn at_the_helm_arrows_that_turn_no_eyes_turn_nothing_else() {
    // The walker has no eyes.
    let text = "format = 1\nname = \"yard\"\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n\
                [[cast]]\nname = \"teal\"\nrole = \"helm\"\nspawn = [0, 0]\n";
    let course = Course::parse("yard", text, &[]).unwrap_or_else(|e| panic!("{e}"));
    let palette = Palette::new(Colours::True, false);
    let mut stage = Frame::new(Run::new(course).expect("it fits"), palette);
    stage.advance_to(LabTime::from_secs(1.0));
    let before = *stage.run().lab().knobs(FIRST);
    type_keys(&mut stage, "h");
    assert!(stage.drives());
    for code in [KeyCode::Left, KeyCode::Right, KeyCode::Up, KeyCode::Down, KeyCode::Right] {
        press(&mut stage, code);
        stage.key(&KeyEvent::new(code, KeyModifiers::SHIFT));
    }
    assert_eq!(*stage.run().lab().knobs(FIRST), before);
    press(&mut stage, KeyCode::Esc);
    press(&mut stage, KeyCode::Right);
    assert_ne!(*stage.run().lab().knobs(FIRST), before, "and do again when the helm is left");
}

#[test]
fn what_is_pasted_is_no_keys_and_goes_into_a_line_that_is_open() {
    let mut stage = after(1.0);
    let commands = stage.run().commands().len();
    stage.paste("xxhqq\nq");
    assert!(stage.notice().is_some_and(|said| said.contains("text and no keys")), "{:?}", stage.notice());
    assert_eq!(stage.run().commands().len(), commands);
    assert!(!stage.drives());
    type_keys(&mut stage, ":");
    stage.paste("set latency 80 ms\u{7}\nq");
    assert!(text(&mut stage, 120, 36).contains(":set latency 80 ms_"), "{}", text(&mut stage, 120, 36));
}
