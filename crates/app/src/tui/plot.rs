//! A plot of a drawing in cells: braille for what is measured, words beside the axis.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use velocitas_report::drawing::{Mark, Plot, Shape, Span, Tone as Ink, cut};

use super::canvas::write;
use super::dots::Dots;
use super::palette::{Palette, Tone};

/// Columns before a plot for what is written beside its axis.
pub(super) const BESIDE: u16 = 8;

/// The palette's tone for what a mark stands for.
pub(super) const fn tone(ink: Ink) -> Tone {
    match ink {
        Ink::Owner => Tone::Predicted,
        Ink::Authority => Tone::Authority,
        Ink::Viewer => Tone::Drawn,
        Ink::Fault | Ink::Verdict | Ink::OneSided => Tone::Correction,
        Ink::Bright => Tone::Bright,
        Ink::Plain => Tone::Text,
        Ink::Muted => Tone::Muted,
        Ink::Line | Ink::Water | Ink::Ice | Ink::Planks | Ink::Wall => Tone::Line,
    }
}

/// Draws the bands of a plot, one column of cells a span's place, with the ends of the axis at the left.
pub(super) fn draw(p: Palette, plot: &Plot, area: Rect, buffer: &mut Buffer) {
    let inner = Rect { x: area.x + BESIDE, width: area.width.saturating_sub(BESIDE), ..area };
    if inner.is_empty() {
        return;
    }
    axis(p, plot, area, inner, buffer);
    bands(p, plot, inner, buffer);
}

/// Draws everything but bands, with the ends of the axis at the left.
pub(super) fn whole(p: Palette, plot: &Plot, area: Rect, buffer: &mut Buffer) {
    let inner = Rect { x: area.x + BESIDE, width: area.width.saturating_sub(BESIDE), ..area };
    if !inner.is_empty() {
        axis(p, plot, area, inner, buffer);
        marks(p, plot, inner, buffer);
    }
}

/// Draws the bands alone.
pub(super) fn bands(p: Palette, plot: &Plot, inner: Rect, buffer: &mut Buffer) {
    for mark in &plot.marks {
        if let Mark::Band { spans, tone: ink, holds, ghost, .. } = mark {
            let mut dots = Dots::new(inner);
            band(plot, spans, *holds, &mut dots, inner);
            let style = p.text(tone(*ink));
            let style = if *ghost { p.text(Tone::Line) } else { style };
            dots.draw(p, style, buffer);
        }
    }
}

/// Draws everything but bands: lines across, then paths, then points with their words, each over what came before.
pub(super) fn marks(p: Palette, plot: &Plot, inner: Rect, buffer: &mut Buffer) {
    for mark in &plot.marks {
        if let Mark::Rule { at, level, tone: ink, .. } = mark {
            rule(p, plot, (*at, *level), p.text(tone(*ink)), inner, buffer);
        }
    }
    areas(p, plot, inner, buffer);
    paths(p, plot, inner, buffer);
    for mark in &plot.marks {
        if let Mark::Point { at, shape, tone: ink, label, .. } = mark {
            let place = (plot.across.place(at.0), plot.up.place(at.1));
            if (0.0..=1.0).contains(&place.0) && (0.0..=1.0).contains(&place.1) {
                let cell = cell(place, inner);
                let style = if *ink == Ink::Verdict { p.verdict() } else { p.text(tone(*ink)) };
                buffer[cell].set_char(glyph(p, *shape)).set_style(style);
                let words = if *shape == Shape::Notch { p.text(Tone::Muted) } else { style };
                beside(label, (cell, place.0 < AWAY), words, inner, buffer);
            }
        }
    }
}

/// Nearer to the left edge than this share of the width, a point has its words at its left.
const AWAY: f64 = 0.15;

/// The dot of a place, from 0 to 1 across and from the top down.
fn dot((x, y): (f64, f64), inner: Rect) -> (i32, i32) {
    let along = |place: f64, count: u16| ((place * f64::from(count)).floor() as i32).min(i32::from(count) - 1);
    (along(x, inner.width * 2), along(y, inner.height * 4))
}

/// The outlines of areas, as far as they lie on the page.
fn areas(p: Palette, plot: &Plot, inner: Rect, buffer: &mut Buffer) {
    let place = |at: (f64, f64)| (plot.across.place(at.0), 1.0 - plot.up.place(at.1));
    for mark in &plot.marks {
        if let Mark::Area { corners, tone: ink, .. } = mark {
            let mut dots = Dots::new(inner);
            for (from, to) in corners.iter().zip(corners.iter().cycle().skip(1)) {
                if let Some((a, b)) = cut(place(*from), place(*to)) {
                    dots.line(dot(a, inner), dot(b, inner));
                }
            }
            dots.draw(p, p.text(tone(*ink)), buffer);
        }
    }
}

/// The paths of each tone together, so that where they cross both are seen; what is chosen lies on top.
fn paths(p: Palette, plot: &Plot, inner: Rect, buffer: &mut Buffer) {
    let place = |at: (f64, f64)| (plot.across.place(at.0), 1.0 - plot.up.place(at.1));
    for ink in [Ink::Line, Ink::Muted, Ink::Authority, Ink::Owner, Ink::Viewer, Ink::Fault, Ink::Verdict, Ink::Bright] {
        // Where nothing can be dim, what steps back is left out.
        if ink == Ink::Line && !p.has_colours() {
            continue;
        }
        let mut dots = Dots::new(inner);
        let of = plot.marks.iter().filter_map(|mark| match mark {
            Mark::Path { points, tone, dashed, .. } if *tone == ink => Some((points, *dashed)),
            _ => None,
        });
        for (points, dashed) in of {
            for pair in points.windows(2) {
                // However long it is, what is within the page is drawn.
                let Some((a, b)) = cut(place(pair[0]), place(pair[1])) else { continue };
                let (a, b) = (dot(a, inner), dot(b, inner));
                // In cells gaps would look like noise: what is dashed on a page is thin here.
                if dashed { dots.line(a, b) } else { dots.thick_line(a, b) }
            }
        }
        dots.draw(p, p.text(tone(ink)), buffer);
    }
}

fn rule(p: Palette, plot: &Plot, (at, level): (f64, bool), style: Style, inner: Rect, buffer: &mut Buffer) {
    let place = if level { plot.up.place(at) } else { plot.across.place(at) };
    if !(0.0..=1.0).contains(&place) {
        return;
    }
    let (x, y) = cell(if level { (0.0, place) } else { (place, 0.0) }, inner);
    if level {
        for x in inner.left()..inner.right() {
            buffer[(x, y)].set_char(p.line()).set_style(style);
        }
    } else {
        for y in inner.top()..inner.bottom() {
            buffer[(x, y)].set_char(p.bar()).set_style(style);
        }
    }
}

/// The cell of a place, from 0 to 1 on both axes.
fn cell((x, y): (f64, f64), inner: Rect) -> (u16, u16) {
    let columns = f64::from(inner.width);
    (inner.x + (x.clamp(0.0, 1.0) * columns).floor().min(columns - 1.0) as u16, row(y, inner))
}

/// The glyph of a shape.
fn glyph(p: Palette, shape: Shape) -> char {
    match shape {
        Shape::Dot => p.predicted(),
        Shape::Diamond => p.authority(),
        Shape::Ring => p.drawn(),
        Shape::Cross => p.correction(),
        Shape::Notch => p.notch(),
        Shape::Square => p.made_up(),
        Shape::Hollow => p.late(),
        Shape::Exclamation => '!',
    }
}

/// Words beside a point: at its right, or at its left where that is asked for or there is more room.
fn beside(words: &str, ((x, y), left): ((u16, u16), bool), style: Style, inner: Rect, buffer: &mut Buffer) {
    let width = words.chars().count() as u16;
    if width == 0 {
        return;
    }
    let fits_left = x > inner.x + width;
    let fits_right = x + 2 + width <= inner.right();
    if fits_left && (left || !fits_right) {
        write(buffer, (x - width - 1, y), x, &[(words, style)]);
    } else {
        // A gap, so that what stands behind is not read as part of it; a number of which a part would be left goes.
        let is_word = |x: u16, buffer: &Buffer| {
            x < inner.right() && buffer[(x, y)].symbol().starts_with(|c: char| c.is_ascii_alphanumeric())
        };
        let mut end = x + 2 + width;
        let is_cut = is_word(end.min(inner.right() - 1), buffer);
        write(buffer, (x + 2, y), inner.right(), &[(words, style), (" ", style)]);
        while is_cut && is_word(end + 1, buffer) {
            end += 1;
            buffer[(end, y)].set_char(' ');
        }
    }
}

/// Lines where round values lie, as far as there are rows, with their words.
fn axis(p: Palette, plot: &Plot, area: Rect, inner: Rect, buffer: &mut Buffer) {
    let about = (usize::from(inner.height) / 2).max(2);
    let mut free = area.bottom();
    let ticks = plot.up.ticks(about);
    // From the bottom up; the ends are worth more than what lies between.
    for (value, words) in &ticks {
        let y = row(plot.up.place(*value), inner);
        if y >= free {
            continue;
        }
        free = y;
        let rule: String = std::iter::repeat_n(p.nothing(), usize::from(inner.width)).collect();
        buffer.set_stringn(inner.x, y, &rule, usize::from(inner.width), p.text(Tone::Line));
        // The unit stands in the lane's name too: where there is no room for both the number is what counts.
        let fits = words.chars().count() < usize::from(BESIDE);
        let words = if fits { words } else { words.split(' ').next().unwrap_or_default() };
        let x = area.x + (BESIDE - 1).saturating_sub(words.chars().count() as u16);
        write(buffer, (x, y), inner.x, &[(words, p.text(Tone::Muted))]);
    }
}

/// The row of cells in which a value lies.
fn row(place: f64, inner: Rect) -> u16 {
    let rows = f64::from(inner.height);
    // What lies at the beginning of a row lies in it, whatever the rounding.
    inner.y + ((1.0 - place.clamp(0.0, 1.0)) * rows + 1e-6).floor().min(rows - 1.0) as u16
}

fn band(plot: &Plot, spans: &[Span], holds: bool, dots: &mut Dots, inner: Rect) {
    let height = i32::from(inner.height) * 4;
    let y = |value: f64| {
        let place = plot.up.place(value).clamp(0.0, 1.0);
        ((1.0 - place) * f64::from(height)).floor().min(f64::from(height - 1)) as i32
    };
    let width = f64::from(inner.width) * 2.0;
    let x = |value: f64| (plot.across.place(value) * width).round() as i32;
    let mut before: Option<&Span> = None;
    for span in spans {
        let (left, right) = (x(span.from), x(span.to).max(x(span.from) + 1));
        if let Some(before) = before.filter(|before| holds && span.from - before.to < 0.25) {
            (x(before.to)..left).for_each(|x| dots.set((x, y(before.last))));
            dots.line((left, y(before.last)), (left, y(span.last)));
        }
        before = Some(span);
        let (low, high) = (y(span.least), y(span.most));
        for x in left..right {
            dots.line((x, low), (x, high));
            if !holds {
                // What happens stands on the axis.
                dots.line((x, height - 1), (x, high));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use velocitas_report::drawing::Axis;

    use super::*;
    use crate::tui::palette::Colours;

    fn drawn(spans: Vec<Span>, holds: bool) -> Vec<String> {
        let mark = Mark::Band { series: String::new(), spans, tone: Ink::Owner, holds, ghost: false };
        let plot = Plot {
            name: String::new(),
            across: Axis::linear("t", "", (0.0, 1.0)),
            up: Axis::linear("v", "ms", (0.0, 4.0)),
            marks: vec![mark],
            legend: Vec::new(),
            weight: 1,
            even: false,
        };
        let area = Rect::new(0, 0, BESIDE + 10, 2);
        let mut buffer = Buffer::empty(area);
        draw(Palette::new(Colours::None, false), &plot, area, &mut buffer);
        (0..2).map(|y| (0..area.width).map(|x| buffer[(x, y)].symbol().to_owned()).collect()).collect()
    }

    #[test]
    fn least_and_greatest_fill_their_column_and_a_value_lasts_until_the_next() {
        let span = |from: f64, least: f64, most: f64| Span { from, to: from + 0.1, least, most, last: most };
        let rows = drawn(vec![span(0.1, 0.0, 3.9), span(0.3, 3.9, 3.9)], true);
        let cell = |row: usize, column: usize| rows[row].chars().nth(usize::from(BESIDE) + column).expect("a cell");
        assert_eq!((cell(0, 1), cell(1, 1)), ('\u{28ff}', '\u{28ff}'), "{rows:?}");
        assert_eq!((cell(0, 2), cell(0, 3)), ('\u{2809}', '\u{2809}'), "it lasts: {rows:?}");
        let rows = drawn(vec![span(0.5, 1.0, 2.1)], false);
        let stem = rows[1].chars().nth(usize::from(BESIDE) + 5);
        assert_eq!(stem, Some('\u{28ff}'), "what happens stands on the axis: {rows:?}");
    }

    #[test]
    fn no_part_of_a_number_is_left_beside_words() {
        let area = Rect::new(0, 0, 20, 1);
        let said = |from: u16| {
            let mut buffer = Buffer::empty(area);
            buffer.set_string(from, 0, "4640", Style::new());
            beside("fresh", ((0, 0), false), Style::new(), area, &mut buffer);
            (0..area.width).map(|x| buffer[(x, 0)].symbol().to_owned()).collect::<String>().trim_end().to_owned()
        };
        assert_eq!(said(5), "  fresh");
        assert_eq!(said(7), "  fresh", "its first figure was the gap");
        assert_eq!(said(9), "  fresh  4640");
    }

    #[test]
    fn the_axis_has_its_unit() {
        let rows = drawn(Vec::new(), true);
        assert!(rows[0].trim_start().starts_with("4 ms") && rows[1].trim_start().starts_with("0 ms"), "{rows:?}");
    }
}
