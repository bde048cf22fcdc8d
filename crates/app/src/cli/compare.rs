//! `velocitas compare`: two courses, takes or reports held against each other: what came out otherwise, and where they part.

use std::path::Path;

use indicatif::ProgressBar;
use serde_json::Value;
use velocitas_analysis::compare::partings;
use velocitas_lab::many::Many;
use velocitas_lab::{Course, Keep, Run};
use velocitas_record::LabTime;
use velocitas_report::compare::{Comparison, Half, Pair};

use super::Outcome;
use super::args::{CompareTask, Report};
use super::run::warn;
use crate::files::stream::say;
use crate::files::{Named, OpenError, Opened, named};
use crate::progress::{advance_to, many, progress};

/// How long courses are run unless something is said.
const USUAL: LabTime = LabTime(30_000_000_000);

/// One side.
enum Side {
    /// Can be run.
    Runs(Opened),
    /// What `velocitas run --report json` wrote, and how long its run lasted.
    Report(Box<Half>, LabTime),
}

impl Side {
    fn read(path: &Path) -> Result<Self, OpenError> {
        match Named::read(path, &[])? {
            Named::Opened(opened) => {
                warn(&opened, Some(path));
                Ok(Self::Runs(opened))
            }
            Named::Json(report) => {
                let wrong = |why: String| OpenError::File { path: path.to_owned(), why };
                let lasts = report.get("ends_ms").and_then(Value::as_f64).map(LabTime::from_millis);
                let why = "expected `ends_ms`, as `velocitas run --report json` writes it".to_owned();
                let half = Half::of_report(&report).map_err(wrong)?;
                Ok(Self::Report(Box::new(half), lasts.ok_or_else(|| wrong(why))?))
            }
        }
    }

    /// How long it lasts by itself, if it does.
    fn lasts(&self) -> Option<LabTime> {
        match self {
            Self::Runs(opened) => opened.end(),
            Self::Report(_, lasts) => Some(*lasts),
        }
    }

    const fn is_report(&self) -> bool {
        matches!(self, Self::Report(..))
    }
}

pub(super) fn run(task: &CompareTask) -> Result<Outcome, OpenError> {
    let (a, b) = (Side::read(&task.a)?, Side::read(&task.b)?);
    let own = [&a, &b].into_iter().filter_map(Side::lasts).min();
    if own.is_some() && (task.seeds > 1 || task.seed.is_some()) {
        let why = "takes, records and reports have their own seed: --seeds and --seed are for courses";
        return Err(OpenError::Usage(why.to_owned()));
    }
    let is_over = |side: &Side| side.is_report() || matches!(side, Side::Runs(opened) if opened.record().is_some());
    if task.lasts.is_some() && (is_over(&a) || is_over(&b)) {
        let why = "a report or a record is of a run that is over: leave --for out";
        return Err(OpenError::Usage(why.to_owned()));
    }
    let lasts = task.lasts.or(own).unwrap_or(USUAL);
    let runs = [&a, &b].into_iter().filter(|side| !side.is_report()).count() as u64;
    let bar = progress("comparing", LabTime(lasts.0.saturating_mul(runs * u64::from(task.seeds))));
    let many = many(0)?;
    let numbers: Vec<u32> = (0..task.seeds).collect();
    let pairs = many.each(&numbers, |n| pair((&a, &b), *n, task.seed, lasts, (&many, &bar)));
    bar.finish_and_clear();
    let pairs = pairs?;
    let lasts = |side: &Side| if let Side::Report(_, own) = side { *own } else { lasts };
    let lasts = (lasts(&a), lasts(&b));
    let comparison = Comparison {
        files: (named(&task.a), named(&task.b)),
        lasts,
        differ_in: differ_in(&a, &b, task.seed.is_some()),
        pairs,
    };
    let said = match task.report {
        // Names of files may hold anything.
        Report::Text => {
            comparison.text().lines().map(|line| format!("{}\n", velocitas_gait::escaped(line))).collect::<String>()
        }
        Report::Json => comparison.json(),
    };
    say(said)?;
    Ok(if task.fail && !comparison.is_same() { Outcome::Findings } else { Outcome::Good })
}

/// What the second says otherwise than the first.
fn differ_in(a: &Side, b: &Side, seeded: bool) -> Vec<String> {
    let (Side::Runs(a), Side::Runs(b)) = (a, b) else { return Vec::new() };
    let mut differ_in = b.course().differs_from(a.course());
    if seeded {
        differ_in.retain(|key| key != "seed");
    }
    let done = |opened: &Opened| {
        let take = opened.take().or(opened.record().map(|stored| &stored.take));
        take.map(|take| take.commands.clone()).unwrap_or_default()
    };
    if done(a) != done(b) {
        differ_in.push("what was done".to_owned());
    }
    differ_in
}

/// Both with one seed.
fn pair(
    (a, b): (&Side, &Side),
    n: u32,
    seed: Option<u64>,
    lasts: LabTime,
    (many, bar): (&Many, &ProgressBar),
) -> Result<Pair, OpenError> {
    let (left, right) = many.both(|| one(a, n, seed, lasts, bar), || one(b, n, seed, lasts, bar));
    let (left, right) = (left?, right?);
    let partings = left.1.zip(right.1).map(|(left, right)| {
        let parted = partings(left.record(), right.record()).into_iter();
        parted.map(|parting| (left.record().shown(parting.tick), parting)).collect()
    });
    Ok(Pair { halves: (left.0, right.0), partings })
}

/// What came of a side, with its run where there is one.
fn one(
    side: &Side,
    n: u32,
    seed: Option<u64>,
    lasts: LabTime,
    bar: &ProgressBar,
) -> Result<(Half, Option<Box<Run>>), OpenError> {
    let mut run = match side {
        Side::Report(half, _) => return Ok(((**half).clone(), None)),
        Side::Runs(Opened::Course(course)) => {
            let seed = seed.unwrap_or(course.seed).wrapping_add(u64::from(n));
            Run::new(Course { seed, ..(**course).clone() })?
        }
        Side::Runs(take) => take.run()?,
    };
    run.set_keep(Keep::All);
    run.meter();
    advance_to(&mut run, lasts, bar);
    Ok((Half::of(&run), Some(Box::new(run))))
}
