//! `velocitas run`: a course without a screen.

use std::path::{Path, PathBuf};
use std::time::Instant;

use velocitas_lab::export::Ending;
use velocitas_lab::{Course, Keep, LEAST_KEPT, LabTime, Run, export};
use velocitas_report::{csv_table, summarise, text};

use super::Outcome;
use super::args::{Report, RunTask};
use crate::files::stream::{complain, say};
use crate::files::{self, OpenError, Output};

/// A course from the command line, with another seed if one was given. What it probably does not mean is told.
pub(super) fn course(path: Option<&Path>, seed: Option<u64>) -> Result<Course, OpenError> {
    let mut course = files::course(path, &[])?;
    course.seed = seed.unwrap_or(course.seed);
    for warning in &course.warnings {
        complain(format_args!("warning: {warning}\n\n"));
    }
    Ok(course)
}

/// Runs a course from its beginning. Returns it with the time it took. All of it is kept, or no more than figures and causes
/// are had from.
pub(super) fn simulate(course: Course, lasts: LabTime, all: bool) -> Result<(Run, std::time::Duration), OpenError> {
    let began = Instant::now();
    let mut run = Run::new(course)?;
    run.set_keep(if all { Keep::All } else { Keep::Time(LEAST_KEPT) });
    run.meter();
    run.advance(lasts);
    Ok((run, began.elapsed()))
}

/// Where tables are to be written, each with the kind of row that its file is named after.
fn tables(paths: &[PathBuf], inputs: &[PathBuf]) -> Result<Vec<(&'static str, Output)>, OpenError> {
    let kinds: Vec<&'static str> = export::row_kinds().iter().map(|kind| kind.name).collect();
    let open = |path: &PathBuf| {
        let stem = path.file_stem().and_then(|stem| stem.to_str()).unwrap_or("");
        let kind = kinds.iter().find(|kind| stem == **kind || stem.strip_suffix('s') == Some(**kind));
        let Some(kind) = kind else {
            let known = kinds.join(", ");
            let said = format!(
                "cannot tell which table {} is to hold: its name must be that of a kind of row, such as inputs.csv; there are \
                 {known}",
                path.display()
            );
            return Err(OpenError::Usage(said));
        };
        Ok((*kind, Output::create(path, inputs)?))
    };
    paths.iter().map(open).collect()
}

pub(super) fn run(task: &RunTask) -> Result<Outcome, OpenError> {
    let course = course(task.course.as_deref(), task.seed)?;
    let inputs = files::inputs_of(task.course.as_deref(), &course);
    let record = task.record.as_deref().map(|path| Output::create(path, &inputs)).transpose()?;
    let tables = tables(&task.tables, &inputs)?;
    let (run, took) = simulate(course, task.lasts, task.record.is_some() || !tables.is_empty())?;
    tracing::info!(ms = took.as_millis() as u64, "simulated");
    if let Some(output) = record {
        let ending = Ending { digest: run.digest(), refused_datagrams: run.lab().refused() };
        output.finish(|mut out| export::write(run.record(), &ending, &mut out))?;
    }
    for (kind, output) in tables {
        output.finish(|out| csv_table(run.record(), kind, out).map_err(std::io::Error::other))?;
    }
    let summary = summarise(&run, took);
    let mut said = match task.report {
        Report::Text => text(&summary),
        Report::Json => summary.json(),
    };
    if !said.ends_with('\n') {
        said.push('\n');
    }
    if task.record.as_deref().is_some_and(files::is_standard_output) {
        // Standard output is the record's.
        complain(said);
    } else {
        say(said)?;
    }
    Ok(if summary.is_good() { Outcome::Good } else { Outcome::Findings })
}
