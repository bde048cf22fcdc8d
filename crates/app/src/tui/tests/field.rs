//! Field: from three sides, side by side, names, the first seconds.

use super::*;

#[test]
fn the_field_is_seen_from_three_sides_and_a_hop_is_seen_as_one() {
    // Plover hops on its way at about ten seconds.
    let mut stage = after(16.0);
    let actor = stage.body(FIRST).expect("it is there");
    let track = stage.run.record().authority(actor);
    let highest =
        track.between(LabTime::ZERO, stage.run.now()).max_by(|a, b| track.pos(*a).z.total_cmp(&track.pos(*b).z));
    let top = highest.and_then(|i| Some((track.head(i)?.at, track.pos(i).z))).expect("it went somewhere");
    assert!(top.1 > 0.5, "it hopped {} m high", top.1);
    stage.look(top.0);
    type_keys(&mut stage, "d");
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("from the south, solids within 8 m \u{b7} 1 cell 0.125 m \u{d7} 0.25 m"), "{shown}");
    let row = |stage: &mut Frame, glyph: char| {
        lines(&drawn(stage, 160, 47))[3..34].iter().position(|line| line.chars().take(112).any(|c| c == glyph))
    };
    // The floor lies beneath the feet: as many rows as the hop is high.
    let in_the_air =
        row(&mut stage, '\u{25c6}').unwrap_or_else(|| panic!("the server has it: {}", text(&mut stage, 160, 47)));
    stage.look(top.0.minus(LabTime::from_secs(0.8)));
    let on_the_ground = row(&mut stage, '\u{25c6}').expect("the server has it");
    assert_eq!(on_the_ground - in_the_air, (top.1 / 0.25).round() as usize, "{} m", top.1);
    type_keys(&mut stage, "d");
    assert!(text(&mut stage, 160, 47).contains("from the east"));
    type_keys(&mut stage, "d");
    assert!(text(&mut stage, 160, 47).contains("from above"));
}

#[test]
fn screens_of_one_moment_stand_side_by_side_and_differ_only_in_what_is_drawn() {
    let mut stage = after(9.0);
    type_keys(&mut stage, " ss");
    let shown = text(&mut stage, 160, 47);
    for name in ["plover", "heron", "dunlin"] {
        assert!(shown.contains(&format!("on {name}'s screen")), "{name} in {shown}");
    }
    // Where there is room for fewer, fewer are shown.
    let shown = text(&mut stage, 110, 36);
    assert!(shown.contains("on heron's screen") && !shown.contains("on dunlin's screen"), "{shown}");
    type_keys(&mut stage, "s");
    assert!(!text(&mut stage, 160, 47).contains("on heron's screen"));
}

#[test]
fn no_name_lies_under_the_loupe_or_is_cut() {
    for tenth in 20..60u32 {
        let mut stage = after(f64::from(tenth) / 4.0);
        for (width, height) in [(160, 47), (120, 36)] {
            let buffer = drawn(&mut stage, width, height);
            let rows = lines(&buffer);
            for name in ["plover", "heron", "dunlin", "curlew", "magpie", "teal"] {
                // Every beginning of a name in the field goes on to its end.
                let begins = &name[..3];
                for row in &rows[3..usize::from(height) - 15] {
                    let field: String = row.chars().take(usize::from(width) - 48).collect();
                    assert_eq!(field.matches(begins).count(), field.matches(name).count(), "{name} is cut: {field}");
                }
            }
        }
    }
}

#[test]
fn the_first_seconds_say_what_to_press_and_what_is_missing_says_why() {
    let mut stage = after(0.5);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("plover goes by its script") && shown.contains("? lists every key"), "{shown}");
    assert!(shown.contains("no press from rest in 10 s"), "{shown}");
    let mut stage = after(6.0);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("plover was corrected") && shown.contains("p goes to that moment, y asks why"), "{shown}");
    // At the live edge n offers p; with prediction off no lag is told.
    type_keys(&mut stage, " n");
    assert!(
        text(&mut stage, 160, 47).contains("this is the present") && !text(&mut stage, 160, 47).contains("y asks why")
    );
    let off = velocitas_record::Command::Set {
        member: FIRST,
        knob: velocitas_record::Knob::Prediction,
        value: velocitas_record::KnobValue::Switch(false),
    };
    stage.run.command(off);
    let later = stage.run.now().plus(LabTime::from_secs(2.0));
    stage.advance_to(later);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("its last own tick is ") && !shown.contains("lag, not error"), "{shown}");
}

#[test]
fn the_loupe_follows_the_drawn_body_where_that_is_asked_for() {
    let mut stage = after(4.0);
    // On another's screen it is drawn a view delay behind.
    press(&mut stage, KeyCode::Tab);
    assert!(text(&mut stage, 160, 47).contains("loupe · heron · 1 dot 2 cm"));
    type_keys(&mut stage, "L");
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("loupe · heron drawn · 1 dot 2 cm"), "{shown}");
    let inset: Vec<&str> = shown.lines().skip_while(|line| !line.contains("drawn")).take(13).collect();
    assert!(inset.iter().any(|line| line.contains('○')), "{shown}");
    let small = text(&mut stage, 80, 24);
    assert!(small.contains(" heron drawn · 1 dot 2 cm"), "{small}");
    type_keys(&mut stage, "L");
    assert!(text(&mut stage, 160, 47).contains("loupe · heron · 1 dot 2 cm"));
}

#[test]
fn a_smooth_echo_that_is_elsewhere_has_a_glyph_of_its_own() {
    let path = format!("{}/../../courses/links/phone.course.toml", env!("CARGO_MANIFEST_DIR"));
    let text_of = std::fs::read_to_string(&path).expect("it ships");
    let smooth = "[defaults]\nmissing = \"wait\"\nwait = 16\necho = \"smooth\"\n\n[world]";
    let course = Course::parse(&path, &text_of.replacen("[world]", smooth, 1), &[]).unwrap_or_else(|e| panic!("{e}"));
    let mut stage = Frame::new(Run::new(course).expect("it fits"), Palette::new(Colours::True, false));
    stage.advance_to(LabTime::from_secs(1.0));
    assert!(!text(&mut stage, 160, 47).contains('◈'));
    let mut seen = 0;
    for tenth in 20..200 {
        stage.advance_to(LabTime::from_secs(f64::from(tenth) / 10.0));
        let now = stage.run.now();
        stage.look(now);
        for _ in 0..3 {
            press(&mut stage, KeyCode::Tab);
            if stage.echoes().smooth.is_some() && seen < 3 {
                let shown = text(&mut stage, 160, 47);
                seen += 1;
                assert!(shown.contains('◈'), "{shown}");
            }
        }
    }
    assert!(seen > 0, "it never came to that");
}

#[test]
fn the_loupe_and_the_zoom_change_what_a_cell_means_and_say_so() {
    let mut stage = after(4.0);
    assert!(text(&mut stage, 160, 47).contains("1 dot 2 cm"));
    type_keys(&mut stage, "l");
    assert!(text(&mut stage, 160, 47).contains("1 dot 5 cm"));
    type_keys(&mut stage, "l");
    assert!(!text(&mut stage, 160, 47).contains("loupe"));
    assert!(text(&mut stage, 160, 47).contains("1 cell 0.5 m"));
    type_keys(&mut stage, "]");
    assert!(text(&mut stage, 160, 47).contains("1 cell 0.25 m"));
    type_keys(&mut stage, "[[[");
    assert!(text(&mut stage, 160, 47).contains("1 cell 2 m"));
}
