//! How the frame is divided, and what is drawn where.
//!
//! ```text
//! masthead                                       2 rows
//! the screen                       | side panel
//! rail                                           8 to 10 rows
//! key line                                       1 row
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::palette::Tone;
use super::stage::Stage;
use super::{budget, field, help, keyline, masthead, panel, rail, rules, take, why};

/// The smallest terminal there is room in.
const LEAST: (u16, u16) = (80, 24);
/// Width of the side panel.
const PANEL: u16 = 47;
/// From this width on the panel has a place of its own.
const WIDE: u16 = 110;

/// The screens there are, in the order of their keys.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Screen {
    #[default]
    Field,
    Rules,
}

impl Screen {
    /// All of them with their names.
    pub(super) const ALL: [(Self, &'static str); 2] = [(Self::Field, "1 Field"), (Self::Rules, "2 Rules")];
}

/// Where everything is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Layout {
    pub(super) masthead: Rect,
    pub(super) screen: Rect,
    pub(super) panel: Option<Rect>,
    pub(super) rail: Rect,
    pub(super) keys: Rect,
}

impl Layout {
    /// `None` when there is too little room.
    pub(super) fn of(area: Rect, stage: &Stage) -> Option<Self> {
        if area.width < LEAST.0 || area.height < LEAST.1 {
            return None;
        }
        let members = stage.run.course().cast.len() as u16;
        let rail = if area.height >= 40 {
            (5 + members).clamp(8, 11)
        } else if area.height >= 32 {
            (5 + members).clamp(6, 8)
        } else {
            4
        };
        // A branch has a lane of its own.
        let rail = if area.height >= 32 { rail + u16::from(stage.branch.is_some()) } else { rail };
        let middle = area.height - 2 - rail - 1;
        let row = |y: u16, height: u16| Rect::new(area.x, area.y + y, area.width, height);
        let body = row(2, middle);
        let wide = area.width >= WIDE;
        let panel = (wide || stage.panel).then(|| Rect { x: body.right() - PANEL, width: PANEL, ..body });
        let screen = if wide { Rect { width: body.width - PANEL, ..body } } else { body };
        Some(Self { masthead: row(0, 2), screen, panel, rail: row(2 + middle, rail), keys: row(area.height - 1, 1) })
    }
}

/// Draws the stage. The same stage gives the same cells.
pub fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    // A terminal may say that it has no rows at all.
    if area.is_empty() {
        return;
    }
    buffer.set_style(area, stage.palette.base());
    let Some(layout) = Layout::of(area, stage) else {
        let needs =
            format!("Velocitas needs {}\u{d7}{} cells; this is {}\u{d7}{}", LEAST.0, LEAST.1, area.width, area.height);
        buffer.set_stringn(area.x, area.y, needs, usize::from(area.width), stage.palette.text(Tone::Text));
        return;
    };
    masthead::draw(stage, layout.masthead, buffer, area.width < WIDE);
    match stage.screen {
        Screen::Field => field::draw(stage, layout.screen, buffer),
        Screen::Rules => rules::draw(stage, layout.screen, buffer),
    }
    if let Some(panel) = layout.panel {
        for y in panel.top()..panel.bottom() {
            for x in panel.left()..panel.right() {
                buffer[(x, y)].reset();
            }
        }
        buffer.set_style(panel, stage.palette.base());
        match stage.screen {
            Screen::Field => panel::draw(stage, panel, buffer),
            Screen::Rules => rules::draw_panel(stage, panel, buffer),
        }
    }
    rail::draw(stage, layout.rail, buffer);
    keyline::draw(stage, layout.keys, buffer);
    budget::draw(stage, layout.screen, buffer);
    why::draw(stage, layout.screen, buffer);
    take::draw(stage, layout.screen, buffer);
    if let Some(scrolled) = stage.help {
        help::draw(stage, area, scrolled, buffer);
    }
}

/// Writes pieces one after the other and returns where the next one would begin.
pub(super) fn write(buffer: &mut Buffer, at: (u16, u16), end: u16, pieces: &[(&str, Style)]) -> u16 {
    let (mut x, y) = at;
    for (text, style) in pieces {
        if x >= end {
            break;
        }
        x = buffer.set_stringn(x, y, text, usize::from(end - x), *style).0;
    }
    x
}

/// An empty frame with a title over the middle of an area, as large as wanted where there is room.
pub(super) fn popup(stage: &Stage, area: Rect, wanted: (u16, u16), title: &str, buffer: &mut Buffer) -> Rect {
    let (width, height) = (wanted.0.min(area.width.saturating_sub(4)), wanted.1.min(area.height.saturating_sub(2)));
    let page = Rect::new(area.x + (area.width - width) / 2, area.y + (area.height - height) / 2, width, height);
    for y in page.top()..page.bottom() {
        for x in page.left()..page.right() {
            buffer[(x, y)].reset();
        }
    }
    buffer.set_style(page, stage.palette.base());
    frame(stage, page, title, buffer)
}

/// A frame with a title.
pub(super) fn frame(stage: &Stage, area: Rect, title: &str, buffer: &mut Buffer) -> Rect {
    use ratatui::symbols::border::Set;
    use ratatui::widgets::{Block, BorderType, Widget};
    let palette = stage.palette;
    let plain = Set {
        top_left: "+",
        top_right: "+",
        bottom_left: "+",
        bottom_right: "+",
        vertical_left: "|",
        vertical_right: "|",
        horizontal_top: "-",
        horizontal_bottom: "-",
    };
    let block = Block::bordered()
        .border_type(BorderType::Rounded)
        .border_style(palette.text(Tone::Line))
        .title_style(palette.text(Tone::Text))
        .title(format!(" {title} "));
    let block = if palette.is_ascii() { block.border_set(plain) } else { block };
    let inner = block.inner(area);
    block.render(area, buffer);
    inner
}
