//! `velocitas vary --merge`: what all parts of a matrix came to, taken together.

use std::path::{Path, PathBuf};

use velocitas_lab::vary::{Asked, Costs, Part};
use velocitas_report::drawing::Theme;
use velocitas_report::vary::Varied;

use super::super::Outcome;
use super::ask::measure;
use super::form::Form;
use super::tell;
use crate::files::{OpenError, Outputs, Results, named};

/// Missing parts that are named, at most.
const MOST_NAMED: usize = 12;

/// A part that was read.
struct Read {
    path: PathBuf,
    asked: Asked,
    costs: Costs,
    /// Runs whose results are there.
    runs: usize,
}

pub(super) fn run(paths: &[PathBuf], theme: Theme, output: Option<&Path>) -> Result<Outcome, OpenError> {
    let mut parts = paths.iter().map(|path| read(path)).collect::<Result<Vec<_>, _>>()?;
    let Some(first) = parts.first() else { return Ok(Outcome::Good) };
    for part in &parts {
        belongs(first, part)?;
    }
    parts.sort_by_key(|part| part.asked.part.number);
    if let Some([one, two]) =
        parts.windows(2).find(|pair| pair[0].asked.part == pair[1].asked.part).map(|pair| [&pair[0], &pair[1]])
    {
        let (part, one, two) = (one.asked.part.number, named(&one.path), named(&two.path));
        return Err(OpenError::Usage(format!("expected each part once; part {part} is in {one} and in {two}")));
    }
    all_there(&parts)?;
    let mut output_of = Outputs::beside(paths);
    let asked = Asked { part: Part::WHOLE, ..parts[0].asked.clone() };
    let output = Form::open(output, &asked.grid, &mut output_of)?;
    let measures = asked.measures.iter().map(|key| measure(key)).collect::<Result<Vec<_>, _>>()?;
    let costs: Vec<Costs> = parts.into_iter().map(|part| part.costs).collect();
    if let Some(costs) = Costs::of_parts(&costs, asked.grid.cells()) {
        tell(&Varied { asked, measures, costs }, theme, output)?;
    }
    Ok(Outcome::Good)
}

fn read(path: &Path) -> Result<Read, OpenError> {
    let results = Results::open(path)?;
    let asked = results.asked.clone();
    let measures = asked.measures.iter().map(|key| measure(key)).collect::<Result<Vec<_>, _>>()?;
    let mut costs = Costs::new(measures, asked.seeds);
    let runs = results.each(|came| costs.add(came.values))?;
    Ok(Read { path: path.to_owned(), asked, costs, runs })
}

/// Whether two parts are of the same matrix.
fn belongs(first: &Read, other: &Read) -> Result<(), OpenError> {
    let of = |read: &Read| format!("{} parts", read.asked.part.of);
    let parts = (of(first) != of(other)).then(|| format!("expected one of {}; found one of {}", of(first), of(other)));
    match first.asked.differs_from(&other.asked).or(parts) {
        None => Ok(()),
        Some(why) => {
            let (first, other) = (named(&first.path), named(&other.path));
            Err(OpenError::Usage(format!("{other} does not belong to {first}: {why}")))
        }
    }
}

/// Names what is missing.
fn all_there(parts: &[Read]) -> Result<(), OpenError> {
    let of = parts.first().map_or(0, |part| part.asked.part.of);
    let missing: Vec<String> = (1..=of)
        .filter_map(|number| match parts.iter().find(|part| part.asked.part.number == number) {
            None => Some(format!("part {number}/{of} is missing")),
            Some(part) if part.runs < part.asked.runs() => {
                let (path, there, all) = (named(&part.path), part.runs, part.asked.runs());
                Some(format!("part {number}/{of} ({path}) has {there} of {all} runs: run it again, it goes on"))
            }
            Some(_) => None,
        })
        .collect();
    if missing.is_empty() {
        return Ok(());
    }
    let more = missing.len().saturating_sub(MOST_NAMED);
    let more = if more > 0 { format!("\nand {more} more") } else { String::new() };
    let told = missing[..missing.len().min(MOST_NAMED)].join("\n");
    Err(OpenError::Usage(format!("expected all parts, whole:\n{told}{more}")))
}
