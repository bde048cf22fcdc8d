//! How far something long is, on a terminal.

use std::convert::Infallible;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use velocitas_lab::{LabTime, Run};

/// Virtual time between two looks at how far it is.
const GRAIN: LabTime = LabTime(1_000_000_000);

/// Runs on to a moment, saying how far it is.
pub(crate) fn advance_to(run: &mut Run, to: LabTime, bar: &ProgressBar) {
    let done: Result<(), Infallible> = advance_with(run, to, bar, |_| Ok(()));
    let Ok(()) = done;
}

/// The same, with something to be done every second on the way.
pub(crate) fn advance_with<E>(
    run: &mut Run,
    to: LabTime,
    bar: &ProgressBar,
    mut each: impl FnMut(&mut Run) -> Result<(), E>,
) -> Result<(), E> {
    while run.now() < to {
        let before = run.now();
        run.advance(to.min(before.plus(GRAIN)));
        bar.inc(run.now().minus(before).0 / 1_000_000);
        each(run)?;
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
