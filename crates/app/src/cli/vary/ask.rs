//! What is asked of `velocitas vary`: read, and found to be possible, before anything runs.

use velocitas_analysis::budget::{MEASURES, Measure};
use velocitas_lab::nearest;
use velocitas_lab::vary::{Among, Asked, Axis, Matrix, Part, VARY_FORMAT, digest_of};
use velocitas_record::quantity::{Takes, measured};

use super::super::args::VaryTask;
use super::super::run::opened;
use crate::files::{OpenError, course_name};

/// A question that can be run.
pub(super) struct Question {
    pub(super) matrix: Matrix,
    pub(super) asked: Asked,
    pub(super) measures: Vec<&'static Measure>,
    pub(super) among: Among,
}

impl Question {
    /// What was typed.
    ///
    /// # Errors
    /// What cannot be run, measured or bounded, with the nearest word.
    pub(super) fn read(task: &VaryTask) -> Result<Self, OpenError> {
        let opened = opened(task.course.as_deref(), task.seed)?;
        if opened.take().is_some() || opened.record().is_some() {
            return Err(OpenError::Usage(
                "expected a course to vary; a take or a record has happened already".to_owned(),
            ));
        }
        let course = opened.course();
        let axes = task.set.iter().map(|text| Axis::read(text, course)).collect::<Result<Vec<_>, _>>()?;
        let bounds = task.within.iter().map(|text| bound(text)).collect::<Result<Vec<_>, _>>()?;
        let mut measures: Vec<&'static Measure> = Vec::new();
        // What is bounded is measured.
        let bounded = bounds.iter().map(|(measure, _)| Ok(*measure));
        for measure in task.measure.iter().map(|key| measure(key)).chain(bounded) {
            let measure = measure?;
            if !measures.contains(&measure) {
                measures.push(measure);
            }
        }
        let among = Among::read(&task.whose, course)?;
        let limit = |measure: &&'static Measure| match bounds.is_empty() {
            true => among.limit(course, measure),
            false => bounds.iter().rev().find(|(of, _)| of == measure).map(|(_, value)| *value),
        };
        let limits = measures.iter().map(limit).collect();
        let matrix = Matrix::new(course.clone(), axes, task.pair)?;
        let lasts = task.lasts.unwrap_or(course.check.lasts);
        let asked = Asked {
            vary: VARY_FORMAT,
            program: env!("CARGO_PKG_VERSION").to_owned(),
            course: course_name(&opened, task.course.as_deref()),
            digest: digest_of(course),
            grid: matrix.grid().clone(),
            measures: measures.iter().map(|measure| measure.key.to_owned()).collect(),
            limits,
            whose: task.whose.clone(),
            first_seed: course.seed,
            seeds: task.seeds,
            lasts_ns: lasts.0,
            part: task.part.unwrap_or(Part::WHOLE),
        };
        Ok(Self { matrix, asked, measures, among })
    }
}

/// The measure of a key.
///
/// # Errors
/// When there is none.
pub(super) fn measure(key: &str) -> Result<&'static Measure, OpenError> {
    Measure::named(key).ok_or_else(|| {
        let meant = nearest(key, MEASURES.iter().map(|measure| measure.key));
        let all: Vec<&str> = MEASURES.iter().map(|measure| measure.key).collect();
        let meant = meant.unwrap_or_else(|| format!("there are {}", all.join(", ")));
        OpenError::Usage(format!("there is no measure `{key}`: {meant}"))
    })
}

/// A bound of a measure, as `KEY=VALUE`.
fn bound(text: &str) -> Result<(&'static Measure, f64), OpenError> {
    let wrong = |why: String| OpenError::Usage(format!("--within {text}: {why}"));
    let (key, value) =
        text.split_once('=').ok_or_else(|| wrong("expected KEY=VALUE, such as view_age=200ms".to_owned()))?;
    let (measure, value) = (measure(key.trim())?, value.trim());
    let whole = || value.parse::<u32>().map(f64::from).map_err(|_| format!("expected a whole number; found `{value}`"));
    let number = match measure.takes {
        Takes::Whole => whole(),
        takes => measured(takes, value).unwrap_or_else(whole),
    };
    let number = number.map_err(wrong)?;
    if number >= 0.0 {
        Ok((measure, number))
    } else {
        Err(wrong("expected a bound that is not below nothing".to_owned()))
    }
}
