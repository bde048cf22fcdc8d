//! Writing and framing on cells.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::palette::{Palette, Tone};

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

/// Empties an area: whatever was drawn there is gone.
pub(super) fn clear(palette: Palette, area: Rect, buffer: &mut Buffer) {
    for (x, y) in area.positions().map(Into::into) {
        buffer[(x, y)].reset();
    }
    buffer.set_style(area, palette.base());
}

/// An empty frame with a title over the middle of an area, as large as wanted where there is room.
pub(super) fn popup(palette: Palette, area: Rect, wanted: (u16, u16), title: &str, buffer: &mut Buffer) -> Rect {
    let (width, height) = (wanted.0.min(area.width.saturating_sub(4)), wanted.1.min(area.height.saturating_sub(2)));
    let page = Rect::new(area.x + (area.width - width) / 2, area.y + (area.height - height) / 2, width, height);
    clear(palette, page, buffer);
    frame(palette, page, title, buffer)
}

/// A frame with a title.
pub(super) fn frame(palette: Palette, area: Rect, title: &str, buffer: &mut Buffer) -> Rect {
    use ratatui::symbols::border::Set;
    use ratatui::widgets::{Block, BorderType, Widget};
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

/// Text in lines of at most `width` characters, broken between words.
pub(super) fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let line = lines.last_mut().filter(|l| l.is_empty() || l.chars().count() + 1 + word.chars().count() <= width);
        match line {
            Some(line) => {
                if !line.is_empty() {
                    line.push(' ');
                }
                line.push_str(word);
            }
            None => lines.push(word.to_owned()),
        }
    }
    lines
}
