//! `velocitas check`: courses run over seeds on all cores and held against their budgets.

use std::fs;
use std::path::{Path, PathBuf};

use indicatif::ProgressBar;
use velocitas_analysis::budget::hold;
use velocitas_lab::Course;
use velocitas_lab::many::Wanted;
use velocitas_record::LabTime;
use velocitas_report::check::{Checked, CheckedCourse, CheckedRun, kept};

use super::Outcome;
use super::args::CheckTask;
use crate::files::stream::{complain, say};
use crate::files::{self, OpenError, Outputs, must_be_regular, read_regular};
use crate::progress::{many, passing, progress};

pub(super) fn run(task: &CheckTask) -> Result<Outcome, OpenError> {
    let courses = courses(&task.courses)?;
    let mut inputs: Vec<PathBuf> = courses.iter().flat_map(|(path, course)| files::inputs_of(path, course)).collect();
    inputs.extend(task.against.clone());
    let known = task.against.as_deref().map(read_kept).transpose()?;
    let mut outputs = Outputs::beside(&inputs);
    let json = task.json.as_deref().map(|path| outputs.create(path)).transpose()?;
    let junit = task.junit.as_deref().map(|path| outputs.create(path)).transpose()?;
    let mut checked = Checked { courses: simulate(task, &courses)?, against: None };
    if let (Some(path), Some(known)) = (&task.against, &known) {
        checked.hold_against(path.display().to_string(), known, task.worse);
        if checked.against.as_ref().is_some_and(|against| against.compared.is_empty()) {
            return Err(OpenError::Usage(format!(
                "nothing in {} can be compared: expected runs of the same files, named alike, with the same seeds and of \
                 the same length",
                path.display()
            )));
        }
    }
    if let Some(output) = json {
        output.finish(|out| out.write_all(checked.json().as_bytes()))?;
    }
    if let Some(output) = junit {
        let text = checked.junit().map_err(OpenError::Usage)?;
        output.finish(|out| out.write_all(text.as_bytes()))?;
    }
    // Names of files may hold anything.
    let said: String =
        checked.text(task.all).lines().map(|line| format!("{}\n", velocitas_gait::escaped(line))).collect();
    if outputs.takes_standard() {
        complain(said);
    } else {
        say(said)?;
    }
    Ok(if checked.is_good() { Outcome::Good } else { Outcome::Findings })
}

/// The courses that were named, and those in folders that were named. What is wrong with any is told before the first is run.
fn courses(named: &[PathBuf]) -> Result<Vec<(PathBuf, Course)>, OpenError> {
    let mut paths = Vec::new();
    for path in named {
        if path.is_dir() {
            let before = paths.len();
            in_folder(path, &mut paths)?;
            if paths.len() == before {
                let why = "expected courses (*.course.toml) in it; found none".to_owned();
                return Err(OpenError::File { path: path.clone(), why });
            }
        } else {
            paths.push(path.clone());
        }
    }
    let (mut good, mut bad) = (Vec::new(), 0);
    for path in paths {
        match files::course(Some(&path), &[]) {
            Ok(course) => {
                for warning in &course.warnings {
                    complain(format_args!("warning: {warning}\n\n"));
                }
                good.push((path, course));
            }
            Err(error) => {
                bad += 1;
                complain(format_args!("error: {error}\n\n"));
            }
        }
    }
    match bad {
        0 => Ok(good),
        bad => {
            Err(OpenError::Usage(format!("{bad} of {} courses cannot be run; nothing was checked", bad + good.len())))
        }
    }
}

/// The courses in a folder and in those inside it, in the order of their names.
fn in_folder(folder: &Path, paths: &mut Vec<PathBuf>) -> Result<(), OpenError> {
    let wrong = |why: std::io::Error| OpenError::File { path: folder.to_owned(), why: why.to_string() };
    let mut entries = fs::read_dir(folder).map_err(wrong)?.collect::<Result<Vec<_>, _>>().map_err(wrong)?;
    entries.sort_by_key(fs::DirEntry::file_name);
    for entry in entries {
        let name = entry.file_name().to_string_lossy().into_owned();
        // Not what a link leads to: it may lead back.
        let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
        if is_folder && !name.starts_with('.') {
            in_folder(&entry.path(), paths)?;
        } else if !is_folder && name.ends_with(".course.toml") {
            let path = entry.path();
            let wrong = |why: std::io::Error| OpenError::File { path: path.clone(), why: why.to_string() };
            must_be_regular(&path, "a course is a TOML file").map_err(wrong)?;
            // As people call it.
            paths.push(path.strip_prefix("./").map(Path::to_owned).unwrap_or(path));
        }
    }
    Ok(())
}

/// What a report knows that was kept.
fn read_kept(path: &Path) -> Result<Vec<velocitas_analysis::budget::Known>, OpenError> {
    let wrong = |why: String| OpenError::File { path: path.to_owned(), why };
    let text = read_regular(path, "a report is a JSON file").map_err(|why| wrong(why.to_string()))?;
    kept(&text).map_err(|why| wrong(why.to_string()))
}

/// Runs everything, as many at once as there are threads.
fn simulate(task: &CheckTask, courses: &[(PathBuf, Course)]) -> Result<Vec<CheckedCourse>, OpenError> {
    let mut wanted: Vec<(usize, Wanted<'_>)> = Vec::new();
    for (place, (_, course)) in courses.iter().enumerate() {
        let (seeds, seed) = (task.seeds.unwrap_or(course.check.seeds), task.seed.unwrap_or(course.seed));
        let one = Wanted { course, seed, lasts: task.lasts.unwrap_or(course.check.lasts) };
        wanted.extend(one.seeds(seeds).map(|wanted| (place, wanted)));
    }
    let many = many(task.jobs)?;
    let bar = progress("checking", wanted.iter().map(|(_, wanted)| wanted.lasts).fold(LabTime::ZERO, LabTime::plus));
    let done = many.each(&wanted, |(course, wanted)| Ok::<_, OpenError>((*course, checked(wanted, &bar)?)));
    bar.finish_and_clear();
    let mut all: Vec<CheckedCourse> =
        courses.iter().map(|(path, course)| CheckedCourse::of(path.display().to_string(), course)).collect();
    done?.into_iter().for_each(|(course, run)| all[course].runs.push(run));
    Ok(all)
}

fn checked(wanted: &Wanted<'_>, bar: &ProgressBar) -> Result<CheckedRun, OpenError> {
    let run = wanted.run(&passing(bar))?;
    let measured = run.measured();
    Ok(CheckedRun {
        seed: wanted.seed,
        lasts: wanted.lasts,
        digest: run.digest(),
        step_faults: (measured.totals.step_faults, measured.totals.first_fault),
        held: hold(&run.course().limits, &measured),
        clients: measured.clients,
    })
}
