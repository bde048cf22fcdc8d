//! How far something long is, on a terminal.

use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use velocitas_lab::Run;
use velocitas_lab::many::{Many, run_on};
use velocitas_record::LabTime;

use crate::files::OpenError;

/// Virtual time between two looks at how far it is.
const GRAIN: LabTime = LabTime(1_000_000_000);

/// Runs on to a moment, saying how far it is.
pub(crate) fn advance_to(run: &mut Run, to: LabTime, bar: &ProgressBar) {
    run_on(run, to, &passing(bar));
}

/// What tells a line how much virtual time was run.
pub(crate) fn passing(bar: &ProgressBar) -> impl Fn(LabTime) + Sync + '_ {
    |time| bar.inc(time.0 / 1_000_000)
}

/// Threads for many runs.
pub(crate) fn many(threads: u16) -> Result<Many, OpenError> {
    Many::on(threads).map_err(|why| OpenError::Usage(format!("cannot start {threads} threads: {why}")))
}

/// Runs on to a moment, saying how far it is, a second at most at a time.
pub(crate) fn advance_by<E>(
    run: &mut Run,
    to: LabTime,
    bar: &ProgressBar,
    mut advance: impl FnMut(&mut Run, LabTime) -> Result<(), E>,
) -> Result<(), E> {
    // What is over comes no further.
    while run.now() < to && !run.is_over() {
        let before = run.now();
        advance(run, to.min(before.plus(GRAIN)))?;
        bar.inc(run.now().minus(before).0 / 1_000_000);
    }
    Ok(())
}

/// A line on the terminal that says how far something long is; nothing where nobody looks.
pub(crate) fn progress(what: &'static str, lasts: LabTime) -> ProgressBar {
    let bar = ProgressBar::new(lasts.0 / 1_000_000);
    let style = ProgressStyle::with_template("{msg} {wide_bar} {percent:>3} %, {eta} left; Ctrl-C stops");
    if let Ok(style) = style {
        bar.set_style(style.progress_chars("=> "));
    }
    bar.set_message(what);
    bar.enable_steady_tick(Duration::from_millis(200));
    bar
}
