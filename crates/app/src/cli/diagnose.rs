//! `velocitas diagnose`: a stretch of a course, its worst trouble, and what would cure it.

use std::convert::Infallible;

use velocitas_lab::diagnose::{Case, DiagnoseError, Remedy, Tried, rank};
use velocitas_lab::{Keep, LabTime};
use velocitas_report::{Diagnosis, TroubleRow};

use super::args::{DiagnoseTask, Report};
use super::run::opened;
use super::{Outcome, member};
use crate::files::OpenError;
use crate::files::stream::say;
use crate::progress::{advance_to, many, progress};

/// What is drawn at the end of a stretch is judged by what comes a little later.
const AFTER: LabTime = LabTime(1_000_000_000);

pub(super) fn run(task: &DiagnoseTask) -> Result<Outcome, OpenError> {
    let (from, to) = (task.from.unwrap_or(LabTime::ZERO), task.to);
    if from >= to {
        return Err(OpenError::Usage(format!("expected --to after --from; found {to} and {from}")));
    }
    let opened = opened(task.course.as_deref(), task.seed)?;
    let course = opened.course();
    let whose = task.client.as_deref().map(|name| member(course, "--client", name)).transpose()?;
    let machine = whose.map(|member| course.machine(member));
    let (name, seed) = (course.name.clone(), course.seed);
    let many = many(task.jobs)?;
    let mut run = opened.run()?;
    run.set_keep(Keep::All);
    let bar = progress("running", to.plus(AFTER));
    advance_to(&mut run, to.plus(AFTER), &bar);
    bar.finish_and_clear();
    let case = match Case::of(&run, machine, from, to) {
        Ok(case) => case,
        Err(DiagnoseError::Nothing) => {
            say(format!("nothing went wrong from {from} to {to}\n"))?;
            return Ok(Outcome::Good);
        }
        Err(why) => return Err(OpenError::Usage(why.to_string())),
    };
    let try_all = |what: &'static str, remedies: &[Remedy]| -> Vec<Tried> {
        let length = LabTime(1_000_000_000);
        let bar = progress(what, LabTime(length.0 * remedies.len() as u64));
        let one = |remedy: &Remedy| {
            let tried = case.try_out(remedy);
            bar.inc(length.0 / 1_000_000);
            Ok::<_, Infallible>(tried)
        };
        let Ok(mut tried) = many.each(remedies, one);
        bar.finish_and_clear();
        rank(&mut tried);
        tried
    };
    let tried = try_all("trying", &case.remedies);
    let pairs =
        if task.pairs || Case::wants_pairs(&tried) { try_all("trying pairs", &case.pairs(&tried)) } else { Vec::new() };
    let trouble = TroubleRow::of(run.record(), &case.trouble);
    let diagnosis = Diagnosis { course: name, seed, case: &case, trouble, tried, pairs };
    let said = match task.report {
        Report::Text => diagnosis.text(),
        Report::Json => diagnosis.json(),
    };
    say(said)?;
    Ok(if task.fail { Outcome::Findings } else { Outcome::Good })
}
