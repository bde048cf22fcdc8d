//! The last row: what keys do now, or what has just been said.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::action::BINDINGS;
use super::palette::Tone;
use super::screen::write;
use super::stage::Stage;

pub(super) fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let (text, muted, key) = (p.text(Tone::Text), p.text(Tone::Muted), p.chosen());
    let at = (area.x + 1, area.y);
    if let Some(notice) = stage.notice() {
        write(buffer, at, area.right(), &[(notice, p.text(Tone::Bright))]);
        return;
    }
    if stage.driving.on && stage.is_live() && stage.running {
        let sprint = if stage.driving.sprints() { "  sprint ON" } else { "  sprint off" };
        let name = format!(" driving {} ", stage.name(stage.entity));
        let pieces = [
            (name.as_str(), p.badge(Tone::Predicted)),
            ("  ", text),
            (stage.driving.hint(), text),
            ("   left right ", key),
            ("turn", muted),
            ("   space ", key),
            ("hop", muted),
            ("   e", key),
            (sprint, if stage.driving.sprints() { text } else { muted }),
            ("   o ", key),
            ("order", muted),
            ("   Esc ", key),
            ("leave", muted),
            ("   h ", key),
            ("script", muted),
        ];
        write(buffer, at, area.right(), &pieces);
        return;
    }
    let mut x = at.0;
    if !stage.is_live() {
        let pieces = [("End ", key), ("live", muted), ("   Enter ", key), ("resume from here", muted), ("   ", muted)];
        x = write(buffer, at, area.right(), &pieces);
    }
    for binding in BINDINGS.iter().filter(|b| !b.hint.is_empty()) {
        let width = (binding.key.len() + 1 + binding.hint.len() + 3) as u16;
        if x + width > area.right() {
            break;
        }
        x = write(
            buffer,
            (x, area.y),
            area.right(),
            &[(binding.key, key), (" ", text), (binding.hint, muted), ("   ", text)],
        );
    }
}
