//! Guard: the ledger, lines that are moved, a verdict that is looked at.

use velocitas_core::Rule;
use velocitas_record::Command;

use super::*;

fn guarded() -> Frame {
    let mut stage = after(14.0);
    type_keys(&mut stage, "6");
    text(&mut stage, 160, 47);
    stage
}

/// What stands behind the name of a rule.
fn said(stage: &mut Frame, rule: &str) -> String {
    let shown = text(stage, 160, 47);
    let line = shown.lines().find(|line| line.chars().skip(2).collect::<String>().starts_with(&format!("{rule}   ")));
    line.unwrap_or_else(|| panic!("no {rule} in {shown}")).to_owned()
}

#[test]
fn enter_looks_at_the_chosen_verdict_and_once_there_resumes() {
    let mut stage = guarded();
    let ledger = ledger_of(&stage);
    assert!(ledger.len() > 4);
    press(&mut stage, KeyCode::Down);
    press(&mut stage, KeyCode::Enter);
    let second = ledger[ledger.len() - 2];
    assert_eq!(stage.at, second.at);
    assert_eq!(stage.machine(stage.selected.entity), second.machine, "and at whom it is on");
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("BACK") && shown.contains(&format!("magpie at {}", second.at)), "{shown}");
    press(&mut stage, KeyCode::Enter);
    assert!(stage.is_live() && stage.run.now() == second.at, "once there, Enter resumes");
}

/// All verdicts of a run.
fn ledger_of(stage: &Frame) -> Vec<velocitas_analysis::nearness::Accusation> {
    let mut nearness = velocitas_analysis::nearness::Nearness::default();
    assert!(nearness.follow(&stage.run, true));
    nearness.ledger().to_vec()
}

#[test]
fn a_line_that_is_moved_says_whom_it_would_accuse_and_who_would_slip_through() {
    let mut stage = guarded();
    let first = said(&mut stage, "reach");
    assert!(first.contains("honest 0 of ") && first.contains("beyond, nearest 9"), "{first}");
    (0..12).for_each(|_| drop(press(&mut stage, KeyCode::Left)));
    let tight = said(&mut stage, "reach");
    assert!(tight.contains("at 70.0 %: ") && tight.contains("claims of 1 honest member would be accused"), "{tight}");
    (0..45).for_each(|_| drop(press(&mut stage, KeyCode::Right)));
    let loose = said(&mut stage, "reach");
    assert!(
        loose.contains("at 182.5 %: 0 claims of 0 honest members") && loose.contains("would slip through"),
        "{loose}"
    );
    // The other rule has a line of its own.
    while !text(&mut stage, 160, 47).contains("\u{25b8}pace") {
        type_keys(&mut stage, "]");
    }
    press(&mut stage, KeyCode::Left);
    assert!(said(&mut stage, "pace").contains("at 97.5 %") && said(&mut stage, "reach").contains("at 182.5 %"));
    press(&mut stage, KeyCode::Esc);
    assert!(!said(&mut stage, "pace").contains("at 97.5 %") && said(&mut stage, "reach").contains("nearest"));
}

#[test]
fn where_nobody_says_where_it_is_there_is_nothing_to_measure() {
    let text_of = "format = 1\nname = \"alone\"\nseed = 1\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n[link.test]\n\
                   [[cast]]\nname = \"plover\"\nrole = \"bot\"\ngait = \"handcart.gait\"\nlink = \"test\"\nspawn = [0, 0]\n\
                   route = [{ at = [5, 5] }]\n";
    let course = Course::parse("alone.course.toml", text_of, &[]).unwrap_or_else(|e| panic!("{e}"));
    let mut stage = Frame::new(Run::new(course).expect("it fits"), Palette::new(Colours::True, false));
    stage.advance_to(LabTime::from_secs(2.0));
    type_keys(&mut stage, "6");
    let shown = text(&mut stage, 120, 36);
    assert!(shown.contains("nothing was measured yet") && shown.contains("nobody was accused"), "{shown}");
    assert!(stage.shown.view().drawing(&stage, Rect::new(0, 2, 73, 23)).is_err());
}

#[test]
fn the_line_is_made_the_limit_and_in_the_past_a_branch_is_offered() {
    let mut stage = guarded();
    (0..12).for_each(|_| drop(press(&mut stage, KeyCode::Left)));
    type_keys(&mut stage, "a");
    let (at, command) = *stage.run.commands().last().expect("it is a command");
    let Command::Allow { rule, times } = command else { panic!("{command:?}") };
    assert_eq!((at, rule), (stage.run.now(), Rule::Reach));
    assert!((times - 0.7).abs() < 1e-6, "{times}");
    assert!(said(&mut stage, "reach").contains("70.0 % allowed: honest "), "{}", said(&mut stage, "reach"));
    // It is so: who walks at the gait's own limit is accused from then on.
    let honest = |stage: &Frame| {
        let cast = &stage.run.record().cast;
        ledger_of(stage).into_iter().filter(|it| it.accuses() && !cast.is_rogue(it.machine)).collect::<Vec<_>>()
    };
    assert_eq!(honest(&stage), []);
    stage.advance_to(LabTime::from_secs(24.0));
    let accused = honest(&stage);
    assert!(!accused.is_empty() && accused.iter().all(|it| it.verdict.evidence.rule == Rule::Reach), "{accused:?}");
    assert!((accused[0].verdict.evidence.allowed - 0.7).abs() < 1e-6);
    // Where the line is not moved, what the gait says is allowed again.
    type_keys(&mut stage, "a");
    assert!(matches!(stage.run.commands().last(), Some((_, Command::Allow { times, .. })) if *times == 1.0));
    // Looking back nothing is changed by accident.
    stage.look(LabTime::from_secs(10.0));
    press(&mut stage, KeyCode::Right);
    let before = stage.run.commands().len();
    type_keys(&mut stage, "a");
    assert_eq!(stage.run.commands().len(), before);
    let shown = text(&mut stage, 160, 47);
    assert!(shown.contains("reach: 102.5 % allowed"), "it is offered: {shown}");
}
