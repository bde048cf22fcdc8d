//! What varied settings come to: a row for each cell of a matrix and each measure, for people and for programs.

use serde::Serialize;
use velocitas_analysis::budget::Measure;
use velocitas_lab::vary::{Cost, Range};
use velocitas_record::LabTime;

use crate::table::quoted;

/// A matrix that was run.
#[derive(Clone, Debug)]
pub struct Varied {
    /// The course, as it was named.
    pub course: String,
    /// The settings that were varied, by their keys.
    pub keys: Vec<String>,
    /// What was measured.
    pub measures: Vec<&'static Measure>,
    /// Over whom: all, a link or a member.
    pub whose: String,
    /// The first seed, and how many.
    pub seeds: (u64, u32),
    /// How long each run was.
    pub lasts: LabTime,
    /// Each cell, in the order of the matrix.
    pub cells: Vec<Cell>,
}

/// A cell of the matrix.
#[derive(Clone, Debug)]
pub struct Cell {
    /// Its value of each setting, as it is shown.
    pub values: Vec<String>,
    /// What each measure came to; `None` where nobody had any.
    pub costs: Vec<Option<Cost>>,
}

#[derive(Serialize)]
struct Json<'a> {
    course: &'a str,
    settings: &'a [String],
    whose: &'a str,
    first_seed: u64,
    seeds: u32,
    lasts_ms: f64,
    cells: Vec<JsonCell<'a>>,
}

#[derive(Serialize)]
struct JsonCell<'a> {
    values: &'a [String],
    measures: Vec<JsonCost<'a>>,
}

#[derive(Serialize)]
struct JsonCost<'a> {
    measure: &'a str,
    unit: &'a str,
    worst_member: Option<JsonRange>,
    median_member: Option<JsonRange>,
}

#[derive(Serialize)]
struct JsonRange {
    least: f64,
    median: f64,
    greatest: f64,
}

impl JsonRange {
    const fn of(range: Range) -> Self {
        let Range { least, median, greatest } = range;
        Self { least, median, greatest }
    }
}

impl Varied {
    /// For people: a table with a row for each cell; of each measure the median over the seeds of the worst member and, behind a bar, of the
    /// median member.
    pub fn text(&self) -> String {
        let mut rows = vec![self.keys.iter().cloned().chain(self.measures.iter().map(|m| m.key.to_owned())).collect()];
        for cell in &self.cells {
            let costs = self.measures.iter().zip(&cell.costs).map(|(measure, cost)| match cost {
                None => "-".to_owned(),
                Some(cost) => format!("{} | {}", measure.shown(cost.worst.median), measure.shown(cost.median.median)),
            });
            rows.push(cell.values.iter().cloned().chain(costs).collect::<Vec<String>>());
        }
        let columns = rows[0].len();
        let wide = |column: usize| rows.iter().map(|row| row[column].chars().count()).max().unwrap_or(0);
        let widths: Vec<usize> = (0..columns).map(wide).collect();
        let (first, count) = self.seeds;
        let s = if count == 1 { "" } else { "s" };
        let mut out = format!(
            "{}: {} s, {count} seed{s} from {first} on, {}; the worst member | the median member\n",
            self.course,
            self.lasts.secs(),
            self.whose
        );
        for row in &rows {
            let cells = row.iter().zip(&widths).map(|(cell, width)| format!("  {cell:>width$}"));
            out += &(cells.collect::<String>() + "\n");
        }
        out
    }

    /// As CSV (RFC 4180): a row for each cell and measure, values in the unit of the measure, shares from 0 to 1.
    pub fn csv(&self) -> String {
        let head = ["measure", "unit", "worst_least", "worst_median", "worst_greatest"];
        let head = head.into_iter().chain(["median_least", "median_median", "median_greatest"]).map(str::to_owned);
        let mut rows: Vec<Vec<String>> = vec![self.keys.iter().cloned().chain(head).collect()];
        for cell in &self.cells {
            for (measure, cost) in self.measures.iter().zip(&cell.costs) {
                let numbers = match cost {
                    None => vec![String::new(); 6],
                    Some(Cost { worst, median }) => [worst, median]
                        .iter()
                        .flat_map(|range| [range.least, range.median, range.greatest])
                        .map(|number| number.to_string())
                        .collect(),
                };
                let name = [measure.key.to_owned(), measure.unit.to_owned()];
                rows.push(cell.values.iter().cloned().chain(name).chain(numbers).collect());
            }
        }
        quoted(&rows)
    }

    /// As JSON, indented.
    pub fn json(&self) -> String {
        let cost = |(measure, cost): (&&'static Measure, &Option<Cost>)| JsonCost {
            measure: measure.key,
            unit: measure.unit,
            worst_member: cost.map(|cost| JsonRange::of(cost.worst)),
            median_member: cost.map(|cost| JsonRange::of(cost.median)),
        };
        let measures = |cell: &Cell| self.measures.iter().zip(&cell.costs).map(cost).collect();
        let json = Json {
            course: &self.course,
            settings: &self.keys,
            whose: &self.whose,
            first_seed: self.seeds.0,
            seeds: self.seeds.1,
            lasts_ms: self.lasts.millis(),
            cells: self.cells.iter().map(|of| JsonCell { values: &of.values, measures: measures(of) }).collect(),
        };
        serde_json::to_string_pretty(&json).unwrap_or_default() + "\n"
    }
}
