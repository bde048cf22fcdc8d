//! `velocitas chart`: a course drawn over time.

use velocitas_lab::{LabTime, MemberId};
use velocitas_report::{Of, chart};

use super::args::{ChartOf, ChartTask};
use super::run::{course, simulate};
use super::{Outcome, member};
use crate::files::{self, OpenError, Output};

pub(super) fn run(task: &ChartTask) -> Result<Outcome, OpenError> {
    let course = course(task.course.as_deref(), task.seed)?;
    let member = match &task.entity {
        None => MemberId::new(0),
        Some(name) => member(&course, "--entity", name)?,
    };
    let output = Output::create(&task.output, &files::inputs_of(task.course.as_deref(), &course))?;
    let (run, _) = simulate(course, task.lasts, true)?;
    let of = match task.of {
        ChartOf::Error => Of::Error,
    };
    let svg = chart(run.record(), of, run.course().machine(member), LabTime::ZERO, run.now())
        .map_err(|why| OpenError::Usage(why.to_string()))?;
    output.finish(|out| out.write_all(svg.as_bytes()))?;
    Ok(Outcome::Good)
}
