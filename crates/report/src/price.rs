//! What varied settings cost, drawn: curves with their spread over one setting, a map over two.

use velocitas_analysis::budget::{Bound, Measure};
use velocitas_lab::vary::{Cost, Grid, Range};
use velocitas_record::Takes;

use crate::drawing::{Axis, Drawing, Mark, Plot, Shape, Tone};
use crate::vary::Varied;

/// More values than this are not drawn one by one.
const MOST_NAMED: usize = 24;
/// More values than this of a setting do not fit a page.
const MOST_DRAWN: usize = 400;
/// Rows of a map that are as high as a plot of weight 1.
const ROWS: usize = 4;
/// How high curves are.
const HIGH: u32 = 2;

/// What lies where: the settings that have more than one value.
enum Layout {
    /// Curves over a setting, or over all in step.
    Curves(usize),
    /// A map: the second setting across, the first down.
    Map(usize, usize),
}

impl Layout {
    fn of(grid: &Grid) -> Result<Self, String> {
        let varied: Vec<usize> = (0..grid.axes.len()).filter(|axis| grid.axes[*axis].values.len() > 1).collect();
        if let Some(axis) = grid.axes.iter().find(|axis| axis.values.len() > MOST_DRAWN) {
            let (key, found) = (&axis.key, axis.values.len());
            return Err(format!(
                "expected at most {MOST_DRAWN} values of `{key}` to draw; found {found}: .csv has all"
            ));
        }
        match varied[..] {
            _ if grid.in_step => Ok(Self::Curves(varied.first().copied().unwrap_or(0))),
            [] => Ok(Self::Curves(0)),
            [one] => Ok(Self::Curves(one)),
            [down, across] => Ok(Self::Map(down, across)),
            _ => Err(format!(
                "expected one or two settings with several values to draw, or --pair; found {}: .csv has all",
                varied.len()
            )),
        }
    }
}

/// Whether a matrix can be drawn.
///
/// # Errors
/// When it has too many settings or values: says what to do.
pub fn can_be_drawn(grid: &Grid) -> Result<(), String> {
    Layout::of(grid).map(drop)
}

/// The drawing of a matrix.
///
/// # Errors
/// When it cannot be drawn.
pub fn prices(varied: &Varied) -> Result<Drawing, String> {
    let asked = &varied.asked;
    let layout = Layout::of(&asked.grid)?;
    let mut plots: Vec<Plot> = (0..varied.measures.len())
        .map(|place| match layout {
            Layout::Curves(axis) => curves(varied, place, axis),
            Layout::Map(down, across) => map(varied, Some(place), (down, across)),
        })
        .collect();
    if let Layout::Map(down, across) = layout
        && varied.bounds().count() > 1
    {
        plots.push(map(varied, None, (down, across)));
    }
    let several = asked.grid.axes.iter().filter(|axis| axis.values.len() > 1);
    let keys: Vec<&str> = several.map(|axis| axis.key.as_str()).collect();
    let cost = if keys.len() == 1 { "costs" } else { "cost" };
    let s = if asked.seeds == 1 { "" } else { "s" };
    let (secs, first) = (asked.lasts_ns as f64 / 1e9, asked.first_seed);
    let mut facts = vec![format!("{secs} s each, {} seed{s} from {first} on; over {}", asked.seeds, asked.whose)];
    let fixed = asked.grid.axes.iter().filter(|axis| axis.values.len() == 1);
    facts.extend(fixed.map(|axis| format!("{} {}", axis.key, axis.values[0])));
    facts.extend(varied.kept().lines().map(str::to_owned));
    Ok(Drawing { title: format!("{}: what {} {cost}", asked.course, keys.join(" and ")), facts, plots })
}

/// One measure over the values of a setting, as far as they were tried.
#[derive(Clone, Copy, Debug)]
pub struct Tried<'a> {
    /// What was measured.
    pub measure: &'static Measure,
    /// By value, from the lowest on; `None` where it was not tried yet or there was nothing to measure.
    pub costs: &'a [Option<f64>],
    /// The value in force.
    pub in_force: usize,
    /// The value that is chosen.
    pub chosen: usize,
    /// What the course allows.
    pub limit: Option<f64>,
}

/// A small plot of it, without words.
pub fn tried(of: Tried<'_>) -> Plot {
    let Tried { measure, costs, in_force, chosen, limit } = of;
    let (least, most) = ends(costs.iter().flatten().copied().chain(limit));
    let (times, unit) = scale(measure, most);
    let there = || costs.iter().enumerate().filter_map(|(place, cost)| cost.map(|cost| (place, cost * times)));
    let mut marks = Vec::new();
    if let Some(limit) = limit {
        let at = limit * times;
        marks.push(Mark::Rule { series: "bound".to_owned(), at, level: true, tone: Tone::Fault });
    }
    let at = in_force as f64;
    marks.push(Mark::Rule { series: "in force".to_owned(), at, level: false, tone: Tone::Line });
    let points: Vec<(f64, f64)> = there().map(|(place, cost)| (place as f64, cost)).collect();
    for (place, point) in there().map(|(place, _)| place).zip(&points) {
        let (shape, tone) = match place {
            _ if place == chosen => (Shape::Dot, Tone::Bright),
            _ if place == in_force => (Shape::Ring, Tone::Plain),
            _ => (Shape::Notch, Tone::Muted),
        };
        marks.push(Mark::Point { series: measure.key.to_owned(), at: *point, shape, tone, label: String::new() });
    }
    marks.push(Mark::Path { series: measure.key.to_owned(), points, tone: Tone::Bright, dashed: true });
    Plot {
        name: measure.name.to_owned(),
        across: Axis::linear("", "", (-0.5, costs.len() as f64 - 0.5)),
        up: Axis::holding(measure.name, unit, least * times, most * times),
        marks,
        legend: Vec::new(),
        weight: 1,
        even: false,
    }
}

/// By what values are multiplied to be drawn, and the unit that they have then: shares in per cent, many bytes in kilobytes.
fn scale(measure: &Measure, most: f64) -> (f64, &'static str) {
    match measure.takes {
        Takes::Share => (100.0, "%"),
        Takes::Flow if most >= 1000.0 => (1e-3, "kB/s"),
        _ => (1.0, measure.unit),
    }
}

/// The least and the greatest of what is drawn, with nothing among them.
fn ends(values: impl Iterator<Item = f64>) -> (f64, f64) {
    values.fold((0.0, 0.0), |(least, most), value| (f64::min(least, value), f64::max(most, value)))
}

/// One measure over one setting.
fn curves(varied: &Varied, place: usize, axis: usize) -> Plot {
    let (measure, limit) = (varied.measures[place], varied.asked.limits[place]);
    let (across, at) = across(&varied.asked.grid, axis);
    let mut cells: Vec<(f64, Option<Cost>)> =
        (0..varied.costs.cells()).map(|cell| (at[cell], varied.costs.cell(cell)[place])).collect();
    cells.sort_by(|a, b| a.0.total_cmp(&b.0));
    let values = cells.iter().filter_map(|(_, cost)| *cost);
    let all = values.flat_map(|cost| [cost.worst.least, cost.worst.greatest, cost.median.least, cost.median.greatest]);
    let (least, most) = ends(all.chain(limit));
    let (times, unit) = scale(measure, most);
    let mut marks = Vec::new();
    for (name, of, tone) in
        [("worst member", worst as fn(&Cost) -> Range, Tone::Wall), ("median member", median, Tone::Line)]
    {
        marks.extend(spread(&cells, times, (name, of, tone)));
    }
    if let Some(limit) = limit {
        let at = limit * times;
        marks.push(Mark::Rule { series: "bound".to_owned(), at, level: true, tone: Tone::Fault });
    }
    marks.extend(line(&cells, times, ("median member", median, Tone::Muted)));
    marks.extend(line(&cells, times, ("worst member", worst, Tone::Bright)));
    let mut legend = vec![
        (Tone::Bright, "worst member".to_owned()),
        (Tone::Muted, "dashed: median member".to_owned()),
        (Tone::Muted, "grey: least to greatest over the seeds".to_owned()),
    ];
    legend.extend(limit.map(|limit| (Tone::Fault, format!("{} {}", measure.bound.words(), measure.shown(limit)))));
    Plot {
        name: measure.name.to_owned(),
        across,
        up: Axis::holding(measure.name, unit, least * times, most * times),
        marks,
        legend,
        weight: HIGH,
        even: false,
    }
}

const fn worst(cost: &Cost) -> Range {
    cost.worst
}

const fn median(cost: &Cost) -> Range {
    cost.median
}

/// The horizontal axis of a setting, and where each cell lies on it.
fn across(grid: &Grid, axis: usize) -> (Axis, Vec<f64>) {
    let of = &grid.axes[axis];
    let even: Vec<f64> = (0..of.values.len()).map(|place| place as f64).collect();
    let numbers = of.numbers.as_ref().filter(|_| !grid.in_step).unwrap_or(&even);
    let (least, most) = numbers.iter().fold((f64::MAX, f64::MIN), |(a, b), x| (a.min(*x), b.max(*x)));
    let ends = if most > least { (least, most) } else { (least - 1.0, most + 1.0) };
    let keys: Vec<&str> = grid.axes.iter().map(|axis| axis.key.as_str()).collect();
    let name = if grid.in_step { keys.join(", ") } else { of.key.clone() };
    let is_numbered = of.numbers.is_some() && !grid.in_step && of.values.len() > MOST_NAMED;
    let name = if is_numbered && !of.unit.is_empty() { format!("{name}, {}", of.unit) } else { name };
    let mut across = Axis::linear(&name, "", ends);
    let words = |place: usize| match grid.in_step {
        true => grid.values(place).join(", "),
        false => of.values[place].clone(),
    };
    if !is_numbered {
        across.named = numbers.iter().enumerate().map(|(place, at)| (*at, words(place))).collect();
    }
    let at = (0..grid.cells()).map(|cell| numbers[grid.places(cell)[axis]]).collect();
    (across, at)
}

/// Neighbours of whom something was measured, without those of whom nothing was.
fn runs<'a>(
    cells: &'a [(f64, Option<Cost>)],
    times: f64,
    of: fn(&Cost) -> Range,
) -> impl Iterator<Item = Vec<(f64, Range)>> + 'a {
    cells.split(|(_, cost)| cost.is_none()).filter(|run| !run.is_empty()).map(move |run| {
        let there = run.iter().filter_map(|(at, cost)| cost.as_ref().map(|cost| (*at, of(cost))));
        let drawn = |value| value * times;
        there
            .map(|(at, r)| (at, Range { least: drawn(r.least), median: drawn(r.median), greatest: drawn(r.greatest) }))
            .collect()
    })
}

type Series = (&'static str, fn(&Cost) -> Range, Tone);

/// From the least to the greatest over the seeds.
fn spread(cells: &[(f64, Option<Cost>)], times: f64, (name, of, tone): Series) -> Vec<Mark> {
    let area = |run: Vec<(f64, Range)>| {
        let up = run.iter().map(|(at, range)| (*at, range.greatest));
        let back = run.iter().rev().map(|(at, range)| (*at, range.least));
        Mark::Area { series: format!("{name}, spread"), corners: up.chain(back).collect(), tone }
    };
    runs(cells, times, of).filter(|run| run.len() > 1).map(area).collect()
}

/// The median over the seeds, with a point for each cell.
fn line(cells: &[(f64, Option<Cost>)], times: f64, (name, of, tone): Series) -> Vec<Mark> {
    let dashed = name != "worst member";
    let mut marks = Vec::new();
    for run in runs(cells, times, of) {
        let points: Vec<(f64, f64)> = run.iter().map(|(at, range)| (*at, range.median)).collect();
        let shape = if dashed { Shape::Ring } else { Shape::Dot };
        if points.len() <= MOST_NAMED {
            marks.extend(points.iter().map(|at| Mark::Point {
                series: name.to_owned(),
                at: *at,
                shape,
                tone,
                label: String::new(),
            }));
        }
        marks.push(Mark::Path { series: name.to_owned(), points, tone, dashed });
    }
    marks
}

/// One measure over two settings, or whether all bounds are kept.
fn map(varied: &Varied, place: Option<usize>, (down, across): (usize, usize)) -> Plot {
    let grid = &varied.asked.grid;
    let (rows, columns) = (grid.axes[down].values.len(), grid.axes[across].values.len());
    let mut keeps = vec![vec![(false, false); columns]; rows];
    let mut marks = Vec::new();
    let values: Vec<f64> = (0..varied.costs.cells()).filter_map(|cell| shade(varied, place, cell)).collect();
    let (least, most) = values.iter().fold((f64::MAX, f64::MIN), |(a, b), x| (a.min(*x), b.max(*x)));
    for cell in 0..varied.costs.cells() {
        let places = grid.places(cell);
        let (row, column) = (places[down], places[across]);
        let (at, words) = ((column as f64, row as f64), words(varied, place, cell));
        let share =
            shade(varied, place, cell).map_or(0.0, |x| if most > least { (x - least) / (most - least) } else { 0.0 });
        keeps[row][column] = kept(varied, place, cell);
        let (series, tone) = (grid.values(cell).join(", "), Tone::Muted);
        marks.push(Mark::Cell { series, at, share, tone, label: words });
    }
    let bound = place.and_then(|place| varied.asked.limits[place]);
    let is_bounded = place.is_none() || bound.is_some();
    if is_bounded {
        marks.extend(border(&keeps, |keeps| keeps.1, ("the median member keeps it", Tone::Authority, true)));
        marks.extend(border(&keeps, |keeps| keeps.0, ("the worst member keeps it", Tone::Bright, false)));
    }
    let axis = |key: usize, ends: (f64, f64)| {
        let names = grid.axes[key].values.iter().enumerate().map(|(place, name)| (place as f64 + 0.5, name.clone()));
        Axis { named: names.collect(), ..Axis::linear(&grid.axes[key].key, "", ends) }
    };
    Plot {
        name: map_name(varied, place, &grid.axes[down].key),
        across: axis(across, (0.0, columns as f64)),
        up: axis(down, (rows as f64, 0.0)),
        marks,
        legend: match is_bounded {
            true => vec![
                (Tone::Bright, "inside: the worst member keeps it".to_owned()),
                (Tone::Authority, "dashed: the median member".to_owned()),
            ],
            false => Vec::new(),
        },
        weight: rows.div_ceil(ROWS).max(1) as u32,
        even: false,
    }
}

fn map_name(varied: &Varied, place: Option<usize>, down: &str) -> String {
    let Some(place) = place else { return format!("all bounds kept: worst | median member; down: {down}") };
    let measure = varied.measures[place];
    let bound = varied.asked.limits[place].map_or_else(String::new, |limit| {
        let words = match measure.bound {
            Bound::Most => "at most",
            Bound::Least => "at least",
        };
        format!(", {words} {}", measure.shown(limit))
    });
    format!("{}{bound}: worst | median member; down: {down}", measure.name)
}

/// By what a cell is shaded: the worst member's.
fn shade(varied: &Varied, place: Option<usize>, cell: usize) -> Option<f64> {
    match place {
        Some(place) => varied.costs.cell(cell)[place].map(|cost| cost.worst.median),
        None => Some(f64::from(u8::from(varied.keeps(cell).0))),
    }
}

fn words(varied: &Varied, place: Option<usize>, cell: usize) -> String {
    let Some(place) = place else {
        let (worst, median) = varied.keeps(cell);
        let word = |keeps| if keeps { "yes" } else { "no" };
        return format!("{} | {}", word(worst), word(median));
    };
    let measure = varied.measures[place];
    varied.costs.cell(cell)[place].map_or_else(
        || "-".to_owned(),
        |cost| format!("{} | {}", measure.shown(cost.worst.median), measure.shown(cost.median.median)),
    )
}

/// Whether the worst and the median member keep a bound, or all.
fn kept(varied: &Varied, place: Option<usize>, cell: usize) -> (bool, bool) {
    let Some(place) = place else { return varied.keeps(cell) };
    let (measure, limit) = (varied.measures[place], varied.asked.limits[place]);
    let within = |of: fn(&Cost) -> Range| {
        let cost = varied.costs.cell(cell)[place];
        limit.zip(cost).is_some_and(|(limit, cost)| measure.is_within(of(&cost).median, limit))
    };
    (within(worst), within(median))
}

/// The line around cells that keep a bound.
fn border(
    keeps: &[Vec<(bool, bool)>],
    of: fn(&(bool, bool)) -> bool,
    (series, tone, dashed): (&str, Tone, bool),
) -> Vec<Mark> {
    let is_in = |row: Option<usize>, column: Option<usize>| {
        row.zip(column).and_then(|(row, column)| keeps.get(row)?.get(column)).is_some_and(of)
    };
    let mut marks = Vec::new();
    let mut stroke = |from: (usize, usize), to: (usize, usize)| {
        let point = |(x, y): (usize, usize)| (x as f64, y as f64);
        marks.push(Mark::Path { series: series.to_owned(), points: vec![point(from), point(to)], tone, dashed });
    };
    let (rows, columns) = (keeps.len(), keeps.first().map_or(0, Vec::len));
    for row in 0..=rows {
        for column in 0..=columns {
            let (above, left) = (row.checked_sub(1), column.checked_sub(1));
            if column < columns && is_in(above, Some(column)) != is_in(Some(row), Some(column)) {
                stroke((column, row), (column + 1, row));
            }
            if row < rows && is_in(Some(row), left) != is_in(Some(row), Some(column)) {
                stroke((column, row), (column, row + 1));
            }
        }
    }
    marks
}

#[cfg(test)]
mod tests {
    use velocitas_lab::vary::{Asked, Costs, GridAxis, Part, VARY_FORMAT};

    use super::*;
    use crate::drawing::{Theme, pdf, svg};

    fn axis(key: &str, values: &[f64], unit: &str) -> GridAxis {
        let shown = values.iter().map(|value| format!("{value} {unit}")).collect();
        GridAxis { key: key.to_owned(), values: shown, numbers: Some(values.to_vec()), unit: unit.to_owned() }
    }

    /// A matrix whose view age and bytes are what `of` says of each cell: with two seeds, of one member and a worse one.
    fn varied(axes: Vec<GridAxis>, in_step: bool, of: impl Fn(&[usize]) -> Option<[f64; 2]>) -> Varied {
        let measures: Vec<&'static Measure> =
            ["view_age", "bytes_down"].into_iter().filter_map(Measure::named).collect();
        let grid = Grid { axes, in_step };
        let mut costs = Costs::new(measures.clone(), 2);
        for cell in 0..grid.cells() {
            let values = of(&grid.places(cell));
            for more in [0.0, 10.0] {
                let both = |place: usize| values.map_or(Vec::new(), |v| vec![v[place] + more, v[place] + more + 40.0]);
                costs.add(vec![both(0), both(1)]);
            }
        }
        let asked = Asked {
            vary: VARY_FORMAT,
            program: String::new(),
            course: "pier.course.toml".to_owned(),
            digest: String::new(),
            grid,
            measures: measures.iter().map(|measure| measure.key.to_owned()).collect(),
            limits: vec![Some(200.0), Some(3000.0)],
            whose: "all".to_owned(),
            first_seed: 4,
            seeds: 2,
            lasts_ns: 6_000_000_000,
            part: Part::WHOLE,
        };
        Varied { asked, measures, costs }
    }

    fn paths<'a>(plot: &'a Plot, wanted: &str) -> Vec<&'a [(f64, f64)]> {
        let path = |mark: &'a Mark| match mark {
            Mark::Path { series, points, .. } if series == wanted => Some(points.as_slice()),
            _ => None,
        };
        plot.marks.iter().filter_map(path).collect()
    }

    #[test]
    fn a_curve_goes_through_the_medians_in_the_order_of_its_axis_and_stops_where_nothing_was() {
        let of = |places: &[usize]| (places[0] != 3).then(|| [100.0 + 10.0 * places[0] as f64, 2000.0]);
        let varied = varied(vec![axis("latency", &[90.0, 10.0, 50.0, 70.0, 60.0], "ms")], false, of);
        let drawing = prices(&varied).expect("it can be drawn");
        assert_eq!(drawing.plots.len(), 2);
        let plot = &drawing.plots[0];
        let worst = paths(plot, "worst member");
        assert_eq!(worst, [&[(10.0, 150.0), (50.0, 160.0), (60.0, 180.0)][..], &[(90.0, 140.0)]]);
        assert_eq!(paths(plot, "median member")[0], [(10.0, 110.0), (50.0, 120.0), (60.0, 140.0)]);
        let spread = plot.marks.iter().find_map(|mark| match mark {
            Mark::Area { series, corners, .. } if series == "worst member, spread" => Some(corners.clone()),
            _ => None,
        });
        let corners = vec![(10.0, 160.0), (50.0, 170.0), (60.0, 190.0), (60.0, 180.0), (50.0, 160.0), (10.0, 150.0)];
        assert_eq!(spread, Some(corners));
        assert!(plot.marks.iter().any(|mark| matches!(mark, Mark::Rule { at: 200.0, level: true, .. })));
        assert!(plot.up.from <= 100.0 && plot.up.to >= 200.0);
    }

    #[test]
    fn the_line_on_a_map_runs_around_the_cells_that_keep_the_bound() {
        // The worst member is 40 ms worse than the other: 150, 190, 230 across, and all beyond in the second row.
        let of = |places: &[usize]| Some([110.0 + 40.0 * places[1] as f64 + 500.0 * places[0] as f64, 2000.0]);
        let axes = vec![axis("snapshot_every", &[1.0, 3.0], "tick"), axis("latency", &[0.0, 40.0, 80.0], "ms")];
        let varied = varied(axes, false, of);
        let drawing = prices(&varied).expect("it can be drawn");
        assert_eq!(drawing.plots.len(), 3, "two measures, and all bounds");
        for plot in [&drawing.plots[0], &drawing.plots[2]] {
            let mut inside = paths(plot, "the worst member keeps it");
            inside.sort_by(|a, b| a.partial_cmp(b).expect("numbers"));
            let around = [
                [(0.0, 0.0), (0.0, 1.0)],
                [(0.0, 0.0), (1.0, 0.0)],
                [(0.0, 1.0), (1.0, 1.0)],
                [(1.0, 0.0), (2.0, 0.0)],
                [(1.0, 1.0), (2.0, 1.0)],
                [(2.0, 0.0), (2.0, 1.0)],
            ];
            assert_eq!(inside, around, "{}", plot.name);
            assert_eq!(paths(plot, "the median member keeps it").len(), 8, "one cell further");
        }
        let text = varied.text();
        assert!(
            text.ends_with("bytes_down at most 3 kB/s: 2 of 6 by the worst member, 3 by the median member\n"),
            "{text}"
        );
        let page = svg(&drawing, Theme::Light);
        for wanted in ["150 ms | 110 ms", "what snapshot_every and latency cost", "yes | yes", "no | yes", "80 ms"] {
            assert!(page.contains(wanted), "{wanted} in {page}");
        }
        assert!(pdf(&drawing, Theme::Dark).expect("there is a font").starts_with(b"%PDF"));
    }

    #[test]
    fn settings_in_step_are_one_axis_and_more_than_two_are_refused() {
        let of = |places: &[usize]| Some([100.0 + places[0] as f64, 1.0]);
        let axes = || vec![axis("a", &[1.0, 2.0], ""), axis("b", &[3.0, 4.0], ""), axis("c", &[5.0, 6.0], "")];
        let drawing = prices(&varied(axes(), true, of)).expect("it can be drawn");
        let names: Vec<&str> = drawing.plots[0].across.named.iter().map(|(_, name)| name.as_str()).collect();
        assert_eq!(names, ["1 , 3 , 5 ", "2 , 4 , 6 "]);
        let three = prices(&varied(axes(), false, of)).expect_err("they are three");
        assert!(three.contains("expected one or two settings") && three.contains("found 3"), "{three}");
        let fixed = vec![axis("a", &[1.0], ""), axis("b", &[3.0, 4.0], ""), axis("c", &[5.0], "")];
        let drawing = prices(&varied(fixed, false, of)).expect("one of them has several values");
        assert!(drawing.facts.contains(&"a 1 ".to_owned()) && drawing.title.ends_with("what b costs"));
    }
}
