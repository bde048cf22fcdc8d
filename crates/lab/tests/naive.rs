//! Checks that are often written first, each seen failing by a course of its own, on which the guard's own hold.

use velocitas_core::Fact;
use velocitas_lab::{Course, Fails, NAIVE, Run, Sources};
use velocitas_record::{Happening, LabTime, Role};

/// The course of a check, with it or with the guard's own.
fn course(name: &str, checks: &str) -> Course {
    let file = format!("{}/../../courses/guard/{}.course.toml", env!("CARGO_MANIFEST_DIR"), name.replace(' ', "-"));
    let text = std::fs::read_to_string(&file).unwrap_or_else(|e| panic!("{file}: {e}"));
    let with = format!("checks = \"{name}\"");
    assert!(text.contains(&with), "{file} has it");
    let text = text.replace(&with, &format!("checks = \"{checks}\""));
    Course::parse(&file, &text, &[]).unwrap_or_else(|e| panic!("{e}"))
}

/// How many verdicts there are in half a minute on the honest, and on the rogue.
fn verdicts(course: Course) -> (usize, usize) {
    let mut run = Run::new(course).expect("it fits");
    run.advance(LabTime::from_secs(30.0));
    let of = |role: Role| -> usize {
        let course = run.course();
        let those = course.members().filter(|member| course[*member].role == role);
        those
            .map(|member| {
                let rows = &run.record().of(course.machine(member)).happenings;
                rows.iter().filter(|row| matches!(row.what, Happening::Fact(Fact::Verdict(_)))).count()
            })
            .sum()
    };
    (of(Role::Bot), of(Role::Rogue))
}

#[test]
fn hands_are_noted_by_what_they_did_and_nobody_is_accused() {
    let file = format!("{}/../../courses/guard/hands.course.toml", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&file).unwrap_or_else(|e| panic!("{file}: {e}"));
    let gait = std::fs::read_to_string(file.replace("hands.course.toml", "scout.gait")).expect("it lies beside it");
    let read = |_: &str| Ok(gait.clone());
    let course = Course::parse_with(&file, &text, Sources { own: &[], read: &read });
    let mut run = Run::new(course.unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
    run.advance(LabTime::from_secs(30.0));
    let noted = |name: &str| {
        let course = run.course();
        let machine = course.machine(course.member(name).expect("in the cast"));
        let rows = run.record().of(machine).happenings.iter();
        let found = rows.filter_map(|row| match row.what {
            Happening::Fact(Fact::Note(v)) => Some((v.evidence.rule.name(), false)),
            Happening::Fact(Fact::Verdict(v)) => Some((v.evidence.rule.name(), true)),
            _ => None,
        });
        found.collect::<std::collections::BTreeSet<_>>().into_iter().collect::<Vec<_>>()
    };
    assert_eq!(
        (noted("curlew"), noted("dunlin"), noted("magpie")),
        (vec![], vec![("hands", false)], vec![("turn", false)])
    );
}

#[test]
fn each_naive_check_fails_on_its_course_and_the_guard_holds() {
    for row in &NAIVE {
        let (honest, rogue) = verdicts(course(row.name, row.name));
        match row.fails {
            Fails::AccusesTheHonest => assert!(honest > 0, "{}: it accuses the honest", row.name),
            Fails::MissesTheCheat => assert_eq!((honest, rogue), (0, 0), "{}: it sees nothing", row.name),
        }
        let (honest, rogue) = verdicts(course(row.name, "full"));
        assert_eq!(honest, 0, "{}: the guard accuses nobody honest", row.name);
        assert_eq!(rogue > 0, row.fails == Fails::MissesTheCheat, "{}: the rogue, where there is one", row.name);
    }
}
