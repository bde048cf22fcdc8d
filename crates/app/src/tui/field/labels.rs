//! Names on the ground: never under the loupe, never over what is drawn, never cut.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::tui::palette::Palette;

/// Words that want a place near a cell.
pub(super) struct Label {
    cell: (u16, u16),
    /// Columns between the cell and the words.
    beside: u16,
    words: String,
    style: Style,
}

impl Label {
    pub(super) const fn beside(cell: (u16, u16), beside: u16, words: String, style: Style) -> Self {
        Self { cell, beside, words, style }
    }
}

/// Writes each where there is room for it: at the right, at the left, a row or two away; the first goes first, and what has no room is
/// left out. Where `whole`, not across an edge of what is behind, if there is another place.
pub(super) fn place(
    p: Palette,
    labels: &[Label],
    (area, hidden): (Rect, Option<Rect>),
    whole: bool,
    buffer: &mut Buffer,
) {
    // Letters written here are not ground any more, so that names keep clear of each other.
    for label in labels {
        let width = label.words.chars().count() as u16;
        let (x, y) = (i32::from(label.cell.0), i32::from(label.cell.1));
        let (right, left) = (x + i32::from(label.beside), x - i32::from(width) - i32::from(label.beside.max(1)) + 1);
        let edge = i32::from(area.right()) - i32::from(width);
        let columns = [right, right.min(edge), left, x - i32::from(width / 2)];
        let rows = [0, 1, -1, 2, -2];
        let places = rows.into_iter().flat_map(|row| columns.map(|column| (column, y + row)));
        let free: Vec<_> = places.filter(|at| is_free(p, *at, width, area, hidden, buffer)).collect();
        let even = free.iter().find(|at| whole && is_even(**at, width, buffer));
        if let Some(&(x, y)) = even.or(free.first()) {
            buffer.set_string(x as u16, y as u16, &label.words, label.style);
        }
    }
}

/// Whether the same is behind all of it.
fn is_even((x, y): (i32, i32), width: u16, buffer: &Buffer) -> bool {
    let behind = |x: u16| (buffer[(x, y as u16)].symbol(), buffer[(x, y as u16)].bg);
    let x = x as u16;
    (x..x + width).all(|column| behind(column) == behind(x))
}

fn is_free(p: Palette, (x, y): (i32, i32), width: u16, area: Rect, hidden: Option<Rect>, buffer: &Buffer) -> bool {
    let row = i32::from(area.top())..i32::from(area.bottom());
    if !row.contains(&y) || x < i32::from(area.left()) || x + i32::from(width) > i32::from(area.right()) {
        return false;
    }
    // A gap on both sides, so that two names are two.
    let (from, to) = (x.max(i32::from(area.left()) + 1) as u16 - 1, (x as u16 + width + 1).min(area.right()));
    (from..to).all(|x| {
        let is_hidden = hidden.is_some_and(|hidden| hidden.contains((x, y as u16).into()));
        !is_hidden && p.is_ground(buffer[(x, y as u16)].symbol())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::palette::Colours;

    #[test]
    fn names_keep_clear_of_each_other_of_what_is_drawn_and_of_the_loupe() {
        let area = Rect::new(0, 0, 20, 4);
        let mut buffer = Buffer::empty(area);
        buffer.set_string(0, 1, "o*****", Style::new());
        let label = |cell, words: &str| Label::beside(cell, 2, words.to_owned(), Style::new());
        let labels = [
            label((0, 1), "heron"),
            label((1, 2), "plover"),
            label((17, 1), "teal"),
            label((3, 3), "a name that is too long to have room here"),
        ];
        let p = Palette::new(Colours::True, false);
        place(p, &labels, (area, Some(Rect::new(12, 0, 8, 2))), false, &mut buffer);
        let rows: Vec<String> =
            (0..4).map(|y| (0..20).map(|x| buffer[(x, y)].symbol().to_owned()).collect::<String>()).collect();
        assert_eq!(rows[1], format!("{:<20}", "o*****"), "nothing is written over: {rows:?}");
        assert!(rows[2].contains(" heron") && rows.iter().any(|row| row.contains("plover")), "{rows:?}");
        assert!(rows[2..].iter().any(|row| row.contains("teal")) && !rows[..2].concat().contains("teal"), "{rows:?}");
        assert!(!rows.concat().contains("a name"));
    }

    #[test]
    fn a_name_goes_where_no_edge_is_behind_it_if_there_is_room() {
        let area = Rect::new(0, 0, 24, 1);
        let placed = |whole| {
            let mut buffer = Buffer::empty(area);
            // A wall from column 13 on.
            for x in 13..24 {
                buffer[(x, 0)].set_bg(ratatui::style::Color::Red);
            }
            let labels = [Label::beside((9, 0), 2, "heron".to_owned(), Style::new())];
            place(Palette::new(Colours::True, false), &labels, (area, None), whole, &mut buffer);
            (0..24).find(|x| buffer[(*x, 0)].symbol() == "h")
        };
        assert_eq!((placed(false), placed(true)), (Some(11), Some(3)));
    }
}
