//! Paths in braille: eight dots a cell.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::tui::palette::Palette;

/// A grid of dots over an area.
pub(super) struct Dots {
    area: Rect,
    cells: Vec<u8>,
    /// Where none are drawn.
    hidden: Option<Rect>,
}

impl Dots {
    pub(super) fn new(area: Rect) -> Self {
        Self { area, cells: vec![0; usize::from(area.width) * usize::from(area.height)], hidden: None }
    }

    /// The same, but for a part of it.
    pub(super) fn without(self, hidden: Option<Rect>) -> Self {
        Self { hidden, ..self }
    }

    /// Sets a dot; those outside are not seen.
    pub(super) fn set(&mut self, (x, y): (i32, i32)) {
        const BITS: [[u8; 2]; 4] = [[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]];
        let (column, row) = (x.div_euclid(2), y.div_euclid(4));
        if column >= 0 && row >= 0 && column < i32::from(self.area.width) && row < i32::from(self.area.height) {
            let cell = row as usize * usize::from(self.area.width) + column as usize;
            self.cells[cell] |= BITS[y.rem_euclid(4) as usize][x.rem_euclid(2) as usize];
        }
    }

    /// Sets the dots between two, both included. Very long lines are not drawn: they come from what is far outside.
    pub(super) fn line(&mut self, a: (i32, i32), b: (i32, i32)) {
        let (dx, dy) = (b.0.saturating_sub(a.0), b.1.saturating_sub(a.1));
        let steps = dx.abs().max(dy.abs());
        if steps > 2000 {
            return;
        }
        for i in 0..=steps {
            let along = |from: i32, way: i32| from + (way * i + way.signum() * steps / 2) / steps.max(1);
            self.set((along(a.0, dx), along(a.1, dy)));
        }
    }

    /// The same, two dots thick.
    pub(super) fn thick_line(&mut self, a: (i32, i32), b: (i32, i32)) {
        let level = (b.0 - a.0).abs() >= (b.1 - a.1).abs();
        let beside = |p: (i32, i32)| if level { (p.0, p.1 + 1) } else { (p.0 + 1, p.1) };
        self.line(a, b);
        self.line(beside(a), beside(b));
    }

    /// Puts the dots on top of what is there, whose background stays.
    pub(super) fn draw(&self, palette: Palette, style: Style, buffer: &mut Buffer) {
        for (i, &bits) in self.cells.iter().enumerate().filter(|(_, bits)| **bits != 0) {
            let x = self.area.x + (i % usize::from(self.area.width)) as u16;
            let y = self.area.y + (i / usize::from(self.area.width)) as u16;
            if self.hidden.is_some_and(|hidden| hidden.contains((x, y).into())) {
                continue;
            }
            let glyph = if palette.is_ascii() { '*' } else { braille(bits) };
            buffer[(x, y)].set_char(glyph).set_style(style);
        }
    }
}

fn braille(bits: u8) -> char {
    char::from_u32(0x2800 + u32::from(bits)).unwrap_or(' ')
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::palette::Colours;

    #[test]
    fn a_line_fills_the_dots_it_crosses_and_nothing_outside() {
        let area = Rect::new(0, 0, 4, 1);
        let mut dots = Dots::new(area);
        dots.line((-5, 0), (20, 0));
        let mut buffer = Buffer::empty(area);
        dots.draw(Palette::new(Colours::True, false), Style::new(), &mut buffer);
        let row: String = (0..4).map(|x| buffer[(x, 0)].symbol().to_owned()).collect();
        assert_eq!(row, "\u{2809}".repeat(4));
    }
}
