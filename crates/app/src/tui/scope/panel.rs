//! The table of lanes, each with what it says at the playhead, and what the chosen one is.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::lane::LANES;

use super::Scope;
use crate::tui::canvas::{frame, wrapped, write};
use crate::tui::palette::Tone;
use crate::tui::panel;
use crate::tui::stage::Stage;

/// Rows that the text under the list takes.
const ABOUT: u16 = 4;

pub(super) fn draw(scope: &Scope, stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let wanted = LANES.len() as u16 + 2 + ABOUT;
    let upper = Rect { height: wanted.min(area.height), ..area };
    let inner = frame(p, upper, &format!("lanes {} a shows or hides", p.dot()), buffer);
    let room = usize::from(inner.height.saturating_sub(ABOUT)).max(1);
    let first = (scope.chosen + 1).saturating_sub(room);
    for (row, (i, lane)) in LANES.iter().enumerate().skip(first).take(room).enumerate() {
        let chosen = i == scope.chosen;
        let shown = scope.shown.iter().find(|shown| shown.lane == i);
        let tone = if shown.is_some() { Tone::Text } else { Tone::Muted };
        let style = if chosen { p.chosen() } else { p.text(tone) };
        let mark = if chosen { p.handles().1 } else { " " };
        let on = if shown.is_some() { format!("{} ", p.authority()) } else { format!("{} ", p.nothing()) };
        // A lane in sight says it itself: a terminal is not sent the same twice a frame.
        let said = shown.filter(|_| !scope.is_in_sight(i)).map_or_else(String::new, Scope::said);
        let pieces =
            [(mark, style), (&on, p.text(tone)), (&format!("{:<17}", lane.name), style), (&said, p.text(Tone::Bright))];
        write(buffer, (inner.x, inner.y + row as u16), inner.right(), &pieces);
    }
    let chosen = &LANES[scope.chosen];
    let axis = match (chosen.decades_from, scope.decades(scope.chosen)) {
        (None, _) => "",
        (_, true) => "; l: an even axis",
        (_, false) => "; l: by decades",
    };
    let about = format!("{}, {}: {}{axis}", chosen.name, chosen.unit, chosen.help);
    let y = inner.bottom().saturating_sub(ABOUT - 1);
    for (row, line) in wrapped(&about, usize::from(inner.width) - 2).iter().take(usize::from(ABOUT) - 1).enumerate() {
        write(buffer, (inner.x + 1, y + row as u16), inner.right(), &[(line, p.text(Tone::Muted))]);
    }
    let lower = Rect { y: upper.bottom(), height: area.height - upper.height, ..area };
    if lower.height >= 6 {
        panel::beliefs_of(stage, lower, buffer);
    }
}
