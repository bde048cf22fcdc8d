//! Charts as SVG.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use thiserror::Error;
use velocitas_core::{Fact, Restored};
use velocitas_lab::metrics::prediction_errors;
use velocitas_lab::record::Record;
use velocitas_lab::{Happening, LabTime, MachineId};

/// What a chart is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Of {
    /// First prediction against authority, for every tick, with each correction's jump.
    Error,
}

/// Why there is no chart.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ChartError {
    /// Nothing to draw.
    #[error("nothing was predicted by {0} in that time, so there is no error to draw")]
    Empty(String),
    /// The drawing library gave up.
    #[error("the chart could not be drawn: {0}")]
    Draw(String),
}

const SIZE: (u32, u32) = (960, 420);
const GROUND: RGBColor = RGBColor(0x0b, 0x0e, 0x14);
const TEXT: RGBColor = RGBColor(0xc9, 0xd1, 0xd9);
const MUTED: RGBColor = RGBColor(0x6e, 0x78, 0x88);
const LINE: RGBColor = RGBColor(0x3a, 0x43, 0x54);
const PREDICTED: RGBColor = RGBColor(0xf5, 0xb9, 0x42);
const CORRECTION: RGBColor = RGBColor(0xff, 0x7a, 0x62);

/// The smallest error told apart from none: a tenth of a millimetre.
const LEAST: f64 = 1e-4;

/// A chart of a machine between two moments, as SVG text.
///
/// # Errors
/// When there is nothing to draw.
pub fn chart(record: &Record, of: Of, machine: MachineId, from: LabTime, to: LabTime) -> Result<String, ChartError> {
    match of {
        Of::Error => error_chart(record, machine, from, to),
    }
}

fn error_chart(record: &Record, machine: MachineId, from: LabTime, to: LabTime) -> Result<String, ChartError> {
    let name = record.cast.name(machine).to_owned();
    let errors = prediction_errors(record, machine, from, to);
    if errors.is_empty() {
        return Err(ChartError::Empty(name));
    }
    let jumps: Vec<(f64, f64)> = record
        .of(machine)
        .happenings
        .iter()
        .filter(|r| r.at >= from && r.at <= to)
        .filter_map(|r| match r.what {
            Happening::Fact(Fact::Corrected(c)) if c.why != Restored::Settled => Some((r.at.secs(), f64::from(c.jump))),
            _ => None,
        })
        .collect();
    let mut svg = String::new();
    let title = format!("{}: {name}, prediction error and corrections", record.cast.title);
    draw(&mut svg, &title, &errors, &jumps, (from.secs(), to.secs())).map_err(|e| ChartError::Draw(e.to_string()))?;
    Ok(svg)
}

type Drawn = Result<(), Box<dyn std::error::Error>>;

fn draw(svg: &mut String, title: &str, errors: &[(LabTime, f64)], jumps: &[(f64, f64)], time: (f64, f64)) -> Drawn {
    let top = errors.iter().map(|(_, e)| *e).chain(jumps.iter().map(|(_, j)| *j)).fold(0.01, f64::max) * 1.6;
    let root = SVGBackend::with_string(svg, SIZE).into_drawing_area();
    root.fill(&GROUND)?;
    let font = |size: i32, colour: &RGBColor| ("monospace", size).into_font().color(colour);
    root.draw(&Text::new(title.to_owned(), (20, 14), font(17, &TEXT)))?;
    let legend = font(13, &PREDICTED).pos(Pos::new(HPos::Right, VPos::Top));
    root.draw(&Text::new("\u{2500} first prediction against authority, each tick", (940, 38), legend))?;
    let legend = font(13, &CORRECTION).pos(Pos::new(HPos::Right, VPos::Top));
    root.draw(&Text::new("\u{d7} jump of a correction", (490, 38), legend))?;
    let mut chart = ChartBuilder::on(&root)
        .margin_top(60)
        .margin_right(20)
        .margin_bottom(8)
        .x_label_area_size(42)
        .y_label_area_size(78)
        .build_cartesian_2d(time.0..time.1, (LEAST..top).log_scale())?;
    chart
        .configure_mesh()
        .x_desc("lab time, seconds")
        .y_desc("metres (measured)")
        .y_label_formatter(&|m| metres(*m))
        .axis_style(LINE)
        .bold_line_style(LINE)
        .light_line_style(LINE.mix(0.25))
        .label_style(font(13, &MUTED))
        .draw()?;
    // Equal to a tenth of a millimetre is drawn as equal; gaps in the ticks are gaps in the line.
    for part in runs(errors) {
        let points = part.iter().map(|(at, e)| (at.secs(), e.max(LEAST)));
        chart.draw_series(LineSeries::new(points, PREDICTED.stroke_width(1)))?;
    }
    chart.draw_series(
        jumps.iter().map(|&(at, jump)| Cross::new((at, jump.max(LEAST)), 5, CORRECTION.stroke_width(2))),
    )?;
    root.present()?;
    Ok(())
}

fn metres(m: f64) -> String {
    if m >= 1.0 {
        format!("{m:.0} m")
    } else if m >= 0.01 {
        format!("{:.0} cm", m * 100.0)
    } else if m >= 0.001 {
        format!("{:.0} mm", m * 1000.0)
    } else {
        format!("{:.1} mm", m * 1000.0)
    }
}

/// Splits where more than a quarter of a second lies between two samples.
fn runs(errors: &[(LabTime, f64)]) -> impl Iterator<Item = &[(LabTime, f64)]> {
    errors.chunk_by(|a, b| b.0.minus(a.0) < LabTime::from_millis(250.0))
}

#[cfg(test)]
mod tests {
    use velocitas_lab::{Course, MemberId, Run};

    use super::*;

    fn run() -> Run {
        let mut run = Run::new(Course::demo()).expect("the demo fits");
        run.advance(LabTime::from_secs(12.0));
        run
    }

    fn machine(run: &Run, member: u16) -> MachineId {
        run.course().machine(MemberId::new(member))
    }

    #[test]
    fn every_correction_is_a_cross_and_every_axis_has_its_unit() {
        let run = run();
        let record = run.record();
        let svg = chart(record, Of::Error, machine(&run, 0), LabTime::ZERO, run.now()).expect("plover predicted");
        let rows = &record.of(machine(&run, 0)).happenings;
        let shown =
            rows.iter().filter(|r| matches!(r.what, Happening::Fact(Fact::Corrected(c)) if c.why != Restored::Settled));
        // A cross is two strokes in the colour of corrections, after which nothing else is drawn.
        let strokes = svg.matches(r##"stroke="#FF7A62""##).count();
        assert_eq!(strokes, 2 * shown.count());
        for wanted in ["lab time, seconds", "metres (measured)", "Lampwick Quay: plover", "10 cm"] {
            assert!(svg.contains(wanted), "{wanted}");
        }
    }

    #[test]
    fn a_gap_in_the_ticks_is_a_gap_in_the_line() {
        let at = |ms: f64| (LabTime::from_millis(ms), 0.1);
        let errors = [at(0.0), at(16.0), at(900.0), at(916.0), at(932.0)];
        let parts: Vec<usize> = runs(&errors).map(<[_]>::len).collect();
        assert_eq!(parts, [2, 3]);
    }

    #[test]
    fn nothing_predicted_is_said_not_drawn() {
        let run = Run::new(Course::demo()).expect("the demo fits");
        let empty = chart(run.record(), Of::Error, machine(&run, 1), LabTime::ZERO, LabTime::from_secs(1.0));
        assert_eq!(empty, Err(ChartError::Empty("heron".to_owned())));
    }

    #[test]
    fn labels_carry_the_unit_that_suits_them() {
        assert_eq!([0.0002, 0.004, 0.25, 3.0].map(metres), ["0.2 mm", "4 mm", "25 cm", "3 m"]);
    }
}
