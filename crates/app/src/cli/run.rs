//! `velocitas run`: a course without a screen.

use std::path::{Path, PathBuf};
use std::time::Instant;

use velocitas_lab::export::with_take;
use velocitas_lab::take::{sealed_rows, without_rows};
use velocitas_lab::{Keep, LEAST_KEPT, Run, export};
use velocitas_record::LabTime;
use velocitas_report::{TakeSummary, csv_table, summarise, text};

use super::Outcome;
use super::args::{Report, RunTask};
use crate::files::stream::{complain, say};
use crate::files::{self, OpenError, Opened, Output, Outputs, Recording, journal};
use crate::progress::{advance_by, progress};

/// A course or a take from the command line, with another seed if one was given.
pub(super) fn opened(path: Option<&Path>, seed: Option<u64>) -> Result<Opened, OpenError> {
    let opened = Opened::read(path, &[])?.seeded(seed)?;
    warn(&opened, path);
    Ok(opened)
}

/// Tells what is wrong with it and no error.
pub(super) fn warn(opened: &Opened, path: Option<&Path>) {
    for warning in &opened.course().warnings {
        complain(format_args!("warning: {warning}\n\n"));
    }
    if let Some(path) = path
        && let Some(why) = opened.take().and_then(files::another_version)
    {
        complain(format_args!("warning: {}: {why}\n\n", files::named(path)));
    }
    if let (Some(damage), Some(path)) = (opened.record().and_then(|stored| stored.damage.as_ref()), path) {
        complain(format_args!("warning: {}: {damage}\n\n", files::named(path)));
    }
    if let (Some(damage), Some(path)) = (opened.take().and_then(|take| take.damage), path) {
        complain(format_args!("warning: {}: {damage}\n\n", files::named(path)));
    }
}

/// How long to run: what was asked for, a take or a record to its end, a course as usual.
///
/// # Errors
/// When something else is asked of a record than it is of.
pub(super) fn lasts(opened: &Opened, asked: Option<LabTime>, usual: LabTime) -> Result<LabTime, OpenError> {
    match (opened.record(), asked) {
        (Some(_), Some(_)) => Err(OpenError::Usage("a record is of a run that is over: leave --for out".to_owned())),
        _ => Ok(asked.or(opened.end()).unwrap_or(usual)),
    }
}

/// Runs it from its beginning. Returns it with the time it took. All of it is kept, or no more than figures and causes are had
/// from.
pub(super) fn simulate(
    mut run: Run,
    lasts: LabTime,
    all: bool,
    recording: &mut Option<Recording>,
) -> Result<(Run, std::time::Duration), OpenError> {
    let began = Instant::now();
    if all || recording.is_some() {
        run.set_keep(Keep::Time(LEAST_KEPT));
        run.meter();
    } else {
        run.keep_figures();
        run.meter();
    }
    let bar = progress("running", lasts);
    advance_by(&mut run, lasts, &bar, |run, to| -> Result<(), OpenError> {
        match recording.as_mut() {
            Some(recording) => recording.advance(run, to)?,
            None => run.advance(to),
        }
        if all {
            run.set_keep(Keep::All);
        }
        Ok(())
    })?;
    bar.finish_and_clear();
    Ok((run, began.elapsed()))
}

/// Where tables are to be written, each with the kind of row that its file is named after.
fn tables(paths: &[PathBuf], outputs: &mut Outputs<'_>) -> Result<Vec<(&'static str, Output)>, OpenError> {
    let kinds: Vec<&'static str> = export::row_kinds().iter().map(|kind| kind.name).collect();
    let mut open = |path: &PathBuf| {
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
        Ok((*kind, outputs.create(path)?))
    };
    paths.iter().map(&mut open).collect()
}

/// Writes the record that a take was sealed with.
fn unsealed(output: Output, path: &Path) -> Result<(), OpenError> {
    let wrong = |why: String| OpenError::File { path: path.to_owned(), why };
    let bytes = std::fs::File::open(path).and_then(files::read_take).map_err(|why| wrong(why.to_string()))?;
    let mut rows = sealed_rows(&bytes);
    let Some(first) = rows.next() else {
        return Err(wrong(
            "expected a take with a sealed record (run --take FILE --sealed); found none in it".to_owned(),
        ));
    };
    output.finish(|out| {
        with_take(first, &without_rows(&bytes), &mut *out)?;
        rows.try_for_each(|row| writeln!(out, "{row}"))
    })
}

/// How long a course is run unless something is said.
const USUAL: LabTime = LabTime(60_000_000_000);

pub(super) fn run(task: &RunTask) -> Result<Outcome, OpenError> {
    let opened = opened(task.course.as_deref(), task.seed)?;
    let inputs = opened.inputs(task.course.as_deref());
    let mut outputs = Outputs::beside(&inputs);
    let mut open = |path: &Option<PathBuf>| path.as_deref().map(|path| outputs.create(path)).transpose();
    let (take, unseal, record) = (open(&task.take)?, open(&task.unseal)?, open(&task.record)?);
    let tables = tables(&task.tables, &mut outputs)?;
    let lasts = lasts(&opened, task.lasts, USUAL)?;
    let begun = opened.run()?;
    if let (Some(_), Some(path)) =
        (opened.record(), task.record.as_deref().filter(|path| Recording::is_in_blocks(path)))
    {
        let why =
            format!("a record is written as JSON Lines from here on: name {} otherwise, or copy it", path.display());
        return Err(OpenError::Usage(why));
    }
    let told = || journal(&opened, task.course.as_deref());
    let mut recording = match (record, task.record.as_deref()) {
        (Some(output), Some(path)) => Some(Recording::new(output, path, &begun, told())?),
        _ => None,
    };
    let all = task.sealed || !tables.is_empty();
    let (run, took) = simulate(begun, lasts, all, &mut recording)?;
    tracing::info!(ms = took.as_millis() as u64, "simulated");
    if let Some(recording) = recording {
        recording.finish(&run)?;
    }
    if let Some(output) = take {
        let mut journal = journal(&opened, task.course.as_deref());
        output.finish(|mut out| {
            out.write_all(journal.news(&run).as_bytes())?;
            if task.sealed { journal.seal_record(&run, &mut out) } else { Ok(()) }
        })?;
    }
    if let (Some(output), Some(path)) = (unseal, task.course.as_deref()) {
        unsealed(output, path)?;
    }
    for (kind, output) in tables {
        output.finish(|out| csv_table(run.record(), kind, out).map_err(std::io::Error::other))?;
    }
    let mut summary = summarise(&run, took);
    summary.take = opened.take().map(|take| TakeSummary::of(take, &run));
    let mut said = match task.report {
        Report::Text => text(&summary),
        Report::Json => summary.json(),
    };
    if !said.ends_with('\n') {
        said.push('\n');
    }
    if outputs.takes_standard() {
        // Standard output is a result's.
        complain(said);
    } else {
        say(said)?;
    }
    Ok(if summary.is_good() { Outcome::Good } else { Outcome::Findings })
}
