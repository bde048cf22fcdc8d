//! What varied settings come to: a row for each cell of a matrix and each measure, for people and for programs.

use std::io::{self, Write};

use serde::ser::{SerializeMap, SerializeSeq};
use serde::{Serialize, Serializer};
use velocitas_analysis::budget::Measure;
use velocitas_lab::vary::{Asked, Cost, Costs, Range};

/// Rows of the table for people, at most.
const MOST_ROWS: usize = 400;

/// A matrix that was run, all of it.
#[derive(Clone, Debug)]
pub struct Varied {
    /// What was asked.
    pub asked: Asked,
    /// What was measured.
    pub measures: Vec<&'static Measure>,
    /// What each cell came to.
    pub costs: Costs,
}

impl Varied {
    /// How many cells there are.
    fn cells(&self) -> usize {
        self.costs.cells()
    }

    fn keys(&self) -> impl Iterator<Item = &str> {
        self.asked.grid.axes.iter().map(|axis| axis.key.as_str())
    }

    /// The bounds: a measure each.
    pub(crate) fn bounds(&self) -> impl Iterator<Item = (usize, f64)> {
        self.asked.limits.iter().enumerate().filter_map(|(place, limit)| limit.map(|limit| (place, limit)))
    }

    /// Whether a cell keeps all bounds, by the median over the seeds: of the worst member, and of the median member.
    pub fn keeps(&self, cell: usize) -> (bool, bool) {
        let costs = self.costs.cell(cell);
        let all = |of: fn(&Cost) -> f64| {
            self.bounds().all(|(place, limit)| {
                costs[place].as_ref().is_none_or(|cost| self.measures[place].is_within(of(cost), limit))
            })
        };
        (all(|cost| cost.worst.median), all(|cost| cost.median.median))
    }

    /// For people: a table with a row for each cell; of each measure the median over the seeds of the worst member and, behind a bar, of the
    /// median member; where there are bounds, who keeps them all.
    pub fn text(&self) -> String {
        let bounded = self.bounds().next().is_some();
        let names = self.measures.iter().map(|measure| measure.key);
        let head = self.keys().chain(names).chain(bounded.then_some("within")).map(str::to_owned);
        let mut rows: Vec<Vec<String>> = vec![head.collect()];
        let told = self.cells().min(MOST_ROWS);
        rows.extend((0..told).map(|cell| self.row(cell, bounded)));
        let columns = rows[0].len();
        let wide = |column: usize| rows.iter().map(|row| row[column].chars().count()).max().unwrap_or(0);
        let widths: Vec<usize> = (0..columns).map(wide).collect();
        let (first, count) = (self.asked.first_seed, self.asked.seeds);
        let s = if count == 1 { "" } else { "s" };
        let mut out = format!(
            "{}: {} s, {count} seed{s} from {first} on, {}; the worst member | the median member\n",
            self.asked.course,
            self.asked.lasts_ns as f64 / 1e9,
            self.asked.whose
        );
        for row in &rows {
            let cells = row.iter().zip(&widths).map(|(cell, width)| format!("  {cell:>width$}"));
            out += &(cells.collect::<String>() + "\n");
        }
        if told < self.cells() {
            out += &format!("  … and {} more; -o FILE.csv has all\n", self.cells() - told);
        }
        out + &self.kept()
    }

    fn row(&self, cell: usize, bounded: bool) -> Vec<String> {
        let costs = self.measures.iter().zip(self.costs.cell(cell)).map(|(measure, cost)| match cost {
            None => "-".to_owned(),
            Some(cost) => format!("{} | {}", measure.shown(cost.worst.median), measure.shown(cost.median.median)),
        });
        let word = |keeps| if keeps { "yes" } else { "no" };
        let (worst, median) = self.keeps(cell);
        let within = bounded.then(|| format!("{} | {}", word(worst), word(median)));
        let values = self.asked.grid.values(cell).into_iter().map(str::to_owned);
        values.chain(costs).chain(within).collect()
    }

    /// How many cells keep all bounds.
    pub(crate) fn kept(&self) -> String {
        let bounds: Vec<String> = self
            .bounds()
            .map(|(place, limit)| {
                let measure = self.measures[place];
                format!("{} {} {}", measure.key, measure.bound.words(), measure.shown(limit))
            })
            .collect();
        if bounds.is_empty() {
            return String::new();
        }
        let keep: Vec<(bool, bool)> = (0..self.cells()).map(|cell| self.keeps(cell)).collect();
        let worst = keep.iter().filter(|(worst, _)| *worst).count();
        let median = keep.iter().filter(|(_, median)| *median).count();
        let (of, bounds) = (self.cells(), bounds.join(", "));
        format!("within {bounds}: {worst} of {of} by the worst member, {median} by the median member\n")
    }

    /// As CSV (RFC 4180): a row for each cell and measure, values in the unit of the measure, shares from 0 to 1.
    ///
    /// # Errors
    /// Those of the writer.
    pub fn csv(&self, out: impl Write) -> io::Result<()> {
        let mut writer = csv::Writer::from_writer(out);
        let head = ["measure", "unit", "worst_least", "worst_median", "worst_greatest"];
        let head = head.into_iter().chain(["median_least", "median_median", "median_greatest"]);
        writer.write_record(self.keys().chain(head))?;
        for cell in 0..self.cells() {
            let values = self.asked.grid.values(cell);
            for (measure, cost) in self.measures.iter().zip(self.costs.cell(cell)) {
                let numbers = match cost {
                    None => vec![String::new(); 6],
                    Some(Cost { worst, median }) => [worst, median]
                        .iter()
                        .flat_map(|range| [range.least, range.median, range.greatest])
                        .map(|number| number.to_string())
                        .collect(),
                };
                let name = [measure.key, measure.unit];
                let cells = values.iter().copied().chain(name).chain(numbers.iter().map(String::as_str));
                writer.write_record(cells)?;
            }
        }
        writer.flush()
    }

    /// As JSON, indented.
    ///
    /// # Errors
    /// Those of the writer.
    pub fn json(&self, mut out: impl Write) -> io::Result<()> {
        serde_json::to_writer_pretty(&mut out, self)?;
        out.write_all(b"\n")
    }
}

impl Serialize for Varied {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("course", &self.asked.course)?;
        map.serialize_entry("settings", &self.keys().collect::<Vec<_>>())?;
        map.serialize_entry("whose", &self.asked.whose)?;
        map.serialize_entry("first_seed", &self.asked.first_seed)?;
        map.serialize_entry("seeds", &self.asked.seeds)?;
        map.serialize_entry("lasts_ms", &(self.asked.lasts_ns as f64 / 1e6))?;
        map.serialize_entry("cells", &JsonCells(self))?;
        map.end()
    }
}

/// All cells, each made as it is written.
struct JsonCells<'a>(&'a Varied);

impl Serialize for JsonCells<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let Self(varied) = self;
        let mut cells = to.serialize_seq(Some(varied.cells()))?;
        for cell in 0..varied.cells() {
            let costs = varied.measures.iter().zip(varied.costs.cell(cell));
            let measures = costs.zip(&varied.asked.limits).map(|((measure, cost), limit)| JsonCost {
                measure: measure.key,
                unit: measure.unit,
                bound: *limit,
                worst_member: cost.map(|cost| JsonRange::of(cost.worst)),
                median_member: cost.map(|cost| JsonRange::of(cost.median)),
            });
            let json = JsonCell { values: varied.asked.grid.values(cell), measures: measures.collect() };
            cells.serialize_element(&json)?;
        }
        cells.end()
    }
}

#[derive(Serialize)]
struct JsonCell<'a> {
    values: Vec<&'a str>,
    measures: Vec<JsonCost>,
}

#[derive(Serialize)]
struct JsonCost {
    measure: &'static str,
    unit: &'static str,
    bound: Option<f64>,
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
