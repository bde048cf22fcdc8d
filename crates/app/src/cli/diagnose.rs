//! `velocitas diagnose`: a stretch of a course, its worst trouble, and what would cure it.

use std::convert::Infallible;

use velocitas_analysis::cause::{Findings, Found};
use velocitas_analysis::trouble::troubles;
use velocitas_lab::diagnose::{DiagnoseError, Remedy, Tried, TroubleCase, rank};
use velocitas_lab::stored::Stored;
use velocitas_lab::take::Take;
use velocitas_lab::{Keep, Run};
use velocitas_record::LabTime;
use velocitas_report::{Diagnosis, TroubleRow};

use super::args::{DiagnoseTask, Report};
use super::run::opened;
use super::{Outcome, member};
use crate::files::OpenError;
use crate::files::stream::say;
use crate::progress::{advance_to, many, progress};

/// What is drawn at the end of a stretch is judged by what comes a little later.
const AFTER: LabTime = LabTime(1_000_000_000);

/// Whether a run comes out as its take tells it, up to the first checkpoint, or why that is not known.
fn comes_out_again(take: &Take) -> Result<Result<(), String>, OpenError> {
    if let Some(rule) = take.course.absent() {
        return Ok(Err(format!("its rule `{rule}` is written in Rust and is not in this program")));
    }
    let Some((first, _)) = take.digests.first() else {
        return Ok(Err("it has no checkpoint to be held against".to_owned()));
    };
    let mut run = Run::of_take(take)?;
    run.advance(*first);
    Ok(run.parted().map_or(Ok(()), |at| Err(format!("run again, it is no more what it was by {at}"))))
}

/// Names the troubles of a record of which nothing can be tried.
fn named_only(
    stored: &Stored,
    task: &DiagnoseTask,
    (from, to): (LabTime, LabTime),
    why: &str,
) -> Result<Outcome, OpenError> {
    let (record, course) = (&stored.record, &stored.take.course);
    let whose = task.client.as_deref().map(|name| member(course, "--client", name)).transpose()?;
    let all = troubles(
        Found { record, findings: &Findings::default() },
        whose.map(|member| course.machine(member)),
        from,
        to,
    );
    let Some(worst) = all.iter().find(|trouble| whose.is_some() || !record.cast.is_rogue(trouble.machine)) else {
        say(format!("nothing went wrong from {from} to {to}\n"))?;
        return Ok(Outcome::Good);
    };
    say(format!("{}: {}\nnothing can be tried: {why}\n", record.cast.name(worst.machine), worst.words(record)))?;
    Ok(if task.fail { Outcome::Findings } else { Outcome::Good })
}

pub(super) fn run(task: &DiagnoseTask) -> Result<Outcome, OpenError> {
    let (from, to) = (task.from.unwrap_or(LabTime::ZERO), task.to);
    if from >= to {
        return Err(OpenError::Usage(format!("expected --to after --from; found {to} and {from}")));
    }
    let opened = opened(task.course.as_deref(), task.seed)?;
    if let Some(stored) = opened.record()
        && let Err(why) = comes_out_again(&stored.take)?
    {
        return named_only(stored, task, (from, to), &why);
    }
    // It is the run of its take.
    let opened = opened.rerun();
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
    let case = match TroubleCase::of(&run, machine, from, to) {
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
    let pairs = if task.pairs || TroubleCase::wants_pairs(&tried) {
        try_all("trying pairs", &case.pairs(&tried))
    } else {
        Vec::new()
    };
    let trouble = TroubleRow::of(run.record(), &case.trouble);
    let diagnosis = Diagnosis { course: name, seed, case: &case, trouble, tried, pairs };
    let said = match task.report {
        Report::Text => diagnosis.text(),
        Report::Json => diagnosis.json(),
    };
    say(said)?;
    Ok(if task.fail { Outcome::Findings } else { Outcome::Good })
}
