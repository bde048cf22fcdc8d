//! The fields of a rule and what each costs on the wire.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_core::SeenBy;

use super::Both;
use crate::tui::canvas::{frame, write};
use crate::tui::palette::Tone;
use crate::tui::stage::Stage;

pub(super) fn draw(stage: &Stage, both: &Both<'_>, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let rule = both.rule();
    let schema = rule.schema();
    let inner = frame(stage.palette, area, &format!("{} {} bits on the wire", rule.name(), p.dot()), buffer);
    let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
    let mut rows = vec![(format!("{:<10}{:<9}{:<7}{:>6}{:>8}", "input", "kind", "", "", "a tick"), muted)];
    for f in &schema.input {
        rows.push((format!("{:<10}{:<9}{:<7}{:>6}{:>8}", f.name, f.kind.name(), "", "", f.kind.bits()), text));
    }
    rows.push((format!("{:<10}{:<9}{:<7}{:>6}{:>8}", "state", "kind", "unit", "owner", "others"), muted));
    for f in &schema.state {
        let others = if f.seen_by == SeenBy::Owner { "-".to_owned() } else { f.seen_bits().to_string() };
        rows.push((
            format!("{:<10}{:<9}{:<7}{:>6}{:>8}", f.name, f.shape.name(), f.unit, f.exact_bits(), others),
            text,
        ));
    }
    let room = usize::from(inner.height).saturating_sub(2);
    if rows.len() > room && room > 0 {
        let hidden = rows.len() - (room - 1);
        rows.truncate(room - 1);
        rows.push((format!("{hidden} more: a taller terminal shows them"), muted));
    }
    for (i, (row, style)) in rows.iter().take(room).enumerate() {
        write(buffer, (inner.x + 1, inner.y + i as u16), inner.right(), &[(row, *style)]);
    }
    let y = inner.bottom().saturating_sub(2).max(inner.y);
    let input = format!("whole input {} bits a tick", schema.input_bits());
    let state = format!("whole state {} to its owner, {} to others", schema.exact_bits(), schema.seen_bits());
    for (i, line) in [input, state].iter().enumerate() {
        if y + (i as u16) < inner.bottom() {
            write(buffer, (inner.x + 1, y + i as u16), inner.right(), &[(line, p.text(Tone::Bright))]);
        }
    }
}
