//! A check as JSON, and what of one that was kept is read again.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use thiserror::Error;
use velocitas_analysis::budget::{Held, Known, MEASURES, Measure, Outcome};
use velocitas_record::{LabTime, Takes};

use super::{Checked, CheckedCourse, CheckedRun};

/// The format of the file.
const FORMAT: u32 = 1;

#[derive(Serialize)]
struct All<'a> {
    format: u32,
    good: bool,
    runs: Vec<Run<'a>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    against: Option<Against<'a>>,
}

#[derive(Serialize)]
struct Run<'a> {
    file: &'a str,
    course: &'a str,
    seed: u64,
    lasts_ms: f64,
    digest: String,
    step_faults: u32,
    first_fault_ms: Option<f64>,
    limits: Vec<Limit<'a>>,
    accused: Vec<Accused<'a>>,
    /// By member and measure.
    measured: BTreeMap<&'a str, BTreeMap<&'a str, Option<f64>>>,
}

#[derive(Serialize)]
struct Limit<'a> {
    member: &'a str,
    measure: &'a str,
    unit: &'a str,
    bound: &'static str,
    limit: f64,
    line: Option<usize>,
    /// The line that says that it is meant to be exceeded.
    exceeded_line: Option<usize>,
    value: Option<f64>,
    outcome: &'static str,
    at_ms: Option<f64>,
    opens: Option<String>,
}

/// Who is meant to be accused.
#[derive(Serialize)]
struct Accused<'a> {
    member: &'a str,
    by: &'static str,
    line: usize,
    verdicts: u32,
}

#[derive(Serialize)]
struct Against<'a> {
    file: &'a str,
    share: f64,
    compared: Vec<Compared<'a>>,
}

#[derive(Serialize)]
struct Compared<'a> {
    file: &'a str,
    member: &'a str,
    measure: &'a str,
    was: f64,
    is: f64,
    seeds: u32,
    worst_seed: u64,
    worse: bool,
}

pub(super) fn json(checked: &Checked) -> String {
    let runs = checked.courses.iter().flat_map(|course| course.runs.iter().map(move |run| run_of(course, run)));
    let against = checked.against.as_ref().map(|against| Against {
        file: &against.file,
        share: against.share,
        compared: against
            .compared
            .iter()
            .map(|c| Compared {
                file: &c.course,
                member: &c.member,
                measure: c.measure.key,
                was: c.was,
                is: c.is,
                seeds: c.seeds,
                worst_seed: c.seed,
                worse: c.is_worse(against.share),
            })
            .collect(),
    });
    let all = All { format: FORMAT, good: checked.is_good(), runs: runs.collect(), against };
    let mut text = serde_json::to_string_pretty(&all).unwrap_or_default();
    text.push('\n');
    text
}

fn run_of<'a>(course: &'a CheckedCourse, run: &'a CheckedRun) -> Run<'a> {
    let measured = run.clients.iter().map(|client| {
        let values = MEASURES.iter().map(|measure| (measure.key, (measure.get)(client)));
        (client.name.as_str(), values.collect())
    });
    let accused = |accused: &velocitas_analysis::budget::Accused| Accused {
        member: &course.members[accused.member.index()],
        by: accused.by.name(),
        line: accused.line,
        verdicts: run.clients[accused.member.index()].verdicts.get(accused.by.name()).copied().unwrap_or_default(),
    };
    Run {
        file: &course.file,
        course: &course.name,
        seed: run.seed,
        lasts_ms: run.lasts.millis(),
        digest: format!("{:016x}", run.digest),
        step_faults: run.step_faults.0,
        first_fault_ms: run.step_faults.1.map(LabTime::millis),
        limits: run.held.iter().map(|held| limit_of(course, run, held)).collect(),
        accused: course.accused.iter().map(accused).collect(),
        measured: measured.collect(),
    }
}

fn limit_of<'a>(course: &'a CheckedCourse, run: &CheckedRun, held: &Held) -> Limit<'a> {
    let (limit, measure) = (held.limit, held.limit.measure);
    let member = &course.members[limit.member.index()];
    let outcome = held.outcome();
    Limit {
        member,
        measure: measure.key,
        // Values are as they are kept: a share is one, and no percentage.
        unit: if matches!(measure.takes, Takes::Share) { "share" } else { measure.unit },
        bound: measure.bound.words(),
        limit: limit.value,
        line: limit.line,
        exceeded_line: limit.exceeded,
        value: held.value,
        outcome: match outcome {
            Outcome::Within => "within",
            Outcome::Beyond => "beyond",
            Outcome::Unmeasured => "unmeasured",
        },
        at_ms: held.at.map(LabTime::millis),
        opens: (outcome == Outcome::Beyond).then(|| course.opens(run, held.at, Some(member))),
    }
}

/// Why a file is no report of a check.
#[derive(Debug, Error)]
pub enum KeptError {
    /// It is no JSON of that shape.
    #[error("expected a report that `velocitas check --json` wrote: {0}")]
    Shape(#[from] serde_json::Error),
    /// It is of another format.
    #[error("expected a report of format {FORMAT}; found format {0}")]
    Format(u32),
}

#[derive(Deserialize)]
struct Kept {
    format: u32,
    runs: Vec<KeptRun>,
}

#[derive(Deserialize)]
struct KeptRun {
    file: String,
    seed: u64,
    lasts_ms: f64,
    measured: BTreeMap<String, BTreeMap<String, Option<f64>>>,
}

/// What a report knows that was kept. Measures that this program has not are passed over.
///
/// # Errors
/// When it is no such report.
pub fn kept(text: &str) -> Result<Vec<Known>, KeptError> {
    let kept: Kept = serde_json::from_str(text)?;
    if kept.format != FORMAT {
        return Err(KeptError::Format(kept.format));
    }
    let mut all = Vec::new();
    for run in kept.runs {
        for (member, values) in run.measured {
            let values = values.into_iter().filter_map(|(key, value)| Some((Measure::named(&key)?, value?)));
            all.extend(values.map(|(measure, value)| Known {
                course: run.file.clone(),
                seed: run.seed,
                lasts: LabTime::from_millis(run.lasts_ms),
                member: member.clone(),
                measure,
                value,
            }));
        }
    }
    Ok(all)
}
