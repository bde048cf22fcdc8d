//! `velocitas vary`: a course with some of its settings varied, and what each value costs.

mod ask;
mod form;
mod merge;

use velocitas_analysis::budget::Measure;
use velocitas_lab::many::Wanted;
use velocitas_lab::vary::{Among, Asked, Cost, Costs, Matrix, Outcome as Came, VaryError};
use velocitas_record::LabTime;
use velocitas_report::drawing::Theme;
use velocitas_report::vary::Varied;

use self::ask::Question;
use self::form::Form;
use super::Outcome;
use super::args::VaryTask;
use crate::files::stream::{complain, say};
use crate::files::{Ledger, OpenError, Output, Outputs, inputs_of};
use crate::progress::{many, passing, progress};

impl From<VaryError> for OpenError {
    fn from(why: VaryError) -> Self {
        Self::Usage(why.to_string())
    }
}

pub(super) fn run(task: &VaryTask) -> Result<Outcome, OpenError> {
    if !task.merge.is_empty() {
        return merge::run(&task.merge, theme(task), task.output.as_deref());
    }
    let Question { matrix, asked, measures, among } = Question::read(task)?;
    let read = task.course.as_deref().map(|file| inputs_of(file, matrix.course())).unwrap_or_default();
    let mut outputs = Outputs::beside(&read);
    let output = Form::open(task.output.as_deref(), &asked.grid, &mut outputs)?;
    let mut costs = Costs::new(measures.clone(), task.seeds);
    let ledger = match &task.into {
        None => None,
        Some(path) => Some(Ledger::open(path, &asked, (&read, &mut outputs), |came| costs.add(came.values))?),
    };
    let told = ledger.as_ref().map_or(0, Ledger::runs);
    let work = Work { matrix: &matrix, asked: &asked, measures: &measures, among: &among, told };
    work.run(task.jobs, ledger, &mut costs)?;
    let varied = Varied { asked, measures, costs };
    match &task.into {
        Some(path) if task.part.is_some() => {
            let (asked, cells) = (&varied.asked, varied.costs.cells());
            let (part, all) = (asked.part, asked.grid.cells());
            let path = crate::files::named(path);
            say(format!("part {}/{}: {cells} of {all} cells, in {path}\n", part.number, part.of))?;
        }
        _ => tell(&varied, theme(task), output)?,
    }
    Ok(Outcome::Good)
}

const fn theme(task: &VaryTask) -> Theme {
    if task.light { Theme::Light } else { Theme::Dark }
}

/// Writes what it came to, and says it.
fn tell(varied: &Varied, theme: Theme, output: Option<(Output, Form, bool)>) -> Result<(), OpenError> {
    // Names of files may hold anything.
    let text: String = varied.text().lines().map(|line| format!("{}\n", velocitas_gait::escaped(line))).collect();
    let Some((output, form, takes_standard)) = output else { return say(text) };
    form.write(varied, theme, output)?;
    if takes_standard {
        complain(text);
        return Ok(());
    }
    say(text)
}

/// What is to be run.
struct Work<'a> {
    matrix: &'a Matrix,
    asked: &'a Asked,
    measures: &'a [&'static Measure],
    among: &'a Among,
    /// Runs whose results are there already.
    told: usize,
}

impl Work<'_> {
    /// Runs what is not there yet, and adds it up in the matrix's order, whatever ends first.
    fn run(&self, jobs: u16, mut ledger: Option<Ledger>, costs: &mut Costs) -> Result<(), OpenError> {
        let lasts = LabTime(self.asked.lasts_ns);
        let runs = self.asked.runs();
        let bar = progress("varying", LabTime(lasts.0.saturating_mul(runs as u64)));
        bar.set_position((lasts.0 / 1_000_000).saturating_mul(self.told as u64));
        bar.reset_eta();
        let passed = passing(&bar);
        let one = |place: usize| -> Result<Came, OpenError> {
            let (cell, seed) = self.asked.run(self.told + place);
            let course = self.matrix.at(cell)?;
            let run = Wanted { course: &course, seed, lasts }.run(&passed)?;
            let clients = run.measured().clients;
            let of = |measure: &&'static Measure| Cost::values(measure, self.among, &course, &clients);
            Ok(Came { cell, seed, values: self.measures.iter().map(of).collect() })
        };
        many(jobs)?.in_order(runs.saturating_sub(self.told), one, |_, came| {
            if let Some(ledger) = &mut ledger {
                ledger.put(&came)?;
            }
            costs.add(came.values);
            Ok(())
        })?;
        bar.finish_and_clear();
        Ok(())
    }
}
