//! Turning knobs, and making things happen to a member.

use super::*;
use velocitas_record::Knob;

/// Opens the groups down to a knob, and chooses it.
fn choose(stage: &mut Frame, knob: Knob) {
    let group = knob.spec().group;
    for _ in 0..100 {
        let here = stage.selected.knobs.knob();
        if here == knob {
            return;
        }
        let is_there = here.spec().group == group;
        if !is_there || !stage.selected.knobs.open() {
            press(stage, KeyCode::Down);
        }
    }
    panic!("`{}` is not in the list", knob.spec().name);
}

#[test]
fn knobs_turn_for_one_machine_or_for_all() {
    let mut stage = after(1.0);
    let latency = |stage: &mut Frame, member: u16| stage.run().lab().knobs(MemberId::new(member)).up.latency_ms;
    press(&mut stage, KeyCode::Right);
    assert_eq!((latency(&mut stage, 0), latency(&mut stage, 1)), (50.0, 22.0));
    stage.key(&KeyEvent::new(KeyCode::Left, KeyModifiers::SHIFT));
    assert_eq!((latency(&mut stage, 0), latency(&mut stage, 1)), (40.0, 40.0));
    choose(&mut stage, Knob::Interpolation);
    press(&mut stage, KeyCode::Right);
    assert!(!stage.run().lab().knobs(FIRST).settings.remotes.interpolate);
}

#[test]
fn groups_are_opened_and_folded_and_nothing_of_a_folded_one_is_turned() {
    let mut stage = after(1.0);
    let before = *stage.run().lab().knobs(FIRST);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("\u{25be} link") && shown.contains("latency, one way"), "{shown}");
    // Folded by its key, the others come into view; keys that turn, type or ask open it first.
    for key in ["", "t", "P"] {
        type_keys(&mut stage, "e");
        let folded = text(&mut stage, 160, 47);
        assert!(folded.contains("\u{25b8} link") && !folded.contains("latency, one way"), "{folded}");
        assert!(folded.contains("\u{25b8} self") && folded.contains("what the way does"), "{folded}");
        match key {
            "" => drop(press(&mut stage, KeyCode::Right)),
            key => type_keys(&mut stage, key),
        }
        let open = text(&mut stage, 160, 47);
        assert!(open.contains("\u{25be} link") && open.contains("latency, one way"), "{key}: {open}");
    }
    assert_eq!(*stage.run().lab().knobs(FIRST), before);
    // What is turned in it is counted once it is folded.
    choose(&mut stage, Knob::SendEvery);
    press(&mut stage, KeyCode::Right);
    type_keys(&mut stage, "e");
    assert!(text(&mut stage, 160, 47).contains("1 of 7 not at default"), "{}", text(&mut stage, 160, 47));
}

#[test]
fn a_choice_is_turned_typed_and_explained_like_any_knob() {
    let mut stage = after(1.0);
    choose(&mut stage, Knob::Missing);
    let panel = |stage: &mut Frame| text(stage, 160, 47);
    let shown = panel(&mut stage);
    assert!(shown.contains("missing inputs") && shown.contains("hold: the last keys stay down"), "{shown}");
    press(&mut stage, KeyCode::Left);
    let missing = |stage: &mut Frame| stage.run().lab().knobs(FIRST).served.missing;
    assert_eq!(missing(&mut stage), velocitas_core::Missing::Hold, "the first has none before it");
    for (wanted, says) in [("fade", "fade: as hold, and sticks"), ("rest", "rest: all keys come up at once")] {
        press(&mut stage, KeyCode::Right);
        let shown = panel(&mut stage);
        assert!(shown.contains(&format!("\u{25c2}     {wanted} \u{25b8}")) && shown.contains(says), "{shown}");
    }
    press(&mut stage, KeyCode::Right);
    press(&mut stage, KeyCode::Right);
    assert_eq!(missing(&mut stage), velocitas_core::Missing::Wait, "the last has none behind it");
    assert!(line(&mut stage, "missing fade all").contains("missing inputs of"), "{}", panel(&mut stage));
    assert_eq!(missing(&mut stage), velocitas_core::Missing::Fade);
    type_keys(&mut stage, ":missing r");
    press(&mut stage, KeyCode::Tab);
    assert!(panel(&mut stage).contains("missing rest"), "{}", panel(&mut stage));
    press(&mut stage, KeyCode::Esc);
    let said = line(&mut stage, "missing rust");
    assert!(said.contains("expected hold, fade, rest or wait; found `rust`"), "{said}");
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
        let rows = &stage.run().record().of(stage.machine(stage.selected.entity)).happenings;
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
    assert!(shown.contains("latency, one way") && !shown.contains("draw between ticks"));
    press(&mut stage, KeyCode::Up);
    type_keys(&mut stage, "e");
    press(&mut stage, KeyCode::Up);
    press(&mut stage, KeyCode::Down);
    (0..4).for_each(|_| drop(press(&mut stage, KeyCode::Down)));
    let shown = text(&mut stage, 120, 36);
    assert!(shown.contains("draw between ticks") && !shown.contains("latency, one way"), "{shown}");
    // On the smallest screen the panel is a key away.
    assert!(!text(&mut stage, 80, 24).contains("knobs of plover"));
    type_keys(&mut stage, "k");
    assert!(text(&mut stage, 80, 24).contains("knobs of plover"));
}

#[test]
fn a_machine_forgets_the_nearest_solid_at_a_key_and_knows_it_again() {
    // The server alone knows of the crate that plover runs into.
    let mut stage = after(4.0);
    let unknown = |stage: &mut Frame| -> Vec<String> {
        let solids = stage.run.course().world.solids.iter();
        let unknown = solids.filter(|solid| !stage.run.lab().known(stage.selected.entity).knows(solid.solid.id));
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

#[test]
fn the_chosen_knob_is_in_sight_also_beside_a_branch() {
    let mut stage = after(2.0);
    type_keys(&mut stage, ",");
    press(&mut stage, KeyCode::Right);
    press(&mut stage, KeyCode::Enter);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("branch from") && shown.contains("\u{203a} latency, one way"), "{shown}");
}
