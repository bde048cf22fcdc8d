//! `velocitas compare`: two courses run with the same seeds, and what came out otherwise.

use rayon::iter::{IntoParallelIterator, ParallelIterator};
use velocitas_lab::compare::partings;
use velocitas_lab::{Course, Keep, Run};
use velocitas_report::compare::{Comparison, Pair};

use super::Outcome;
use super::args::{CompareTask, Report};
use super::run::course;
use crate::files::stream::say;
use crate::files::{OpenError, named};
use crate::progress::{advance_to, progress};

pub(super) fn run(task: &CompareTask) -> Result<Outcome, OpenError> {
    let (a, b) = (course(Some(&task.a), None)?, course(Some(&task.b), None)?);
    let bar = progress("comparing", velocitas_lab::LabTime(task.lasts.0.saturating_mul(2 * u64::from(task.seeds))));
    let one = |course: &Course, seed: u64| -> Result<Run, OpenError> {
        let mut run = Run::new(Course { seed, ..course.clone() })?;
        run.set_keep(Keep::All);
        run.meter();
        advance_to(&mut run, task.lasts, &bar);
        Ok(run)
    };
    let pair = |n: u32| -> Result<Pair, OpenError> {
        let first = |course: &Course| task.seed.unwrap_or(course.seed).wrapping_add(u64::from(n));
        let seeds = (first(&a), first(&b));
        let (left, right) = rayon::join(|| one(&a, seeds.0), || one(&b, seeds.1));
        let (left, right) = (left?, right?);
        let parted = partings(left.record(), right.record());
        let shown = |parting: velocitas_lab::compare::Parting| (left.record().shown(parting.tick), parting);
        Ok(Pair {
            seeds,
            clients: (left.figures().0, right.figures().0),
            partings: parted.into_iter().map(shown).collect(),
        })
    };
    let pairs = (0..task.seeds).into_par_iter().map(pair).collect::<Result<Vec<_>, _>>();
    bar.finish_and_clear();
    let mut differ_in = b.differs_from(&a);
    if task.seed.is_some() {
        differ_in.retain(|key| key != "seed");
    }
    let comparison =
        Comparison { files: (named(&task.a), named(&task.b)), lasts: task.lasts, differ_in, pairs: pairs? };
    let said = match task.report {
        // Names of files may hold anything.
        Report::Text => {
            comparison.text().lines().map(|line| format!("{}\n", velocitas_gait::escaped(line))).collect::<String>()
        }
        Report::Json => comparison.json(),
    };
    say(said)?;
    Ok(if task.fail && !comparison.is_same() { Outcome::Findings } else { Outcome::Good })
}
