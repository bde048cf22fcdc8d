//! `velocitas chart`: a course drawn over time.

use velocitas_lab::{LabTime, MemberId};
use velocitas_report::{Of, chart};

use super::args::{ChartOf, ChartTask};
use super::run::{lasts, opened, simulate};
use super::{Outcome, member};
use crate::files::{OpenError, Output};

/// How long a course is run unless something is said.
const USUAL: LabTime = LabTime(20_000_000_000);

pub(super) fn run(task: &ChartTask) -> Result<Outcome, OpenError> {
    let opened = opened(task.course.as_deref(), task.seed)?;
    let member = match &task.entity {
        None => MemberId::new(0),
        Some(name) => member(opened.course(), "--entity", name)?,
    };
    let output = Output::create(&task.output, &opened.inputs(task.course.as_deref()))?;
    let (run, _) = simulate(&opened, lasts(&opened, task.lasts, USUAL), true)?;
    let of = match task.of {
        ChartOf::Error => Of::Error,
    };
    let svg = chart(run.record(), of, run.course().machine(member), LabTime::ZERO, run.now())
        .map_err(|why| OpenError::Usage(why.to_string()))?;
    output.finish(|out| out.write_all(svg.as_bytes()))?;
    Ok(Outcome::Good)
}
