//! A check as JUnit XML: a suite for each course, a case for each limit and seed.

use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};
use velocitas_analysis::budget::{Held, Outcome};

use super::{Checked, CheckedCourse, CheckedRun, clock};

pub(super) fn junit(checked: &Checked) -> Result<String, String> {
    let mut report = Report::new("velocitas check");
    report.add_test_suites(checked.courses.iter().map(suite));
    if let Some(against) = &checked.against {
        let mut suite = TestSuite::new(format!("against {}", against.file));
        for compared in &against.compared {
            let said = format!(
                "was {}, is {}: the mean of {} seeds, most with seed {}",
                compared.measure.shown(compared.was),
                compared.measure.shown(compared.is),
                compared.seeds,
                compared.seed
            );
            let status =
                if compared.is_worse(against.share) { failure("worse", &said) } else { TestCaseStatus::success() };
            let name = format!("{} {}", compared.member, compared.measure.key);
            suite.add_test_case(case(name, &compared.course, status));
        }
        report.add_test_suite(suite);
    }
    report.to_string().map_err(|why| why.to_string())
}

fn failure(kind: &str, said: &str) -> TestCaseStatus {
    let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
    status.set_type(kind).set_message(said);
    status
}

fn case(name: String, class: &str, status: TestCaseStatus) -> TestCase {
    let mut case = TestCase::new(name, status);
    case.set_classname(class);
    case
}

fn suite(course: &CheckedCourse) -> TestSuite {
    let mut suite = TestSuite::new(course.file.as_str());
    let lines = course.lines();
    for run in &course.runs {
        let status = match run.step_faults {
            (0, _) => TestCaseStatus::success(),
            (count, first) => {
                let mut status = failure("step fault", &format!("{count} steps came out infinite or not a number"));
                status.set_description(course.opens(run, first, None));
                status
            }
        };
        suite.add_test_case(case(format!("steps seed {}", run.seed), &course.file, status));
        for (line, held) in lines.iter().zip(&run.held) {
            let name = format!("{} {} seed {}", line.member, held.limit.measure.key, run.seed);
            suite.add_test_case(case(name, &course.file, status_of(course, run, held, line.is_good())));
        }
    }
    for accused in &course.accused {
        let (who, by) = (&course.members[accused.member.index()], accused.by.name());
        let status = match course.times(accused) {
            0 => failure("not accused", &format!("not accused by {by} with any seed, and is meant to be")),
            _ => TestCaseStatus::success(),
        };
        suite.add_test_case(case(format!("{who} accused by {by}"), &course.file, status));
    }
    suite
}

fn status_of(course: &CheckedCourse, run: &CheckedRun, held: &Held, kept: bool) -> TestCaseStatus {
    let measure = held.limit.measure;
    if held.limit.exceeded.is_some() {
        return match kept {
            true => TestCaseStatus::success(),
            false => failure("kept", &format!("{} is meant to be exceeded, and is with no seed", measure.name)),
        };
    }
    match (held.outcome(), kept) {
        (Outcome::Within, _) => TestCaseStatus::success(),
        (Outcome::Unmeasured, true) => {
            let mut status = TestCaseStatus::skipped();
            status.set_message("nothing to measure");
            status
        }
        (Outcome::Unmeasured, false) => {
            failure("unmeasured", "nothing to measure, of nobody it is for and in no run: the bound guards nothing")
        }
        (Outcome::Beyond, _) => {
            let side = measure.bound.words();
            let value = held.value.map_or_else(String::new, |value| measure.shown(value));
            let at = held.at.map_or(String::new(), |at| format!(" at {}", clock(at)));
            let said = format!("{} {value}, {side} {}{at}", measure.name, measure.shown(held.limit.value));
            let mut status = failure("over budget", &said);
            let member = &course.members[held.limit.member.index()];
            status.set_description(course.opens(run, held.at, Some(member)));
            status
        }
    }
}
