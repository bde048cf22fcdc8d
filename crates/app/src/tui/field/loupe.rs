//! The loupe: corrections are centimetres, cells are half metres.
//!
//! An inset around the selected entity at 2 or 5 cm a dot. Paths are braille; of the same tick, owner and server are
//! tied by a coral line with their distance.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::moment::Echo;
use velocitas_core::{Vec3, vec3};
use velocitas_record::LabTime;

use super::look::Look;
use crate::tui::canvas::{clear, frame, write};
use crate::tui::dots::Dots;
use crate::tui::palette::{Palette, Tone};
use crate::tui::stage::Stage;

const SIZE: (u16, u16) = (40, 13);
const BACK: LabTime = LabTime(700_000_000);

/// Where it lies: out of the way of what it shows, on the other side of the screen. `None` where there is no room, or nothing to
/// be shown.
pub(super) fn place(look: &Look<'_>, on_drawn: bool) -> Option<Rect> {
    let screen = look.view.area;
    let (width, height) = if screen.height >= 26 { SIZE } else { (30, 9) };
    if screen.width < width * 2 || screen.height < height + 4 {
        return None;
    }
    let own = followed(look.stage, on_drawn)?;
    let left = look.view.cell(own.pos).is_some_and(|(x, _)| x > screen.x + screen.width / 2);
    let x = if left { screen.x } else { screen.right() - width };
    Some(Rect::new(x, screen.y, width, height))
}

/// Where the selected entity is for who owns it, or as the viewer draws it.
fn followed(stage: &Stage, on_drawn: bool) -> Option<Echo> {
    let e = stage.echoes();
    let own = e.predicted.or(e.authority);
    if on_drawn { e.drawn.or(own) } else { own }
}

/// Draws it there; nothing else is drawn there afterwards.
pub(super) fn draw(look: &Look<'_>, area: Rect, (scale, on_drawn): (u8, bool), buffer: &mut Buffer) {
    let stage = look.stage;
    let moment = stage.moment();
    let Some((subject, own)) = stage.subject().zip(followed(stage, on_drawn)) else { return };
    let e = stage.echoes();
    let p = stage.palette;
    clear(p, area, buffer);
    let drawn = if on_drawn { " drawn" } else { "" };
    let title = format!("loupe {} {}{drawn} {} 1 dot {scale} cm", p.dot(), stage.subject_name(), p.dot());
    // Where there is little room, what it is goes without saying.
    let fits = title.chars().count() + 3 <= usize::from(area.width);
    let title = if fits { title } else { format!("{}{drawn} {} 1 dot {scale} cm", stage.subject_name(), p.dot()) };
    let inner = frame(stage.palette, area, &title, buffer);
    // Where it was drawn to go lies around what is drawn, not towards the server's.
    let truth = e.authority.filter(|_| !on_drawn).map_or(own.pos, |a| a.pos);
    let lens = Lens::new(inner, own.pos, truth, f32::from(scale) / 100.0);

    let path = |trail: &[Vec3], tone, buffer: &mut Buffer| {
        let mut dots = Dots::new(inner);
        for pair in trail.windows(2).filter(|pair| pair[0].distance(pair[1]) < 0.6) {
            dots.thick_line(lens.dot(pair[0]), lens.dot(pair[1]));
        }
        dots.draw(p, p.text(tone), buffer);
    };
    path(&moment.predicted_trail(subject, BACK), Tone::Predicted, buffer);
    if on_drawn {
        let viewer = stage.machine(stage.selected.viewer);
        path(&moment.drawn_path(subject, viewer, BACK), Tone::Drawn, buffer);
    }
    let mut put = |at: Vec3, glyph: char, tone| {
        if let Some(cell) = lens.cell(at) {
            buffer[cell].set_char(glyph).set_style(p.text(tone));
        }
    };
    let every = u32::from(stage.run.lab().knobs(stage.selected.entity).served.snapshot_every);
    for at in moment.authority_trail(subject, BACK, every) {
        put(at, p.authority_trail(), Tone::Authority);
    }
    if let Some(smooth) = e.smooth {
        put(smooth.pos, p.smooth(), Tone::Authority);
    }
    if let Some(truth) = e.authority {
        put(truth.pos, p.authority(), Tone::Authority);
    }
    if let Some((_, a, b)) = e.same_tick {
        let mut tie = Dots::new(inner);
        if a.distance(b) > 0.001 {
            tie.thick_line(lens.dot(a), lens.dot(b));
            tie.draw(p, p.text(Tone::Correction), buffer);
        }
        if let Some(cell) = lens.cell(b) {
            buffer[cell].set_char(p.authority()).set_style(p.text(Tone::Authority));
        }
    }
    if let Some(own) = e.predicted
        && let Some(cell) = lens.cell(own.pos)
    {
        buffer[cell].set_char(p.predicted()).set_style(p.text(Tone::Predicted));
    }
    // On another's screen what is seen there lies on top.
    if let Some(cell) = e
        .drawn
        .filter(|_| on_drawn || stage.selected.viewer != stage.selected.entity || stage.selected.thing.is_some())
        .and_then(|drawn| lens.cell(drawn.pos))
    {
        buffer[cell].set_char(p.drawn()).set_style(p.text(Tone::Drawn));
    }
    if let Some((_, a, b)) = e.same_tick {
        write_apart(p, a.distance(b), inner, buffer);
    }
}

/// How far apart both sides are at one tick.
fn write_apart(p: Palette, apart: f32, inner: Rect, buffer: &mut Buffer) {
    let said = if apart < 1.0 { format!(" {:.1} cm", apart * 100.0) } else { format!(" {apart:.2} m") };
    let tone = if apart > 0.02 { Tone::Correction } else { Tone::Muted };
    let pieces = [(said.as_str(), p.text(tone)), (" apart at one tick", p.text(Tone::Muted))];
    write(buffer, (inner.x, inner.bottom() - 1), inner.right(), &pieces);
}

/// From the world to the dots of the inset.
struct Lens {
    area: Rect,
    /// The world's place of the top left dot.
    corner: (f32, f32),
    dot: f32,
}

impl Lens {
    /// Owner and server both in view where possible, the owner always; moves in steps so that it does not tremble.
    fn new(area: Rect, own: Vec3, truth: Vec3, dot: f32) -> Self {
        let (width, height) = (f32::from(area.width) * 2.0 * dot, f32::from(area.height) * 4.0 * dot);
        let middle = own.mix(truth, 0.5);
        let near = |middle: f32, own: f32, size: f32| middle.clamp(own - size * 0.42, own + size * 0.42);
        let step = 8.0 * dot;
        let snap = |x: f32| (x / step).round() * step;
        let x = snap(near(middle.x, own.x, width)) - width / 2.0;
        let y = snap(near(middle.y, own.y, height)) + height / 2.0;
        Self { area, corner: (x, y), dot }
    }

    fn dot(&self, at: Vec3) -> (i32, i32) {
        (((at.x - self.corner.0) / self.dot).floor() as i32, ((self.corner.1 - at.y) / self.dot).floor() as i32)
    }

    fn cell(&self, at: Vec3) -> Option<(u16, u16)> {
        let (x, y) = self.dot(vec3(at.x, at.y, 0.0));
        let (column, row) = (x.div_euclid(2), y.div_euclid(4));
        let inside =
            column >= 0 && row >= 0 && column < i32::from(self.area.width) && row < i32::from(self.area.height);
        inside.then(|| (self.area.x + column as u16, self.area.y + row as u16))
    }
}
