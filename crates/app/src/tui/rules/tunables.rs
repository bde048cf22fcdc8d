//! The tunables of a rule as knobs: for the selected machine, with what the server has where that differs.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::Both;
use crate::tui::canvas::{frame, write};
use crate::tui::palette::Tone;
use crate::tui::stage::Stage;

/// A value with as many digits as tell it from its neighbours.
fn shown(value: f32, unit: &str) -> String {
    let number = if value.abs() >= 1000.0 {
        format!("{value:.0}")
    } else {
        let text = format!("{value:.3}");
        text.trim_end_matches('0').trim_end_matches('.').to_owned()
    };
    if unit == "1" { number } else { format!("{number} {unit}") }
}

pub(super) fn draw(stage: &Stage, both: &Both<'_>, chosen: usize, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
    let inner = frame(stage.palette, area, &format!("tunables at {} (set)", stage.name(stage.selected.entity)), buffer);
    let tunables = both.rule().tunables();
    let room = usize::from(inner.height).saturating_sub(3).max(1);
    if tunables.is_empty() {
        write(buffer, (inner.x + 1, inner.y), inner.right(), &[("this rule has none", muted)]);
    }
    let chosen = chosen.min(tunables.len().saturating_sub(1));
    let first = (chosen + 1).saturating_sub(room);
    let (less, more) = p.handles();
    for (row, (i, t)) in tunables.iter().enumerate().skip(first).take(room).enumerate() {
        let value = both.values().get(i).copied().unwrap_or(t.default);
        let server = both.at_the_server(t.name);
        let (name, number) = if i == chosen { (p.chosen(), p.chosen()) } else { (muted, text) };
        let (left, right) = if i == chosen { (less, more) } else { (" ", " ") };
        let y = inner.y + row as u16;
        let mark = if i == chosen { more } else { " " };
        let line = format!("{left} {:>12} {right}", shown(value, t.unit));
        let x = write(
            buffer,
            (inner.x, y),
            inner.right(),
            &[(mark, name), (&format!("{:<10}", t.name), name), (&line, number)],
        );
        if server != Some(value) {
            let said = server.map_or_else(|| " not at the server".to_owned(), |s| format!(" server {}", shown(s, "1")));
            write(buffer, (x, y), inner.right(), &[(&said, p.text(Tone::Correction))]);
        } else if value != t.default {
            write(buffer, (x, y), inner.right(), &[(" turned", muted)]);
        }
    }
    let y = inner.bottom().saturating_sub(2).max(inner.y);
    let lines = ["left right: this machine; with Shift: all", "holds from a tick ahead of every machine"];
    for (i, line) in lines.iter().enumerate() {
        if y + (i as u16) < inner.bottom() {
            write(buffer, (inner.x + 1, y + i as u16), inner.right(), &[(line, muted)]);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::shown;

    #[test]
    fn values_have_the_digits_they_need() {
        assert_eq!(shown(4.2, "m/s"), "4.2 m/s");
        assert_eq!(shown(9000.0, "kg"), "9000 kg");
        assert_eq!(shown(1.0, "1"), "1");
        assert_eq!(shown(0.125, "1/s"), "0.125 1/s");
    }
}
