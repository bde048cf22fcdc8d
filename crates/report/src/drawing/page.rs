//! A drawing on a page: where everything lies, and as SVG. Text stays text.

use plotters::backend::DrawingBackend;
use plotters::coord::Shift;
use plotters::element::{Circle, Cross, EmptyElement, PathElement, Polygon, Rectangle, Text};
use plotters::prelude::{Color, DrawingArea, IntoDrawingArea, IntoFont, SVGBackend, ShapeStyle};
use plotters::style::RGBColor;
use plotters::style::text_anchor::{HPos, Pos, VPos};

use super::clip::{clipped, cut};
use super::{Axis, Drawing, Mark, Plot, Shape, Span, Theme, Tone};

/// The width of a page, in pixels.
const WIDTH: i32 = 1280;
/// Margins: for what is written at the left, at the right, between plots.
const LEFT: i32 = 104;
const RIGHT: i32 = 24;
const BETWEEN: i32 = 26;
/// How high a plot of weight 1 is.
const PLOT: i32 = 118;
/// How high what is written below an axis is.
const BELOW: i32 = 40;
/// Nothing is written nearer to the edge of the page.
const EDGE: i32 = 6;
/// Rows of text.
const ROW: i32 = 17;
/// Sizes of letters, as the plotting library counts them: it takes them for the height of a line. And the width of a small one.
const LARGE: i32 = 21;
const MIDDLE: i32 = 16;
const SMALL: i32 = 15;
const LETTER: f64 = 7.3;

/// Nearer to the right edge than this, words stand at the left of what they name.
const AWAY: f64 = 0.15;
/// Words are so far from what they say something of; so far where the number of a tick lies between.
const NEAR: i32 = 9;
const BEYOND: i32 = 60;

/// A rectangle of the page: left, top, right, bottom.
#[derive(Clone, Copy)]
struct PlotBox {
    left: i32,
    top: i32,
    right: i32,
    bottom: i32,
}

/// A drawing as SVG. The same drawing in the same theme gives the same bytes.
pub fn svg(drawing: &Drawing, theme: Theme) -> String {
    let mut text = String::new();
    draw(drawing, theme, SVGBackend::with_string(&mut text, size(drawing)));
    text
}

/// Width and height of a drawing's page, in pixels.
pub(super) fn size(drawing: &Drawing) -> (u32, u32) {
    let plots = drawing.plots.iter().enumerate();
    let below = |i| if shares_axis(drawing, i) { 0 } else { BELOW };
    let total = head(drawing) + plots.map(|(i, plot)| height(plot) + BETWEEN + below(i)).sum::<i32>() + 8;
    (WIDTH as u32, total as u32)
}

/// How high what is written above the plots is.
fn head(drawing: &Drawing) -> i32 {
    44 + ROW * drawing.facts.iter().flat_map(|fact| wrapped(fact)).count() as i32
}

/// Whether the plot below has the same horizontal axis, which is written once.
fn shares_axis(drawing: &Drawing, i: usize) -> bool {
    drawing.plots.get(i + 1).is_some_and(|next| next.across == drawing.plots[i].across)
}

/// Draws all of it. Neither text nor a sheet has anywhere to fail to, so nobody asks.
pub(super) fn draw(drawing: &Drawing, theme: Theme, on: impl DrawingBackend) {
    let area = on.into_drawing_area();
    let page = Page { area: &area, theme };
    let _ = area.fill(&theme.ground());
    page.write((24, 14), LARGE, Tone::Plain, (HPos::Left, VPos::Top), &drawing.title);
    for (row, fact) in drawing.facts.iter().flat_map(|fact| wrapped(fact)).enumerate() {
        page.write((24, 40 + ROW * row as i32), SMALL, Tone::Muted, (HPos::Left, VPos::Top), &fact);
    }
    let mut top = head(drawing);
    for (i, plot) in drawing.plots.iter().enumerate() {
        let bottom = top + BETWEEN + height(plot);
        let place = PlotBox { left: LEFT, top: top + BETWEEN, right: WIDTH - RIGHT, bottom };
        let shared = shares_axis(drawing, i);
        page.plot(plot, place, !shared);
        top = place.bottom + if shared { 0 } else { BELOW };
    }
    let _ = area.present();
}

fn height(plot: &Plot) -> i32 {
    if plot.even {
        let (across, up) = ((plot.across.to - plot.across.from).abs(), (plot.up.to - plot.up.from).abs());
        return (f64::from(WIDTH - LEFT - RIGHT) * up / across) as i32;
    }
    PLOT * plot.weight as i32
}

/// A fact in rows that fit the page.
fn wrapped(fact: &str) -> Vec<String> {
    let most = (f64::from(WIDTH - 48) / LETTER) as usize;
    let mut rows = vec![String::new()];
    for word in fact.split(' ') {
        let row =
            rows.last_mut().filter(|row| row.is_empty() || row.chars().count() + 1 + word.chars().count() <= most);
        match row {
            Some(row) if row.is_empty() => row.push_str(word),
            Some(row) => {
                row.push(' ');
                row.push_str(word);
            }
            None => rows.push(word.to_owned()),
        }
    }
    rows
}

/// What is drawn on.
struct Page<'p, B: DrawingBackend> {
    area: &'p DrawingArea<B, Shift>,
    theme: Theme,
}

impl<B: DrawingBackend> Page<'_, B> {
    fn ink(&self, tone: Tone) -> RGBColor {
        self.theme.ink(tone)
    }

    fn write(&self, at: (i32, i32), size: i32, tone: Tone, (h, v): (HPos, VPos), text: &str) {
        let style = ("monospace", size).into_font().color(&self.ink(tone)).pos(Pos::new(h, v));
        let _ = self.area.draw(&Text::new(text.to_owned(), at, style));
    }

    fn path(&self, points: Vec<(i32, i32)>, tone: Tone, width: u32) {
        let _ = self.area.draw(&PathElement::new(points, self.ink(tone).stroke_width(width)));
    }

    fn plot(&self, plot: &Plot, place: PlotBox, labelled: bool) {
        let to = Onto { plot, place };
        self.grid(plot, &to, labelled);
        self.write((place.left, place.top - 5), MIDDLE, Tone::Plain, (HPos::Left, VPos::Bottom), &plot.name);
        let mut x = place.right;
        for (tone, words) in plot.legend.iter().rev() {
            self.write((x, place.top - 5), SMALL, *tone, (HPos::Right, VPos::Bottom), words);
            x -= ((words.chars().count() as f64 + 2.5) * LETTER) as i32;
        }
        plot.marks.iter().for_each(|mark| self.mark(&to, mark));
    }

    /// The axes with what is written beside them.
    fn grid(&self, plot: &Plot, to: &Onto<'_>, labelled: bool) {
        let PlotBox { left, top, right, bottom } = to.place;
        let about = |axis: &Axis, length: i32, each: i32| axis.ticks(((length / each).max(2)) as usize);
        for (value, words) in about(&plot.up, bottom - top, 44) {
            let y = to.y(value);
            self.path(vec![(left, y), (right, y)], Tone::Line, 1);
            self.write((left - 8, y), SMALL, Tone::Muted, (HPos::Right, VPos::Center), &words);
        }
        let mut free = i32::MIN;
        for (value, words) in about(&plot.across, right - left, 150) {
            let (x, half) = (to.x(value), (words.chars().count() as f64 * LETTER / 2.0) as i32);
            self.path(vec![(x, top), (x, bottom)], Tone::Line, 1);
            if labelled && x - half > free {
                // What is long stays on the page.
                let middle = x.min(WIDTH - EDGE - half).max(EDGE + half);
                self.write((middle, bottom + 6), SMALL, Tone::Muted, (HPos::Center, VPos::Top), &words);
                free = middle + half + LETTER as i32;
            }
        }
        let edge = vec![(left, top), (left, bottom), (right, bottom)];
        self.path(edge, Tone::Muted, 1);
        if labelled {
            let unit = if ["", "lab time"].contains(&plot.across.unit) {
                String::new()
            } else {
                format!(", {}", plot.across.unit)
            };
            let words = format!("{}{unit}", plot.across.name);
            self.write(((left + right) / 2, bottom + 22), SMALL, Tone::Muted, (HPos::Center, VPos::Top), &words);
        }
    }

    fn mark(&self, to: &Onto<'_>, mark: &Mark) {
        match mark {
            Mark::Band { spans, tone, holds, ghost, .. } => self.band(to, spans, *tone, (*holds, *ghost)),
            Mark::Path { points, tone, dashed, .. } => {
                let points: Vec<(f64, f64)> = points.iter().map(|p| to.place(*p)).collect();
                for pair in points.windows(2) {
                    if let Some((a, b)) = cut(pair[0], pair[1]) {
                        self.line(to.pixel(a), to.pixel(b), *tone, *dashed);
                    }
                }
            }
            Mark::Point { at, shape, tone, label, .. } => {
                let place = to.place(*at);
                if (0.0..=1.0).contains(&place.0) && (0.0..=1.0).contains(&place.1) {
                    self.point(to.pixel(place), *shape, *tone, (label, aside(to.plot, at.0, place.0, *shape)));
                }
            }
            Mark::Area { corners, tone, .. } => {
                let corners: Vec<(f64, f64)> = corners.iter().map(|corner| to.place(*corner)).collect();
                let corners: Vec<(i32, i32)> = clipped(&corners).into_iter().map(|corner| to.pixel(corner)).collect();
                if corners.len() > 2 {
                    let _ = self.area.draw(&Polygon::new(corners, self.ink(*tone).filled()));
                }
            }
            Mark::Cell { at, share, tone, label, .. } => {
                self.cell(to, *at, self.theme.thinned(*tone, 0.05 + 0.4 * share), label);
            }
            Mark::Rule { at, level, tone, .. } => {
                let PlotBox { left, top, right, bottom } = to.place;
                let (x, y) = (to.x(*at), to.y(*at));
                let (from, end) = if *level { ((left, y), (right, y)) } else { ((x, top), (x, bottom)) };
                self.path(vec![from, end], *tone, 1);
            }
        }
    }

    /// A square of a map; a hair stays free around it.
    fn cell(&self, to: &Onto<'_>, (x, y): (f64, f64), ink: RGBColor, label: &str) {
        let (a, b) = ((to.x(x), to.y(y)), (to.x(x + 1.0), to.y(y + 1.0)));
        let (left, right, top, bottom) = (a.0.min(b.0), a.0.max(b.0), a.1.min(b.1), a.1.max(b.1));
        let _ = self.area.draw(&Rectangle::new([(left + 1, top + 1), (right, bottom)], ink.filled()));
        let fits = label.chars().count() as f64 * LETTER < f64::from(right - left) && bottom - top >= SMALL;
        if fits {
            let middle = (i32::midpoint(left, right), i32::midpoint(top, bottom));
            self.write(middle, SMALL, Tone::Plain, (HPos::Center, VPos::Center), label);
        }
    }

    /// Dashes are short strokes.
    fn line(&self, a: (i32, i32), b: (i32, i32), tone: Tone, dashed: bool) {
        if !dashed {
            return self.path(vec![a, b], tone, 2);
        }
        let length = f64::from((b.0 - a.0).pow(2) + (b.1 - a.1).pow(2)).sqrt();
        let count = (length / 10.0).ceil().max(1.0) as i32;
        let along = |part: f64| {
            let of = |a: i32, b: i32| a + (f64::from(b - a) * part).round() as i32;
            (of(a.0, b.0), of(a.1, b.1))
        };
        for dash in 0..count {
            let from = f64::from(dash) / f64::from(count);
            self.path(vec![along(from), along(from + 0.6 / f64::from(count))], tone, 2);
        }
    }

    /// Least to greatest of each column, joined where a value lasts.
    fn band(&self, to: &Onto<'_>, spans: &[Span], tone: Tone, (holds, ghost): (bool, bool)) {
        let share = |usual: f64| self.theme.thinned(tone, if ghost { usual * 0.4 } else { usual });
        let (ink, fill): (ShapeStyle, ShapeStyle) = (share(1.0).stroke_width(1), share(0.8).filled());
        let mut before: Option<&Span> = None;
        for span in spans {
            let (x0, x1) = (to.x(span.from), to.x(span.to));
            let (low, high) = (to.y(span.least), to.y(span.most));
            if holds {
                if let Some(before) = before.filter(|before| span.from - before.to < 0.25) {
                    let points =
                        vec![(to.x(before.to), to.y(before.last)), (x0, to.y(before.last)), (x0, to.y(span.last))];
                    let _ = self.area.draw(&PathElement::new(points, ink));
                }
                before = Some(span);
            }
            if low == high {
                let _ = self.area.draw(&PathElement::new(vec![(x0, low), (x1.max(x0 + 1), low)], ink));
            } else {
                let _ = self.area.draw(&Rectangle::new([(x0, high), (x1.max(x0 + 1), low)], fill));
            }
            if !holds {
                // What happens stands on the axis, so that it is seen.
                let stem = vec![(i32::midpoint(x0, x1), to.place.bottom), (i32::midpoint(x0, x1), high)];
                let _ = self.area.draw(&PathElement::new(stem, ink));
            }
        }
    }

    fn point(&self, at: (i32, i32), shape: Shape, tone: Tone, (label, away): (&str, i32)) {
        let ink = self.ink(tone);
        let around = |points: &[(i32, i32)]| points.iter().map(|(x, y)| (at.0 + x, at.1 + y)).collect::<Vec<_>>();
        let filled = ink.filled();
        let _ = match shape {
            Shape::Dot => self.area.draw(&Circle::new(at, 4, filled)),
            Shape::Ring => self.area.draw(&Circle::new(at, 4, ink.stroke_width(2))),
            Shape::Diamond => self.area.draw(&Polygon::new(around(&[(0, -5), (5, 0), (0, 5), (-5, 0)]), filled)),
            Shape::Cross => self.area.draw(&Cross::new(at, 4, ink.stroke_width(2))),
            Shape::Notch => self.area.draw(&PathElement::new(around(&[(-4, 0), (4, 0)]), ink.stroke_width(1))),
            Shape::Square => self.area.draw(&Polygon::new(around(&[(-3, -3), (3, -3), (3, 3), (-3, 3)]), filled)),
            Shape::Hollow => {
                let corners = around(&[(-3, -3), (3, -3), (3, 3), (-3, 3), (-3, -3)]);
                self.area.draw(&PathElement::new(corners, ink.stroke_width(1)))
            }
            Shape::Exclamation => {
                self.write(at, MIDDLE, tone, (HPos::Center, VPos::Center), "!");
                self.area.draw(&EmptyElement::at(at))
            }
        };
        if !label.is_empty() {
            let (x, side) = (at.0 + away, if away < 0 { HPos::Right } else { HPos::Left });
            // Above it, where lines that lead there seldom are.
            let y = if shape == Shape::Notch || away.abs() == BEYOND { at.1 } else { at.1 - 8 };
            self.write(
                (x, y),
                SMALL,
                if shape == Shape::Notch { Tone::Muted } else { Tone::Plain },
                (side, VPos::Center),
                label,
            );
        }
    }
}

/// How far from a point its words begin; negative: they end so far to its left. Where lines have names, as machines do, those of notches
/// stand outside of all lines, beyond them whatever is no station of a way, and what is one where there is room.
fn aside(plot: &Plot, at: f64, place: f64, shape: Shape) -> i32 {
    let (Some((first, _)), Some((last, _))) = (plot.across.named.first(), plot.across.named.last()) else {
        return if place < AWAY { -NEAR } else { NEAR };
    };
    let away = if shape == Shape::Notch || (shape == Shape::Dot && at < *last) { NEAR } else { BEYOND };
    if at <= *first && shape != Shape::Dot { -away } else { away }
}

/// From the units of a plot onto its place.
struct Onto<'a> {
    plot: &'a Plot,
    place: PlotBox,
}

impl Onto<'_> {
    /// From 0 to 1 on both axes.
    fn place(&self, (x, y): (f64, f64)) -> (f64, f64) {
        (self.plot.across.place(x), self.plot.up.place(y))
    }

    fn pixel(&self, (x, y): (f64, f64)) -> (i32, i32) {
        let PlotBox { left, top, right, bottom } = self.place;
        let along = |from: i32, to: i32, part: f64| from + (f64::from(to - from) * part.clamp(0.0, 1.0)).round() as i32;
        (along(left, right, x), along(bottom, top, y))
    }

    fn x(&self, value: f64) -> i32 {
        self.pixel((self.plot.across.place(value), 0.0)).0
    }

    fn y(&self, value: f64) -> i32 {
        self.pixel((0.0, self.plot.up.place(value))).1
    }
}
