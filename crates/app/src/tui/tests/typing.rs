//! What keys do, typed.

use super::*;

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
        assert!(last.contains(said) && stage.lines.prompt.is_none(), "{text}: {last}");
    }
    let (plover, heron) = (member(&mut stage, "plover"), member(&mut stage, "heron"));
    assert_eq!(stage.run.lab().knobs(plover).up.latency_ms, 150.0);
    assert_eq!((stage.run.lab().knobs(heron).down.loss, stage.selected.entity), (0.05, plover));
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
    assert_eq!(stage.name(stage.selected.entity), "teal");
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
        assert!(stage.lines.prompt.is_none());
    }
    assert!(stage.run.commands().is_empty(), "nothing was done");
}

#[test]
fn lines_are_completed_and_remembered() {
    let mut stage = after(2.0);
    let typed = |stage: &mut Frame| stage.lines.prompt.as_ref().map(|prompt| prompt.text.clone()).unwrap_or_default();
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
    assert!(stage.lines.prompt.is_none());
    for (width, height) in [(160, 47), (120, 36), (80, 24)] {
        type_keys(&mut stage, ":");
        let last = lines(&drawn(&mut stage, width, height)).pop().unwrap_or_default();
        assert!(last.contains(":_   go  look  screen"), "{last}");
        press(&mut stage, KeyCode::Esc);
    }
}
