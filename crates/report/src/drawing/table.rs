//! The numbers behind a drawing, as CSV: a row for each thing drawn, in the units of its plot's axes.

use super::{Drawing, Mark};
use crate::table::quoted;

/// The columns.
const HEAD: [&str; 12] =
    ["plot", "across_unit", "up_unit", "mark", "series", "tone", "x", "x_to", "y", "y_least", "y_most", "label"];

/// The table of a drawing.
pub fn table(drawing: &Drawing) -> String {
    let mut rows: Vec<Vec<String>> = vec![HEAD.map(str::to_owned).to_vec()];
    for plot in &drawing.plots {
        let mut row = |mark: &str, series: &str, tone: &str, numbers: [Option<f64>; 5], label: &str| {
            let mut cells =
                vec![plot.name.clone(), plot.across.unit.to_owned(), plot.up.unit.to_owned(), mark.to_owned()];
            cells.extend([series.to_owned(), tone.to_owned()]);
            cells.extend(numbers.map(|number| number.map_or_else(String::new, |number| number.to_string())));
            cells.push(label.to_owned());
            rows.push(cells);
        };
        for mark in &plot.marks {
            match mark {
                Mark::Band { series, spans, tone, ghost, .. } => {
                    let mark = if *ghost { "ghost" } else { "band" };
                    for s in spans {
                        let numbers = [Some(s.from), Some(s.to), Some(s.last), Some(s.least), Some(s.most)];
                        row(mark, series, tone.name(), numbers, "");
                    }
                }
                Mark::Path { series, points, tone, .. } => {
                    for (x, y) in points {
                        row("path", series, tone.name(), [Some(*x), None, Some(*y), None, None], "");
                    }
                }
                Mark::Point { series, at, tone, label, .. } => {
                    row("point", series, tone.name(), [Some(at.0), None, Some(at.1), None, None], label);
                }
                Mark::Area { series, corners, tone } => {
                    for (x, y) in corners {
                        row("area", series, tone.name(), [Some(*x), None, Some(*y), None, None], "");
                    }
                }
                Mark::Cell { series, at, tone, label, .. } => {
                    row("cell", series, tone.name(), [Some(at.0), Some(at.0 + 1.0), Some(at.1), None, None], label);
                }
                Mark::Rule { series, at, level, tone } => {
                    let numbers =
                        if *level { [None, None, Some(*at), None, None] } else { [Some(*at), None, None, None, None] };
                    row("rule", series, tone.name(), numbers, "");
                }
            }
        }
    }
    quoted(&rows)
}
