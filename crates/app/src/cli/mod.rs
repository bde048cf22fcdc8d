//! The command line: what was typed, and what it means.
//!
//! Exit codes: 0 good; 1 an honest client was accused, a trick went unanswered, a step faulted, a take did not come out as it
//! was, `check` found a budget
//! exceeded, `compare` a difference or `diagnose` a trouble where that was asked for, or `vet` a mistake or a limit exceeded; 2 bad usage or input, or what there was to say could not be
//! written; 128 + n when signal n ended it.

mod args;
mod chart;
mod check;
mod compare;
mod diagnose;
mod guard;
mod logging;
mod new;
mod run;
mod vary;
mod vet;

use std::path::Path;
use std::process::ExitCode;

use clap::Parser;
use velocitas_lab::Course;
use velocitas_record::MemberId;

use args::{Args, Task};

use crate::files::stream::{complain, said};
use crate::files::{self, OpenError, Opened, signals};
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
        // Help and version are no errors; clap knows which stream and code belong to which.
        Err(error) if error.use_stderr() => {
            let _ = error.print();
            return ExitCode::from(BAD);
        }
        Err(help) => return exit_code(said(help.print()).map(|()| Outcome::Good)),
    };
    exit_code(start(args))
}

/// Does what was typed.
fn start(mut args: Args) -> Result<Outcome, OpenError> {
    if args.task.is_none() {
        args.course = args.course.or_else(|| files::only_course_in(Path::new(".")));
    }
    logging::start(&args.files())?;
    if args.task.is_some() {
        signals::tidy_on_signals().map_err(|why| OpenError::Usage(format!("cannot listen to signals: {why}")))?;
    }
    match args.task {
        None => open(args),
        Some(Task::Check(task)) => check::run(&task),
        Some(Task::Compare(task)) => compare::run(&task),
        Some(Task::Diagnose(task)) => diagnose::run(&task),
        Some(Task::Guard(task)) => guard::run(&task),
        Some(Task::Vary(task)) => vary::run(&task),
        Some(Task::Run(task)) => run::run(&task),
        Some(Task::Chart(task)) => chart::run(&task),
        Some(Task::Vet(task)) => vet::run(&task),
        Some(Task::New(task)) => new::run(&task),
    }
}

/// Opens the interface.
fn open(args: Args) -> Result<Outcome, OpenError> {
    let opened = Opened::read_keeping(args.course.as_deref(), &[], args.keep)?.seeded(args.seed)?;
    let entity = args.entity.map(|name| member(opened.course(), "--entity", &name)).transpose()?;
    let (file, keep) = (args.course, Some(args.keep));
    tui::run(
        &opened,
        &tui::Options { ascii: args.ascii, seed: args.seed, file, keep, at: args.at, entity, own: Vec::new() },
    )?;
    Ok(Outcome::Good)
}

/// A member of the cast by the name that was typed.
fn member(course: &Course, option: &str, name: &str) -> Result<MemberId, OpenError> {
    course.member(name).ok_or_else(|| {
        let names: Vec<&str> = course.cast.iter().map(|m| m.name.as_str()).collect();
        OpenError::Usage(format!("expected {option} to be one of {}; found `{name}`", names.join(", ")))
    })
}

fn exit_code(done: Result<Outcome, OpenError>) -> ExitCode {
    match done {
        Ok(Outcome::Good) => ExitCode::SUCCESS,
        Ok(Outcome::Findings) => ExitCode::from(1),
        Err(OpenError::Signal(signal)) => ExitCode::from(128 + signal),
        Err(error) => {
            // Names of files may hold anything.
            complain(format_args!("velocitas: {}\n", velocitas_gait::escaped(&error.to_string())));
            ExitCode::from(BAD)
        }
    }
}
