//! The command line: what was typed, and what it means.
//!
//! Exit codes: 0 good; 1 an honest client was accused, a trick went unanswered, a step faulted, or `vet` found a mistake
//! or a limit exceeded; 2 bad usage or input.

mod args;
mod chart;
mod logging;
mod new;
mod run;
mod vet;

use std::process::ExitCode;

use clap::Parser;

use args::{Args, Task};

use crate::files;
use crate::tui;

/// Bad usage or input.
const BAD: u8 = 2;

/// What a command came to, when nothing was wrong with its input.
pub(crate) enum Outcome {
    /// Exit code 0.
    Good,
    /// Exit code 1.
    Findings,
}

/// Runs the command line of this process.
pub fn main() -> ExitCode {
    let args = match Args::try_parse() {
        Ok(args) => args,
        Err(error) => {
            // Help and version are no errors; clap knows which stream and code belong to which.
            let _ = error.print();
            return ExitCode::from(if error.use_stderr() { BAD } else { 0 });
        }
    };
    if let Err(why) = logging::start() {
        eprintln!("velocitas: {why}");
        return ExitCode::from(BAD);
    }
    let done = match args.task {
        None => files::course(args.course.as_deref(), &[]).and_then(|course| {
            tui::run(course, &tui::Options { ascii: args.ascii, seed: None, file: args.course })?;
            Ok(Outcome::Good)
        }),
        Some(Task::Run(task)) => run::run(&task),
        Some(Task::Chart(task)) => chart::run(&task),
        Some(Task::Vet(task)) => vet::run(&task),
        Some(Task::New(task)) => new::run(&task),
    };
    match done {
        Ok(Outcome::Good) => ExitCode::SUCCESS,
        Ok(Outcome::Findings) => ExitCode::from(1),
        Err(error) => {
            eprintln!("velocitas: {error}");
            ExitCode::from(BAD)
        }
    }
}
