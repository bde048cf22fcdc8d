//! Keys at the helm and everywhere, whatever they are.

use super::*;

#[test]
fn the_helm_drives_with_held_keys_where_releases_are_told() {
    let mut stage = after(1.0);
    stage.helm.driving.releases = true;
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
    stage.helm.driving.releases = true;
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
            let shown = text(&mut stage, width, height);
            assert!(shown.starts_with(" \u{25c9} ") || shown.contains(&stage.run().course().name), "{shown}");
        }
        let run = stage.run();
        assert!(run.record().kept_from <= stage.at && stage.at <= run.now(), "after {i} keys: {}", stage.at);
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
