//! `velocitas vary`: a course with some of its settings varied, and what each value costs.

use std::path::Path;

use velocitas_analysis::budget::{MEASURES, Measure};
use velocitas_lab::many::Wanted;
use velocitas_lab::vary::{Among, Axis, Cost, Matrix, VaryError};
use velocitas_lab::{Course, nearest};
use velocitas_record::LabTime;
use velocitas_report::vary::{Cell, Varied};

use super::Outcome;
use super::args::VaryTask;
use super::run::opened;
use crate::files::stream::{complain, say};
use crate::files::{OpenError, Outputs, course_name, inputs_of};
use crate::progress::{many, passing, progress};

/// How an output is written, by the end of its name.
#[derive(Clone, Copy)]
enum Form {
    Csv,
    Json,
}

impl From<VaryError> for OpenError {
    fn from(why: VaryError) -> Self {
        Self::Usage(why.to_string())
    }
}

pub(super) fn run(task: &VaryTask) -> Result<Outcome, OpenError> {
    let opened = opened(task.course.as_deref(), task.seed)?;
    if opened.take().is_some() || opened.record().is_some() {
        return Err(OpenError::Usage("expected a course to vary; a take or a record has happened already".to_owned()));
    }
    let course = opened.course();
    let axes = task.set.iter().map(|text| Axis::read(text, course)).collect::<Result<Vec<_>, _>>()?;
    let measures = task.measure.iter().map(|key| measure(key)).collect::<Result<Vec<_>, _>>()?;
    let among = Among::read(&task.whose, course)?;
    let output = match &task.output {
        None => None,
        Some(path) => {
            let form = form(path)?;
            let read = task.course.as_deref().map(|file| inputs_of(file, course)).unwrap_or_default();
            Some((Outputs::beside(&read).create(path)?, form, path.as_os_str() == "-"))
        }
    };
    let matrix = Matrix::new(course.clone(), axes, task.pair)?;
    let lasts = task.lasts.unwrap_or(course.check.lasts);
    let varied = Varied {
        course: course_name(&opened, task.course.as_deref()),
        keys: matrix.axes().iter().map(|axis| axis.key().to_owned()).collect(),
        cells: cells(&matrix, (course.seed, task.seeds), lasts, (&measures, &among), task.jobs)?,
        measures,
        whose: task.whose.clone(),
        seeds: (course.seed, task.seeds),
        lasts,
    };
    // Names of files may hold anything.
    let text: String = varied.text().lines().map(|line| format!("{}\n", velocitas_gait::escaped(line))).collect();
    match output {
        None => say(text)?,
        Some((output, form, takes_standard)) => {
            let whole = match form {
                Form::Csv => varied.csv(),
                Form::Json => varied.json(),
            };
            output.finish(|out| out.write_all(whole.as_bytes()))?;
            if takes_standard {
                complain(text);
            } else {
                say(text)?;
            }
        }
    }
    Ok(Outcome::Good)
}

fn measure(key: &str) -> Result<&'static Measure, OpenError> {
    Measure::named(key).ok_or_else(|| {
        let meant = nearest(key, MEASURES.iter().map(|measure| measure.key));
        let all: Vec<&str> = MEASURES.iter().map(|measure| measure.key).collect();
        let meant = meant.unwrap_or_else(|| format!("there are {}", all.join(", ")));
        OpenError::Usage(format!("there is no measure `{key}`: {meant}"))
    })
}

fn form(path: &Path) -> Result<Form, OpenError> {
    match path.extension().and_then(|end| end.to_str()) {
        Some("csv") => Ok(Form::Csv),
        Some("json") => Ok(Form::Json),
        None if path.as_os_str() == "-" => Ok(Form::Csv),
        _ => Err(OpenError::Usage(format!("expected an output that ends in .csv or .json; found {}", path.display()))),
    }
}

/// Runs every cell with every seed: the matrix's order, whatever ends first.
fn cells(
    matrix: &Matrix,
    (first, seeds): (u64, u32),
    lasts: LabTime,
    (measures, among): (&[&'static Measure], &Among),
    jobs: u16,
) -> Result<Vec<Cell>, OpenError> {
    let all: Vec<usize> = (0..matrix.cells()).collect();
    let long = lasts.0.saturating_mul(u64::from(seeds)).saturating_mul(all.len() as u64);
    let bar = progress("varying", LabTime(long));
    let passed = passing(&bar);
    let each_seed: Vec<(usize, u64)> =
        all.iter().flat_map(|cell| (0..u64::from(seeds)).map(|n| (*cell, first.wrapping_add(n)))).collect();
    let values = many(jobs)?.each(&each_seed, |(cell, seed)| -> Result<Vec<Vec<f64>>, OpenError> {
        let course: Course = matrix.at(*cell);
        let run = Wanted { course: &course, seed: *seed, lasts }.run(&passed)?;
        let clients = run.measured().clients;
        Ok(measures.iter().map(|measure| Cost::values(measure, among, &course, &clients)).collect())
    })?;
    bar.finish_and_clear();
    let of_cell = |(cell, seeds): (&usize, &[Vec<Vec<f64>>])| Cell {
        values: matrix.values(*cell).into_iter().map(str::to_owned).collect(),
        costs: (0..measures.len())
            .map(|i| Cost::of(measures[i], &seeds.iter().map(|seed| seed[i].clone()).collect::<Vec<_>>()))
            .collect(),
    };
    Ok(all.iter().zip(values.chunks(seeds as usize)).map(of_cell).collect())
}
