//! Parts of a cell: what is filled of one, in eighths across and down, and the glyph that shows it best.
//!
//! Quarters show corners; the lower and left eighths show edges, so that one that is a little askew rises an eighth at a time. They
//! are of the Unicode block "Block Elements"; the others are their inverse, with the colours changed over.

/// What is filled: bit 0 is the upper left, bit 7 the upper right, bit 63 the lower right.
pub(super) type Mask = u64;

/// All of a cell.
pub(super) const ALL: Mask = Mask::MAX;
/// Eighths on each side.
pub(super) const SIDE: u8 = 8;

/// The quarters of a cell, as glyphs: bit 0 of the place is the upper left, then the upper right, the lower left, the lower right.
const QUARTERS: [char; 16] = [
    ' ', '\u{2598}', '\u{259d}', '\u{2580}', '\u{2596}', '\u{258c}', '\u{259e}', '\u{259b}', '\u{2597}', '\u{259a}',
    '\u{2590}', '\u{259c}', '\u{2584}', '\u{2599}', '\u{259f}', '\u{2588}',
];
/// From an eighth to seven, from below and from the left.
const LOWER: [char; 7] = ['\u{2581}', '\u{2582}', '\u{2583}', '\u{2584}', '\u{2585}', '\u{2586}', '\u{2587}'];
const LEFT: [char; 7] = ['\u{258f}', '\u{258e}', '\u{258d}', '\u{258c}', '\u{258b}', '\u{258a}', '\u{2589}'];

/// The upper and the right eighth.
const RIMS: [(char, Mask); 2] = [('\u{2594}', filled((0, 0), (8, 1))), ('\u{2595}', filled((7, 0), (8, 8)))];

/// The bits of a rectangle, from a column and row up to others.
const fn filled((left, top): (u8, u8), (right, bottom): (u8, u8)) -> Mask {
    let (mut mask, mut row) = (0, top);
    while row < bottom {
        let mut column = left;
        while column < right {
            mask |= 1 << (row * SIDE + column);
            column += 1;
        }
        row += 1;
    }
    mask
}

/// What the quarters of a glyph fill.
const fn quarters(bits: u8) -> Mask {
    let (mut mask, mut quarter) = (0, 0);
    while quarter < 4 {
        if bits >> quarter & 1 == 1 {
            let at = (quarter % 2 * 4, quarter / 2 * 4);
            mask |= filled(at, (at.0 + 4, at.1 + 4));
        }
        quarter += 1;
    }
    mask
}

const fn quarter_masks() -> [Mask; 16] {
    let (mut all, mut bits) = ([0; 16], 0);
    while bits < 16 {
        all[bits] = quarters(bits as u8);
        bits += 1;
    }
    all
}

const QUARTER_MASKS: [Mask; 16] = quarter_masks();

/// The glyph that shows best what is filled, and whether it is to be drawn inverse.
pub(super) fn closest(mask: Mask) -> (char, bool) {
    let quarters = QUARTERS.into_iter().zip(QUARTER_MASKS).map(|(glyph, filled)| ((glyph, false), filled));
    let eighths = (1..SIDE).flat_map(|n| {
        let place = usize::from(n) - 1;
        let low = (LOWER[place], filled((0, SIDE - n), (SIDE, SIDE)), n == 1);
        let left = (LEFT[place], filled((0, 0), (n, SIDE)), true);
        // A font whose block does not reach the bottom of the cell lets a line of what lies behind be seen there. Below what fills
        // all but a rim it belongs to it; farther below it would be a line of its own.
        [low, left].into_iter().flat_map(|(glyph, filled, turns)| {
            [Some(((glyph, false), filled)), turns.then_some(((glyph, true), !filled))].into_iter().flatten()
        })
    });
    let rims = RIMS.into_iter().map(|(glyph, filled)| ((glyph, false), filled));
    let best = quarters.chain(eighths).chain(rims).min_by_key(|(_, filled)| (filled ^ mask).count_ones());
    best.map_or((' ', false), |(glyph, _)| glyph)
}

/// Whether a glyph is a part of a cell.
pub(super) fn is_part(glyph: char) -> bool {
    QUARTERS.contains(&glyph)
        || LOWER.contains(&glyph)
        || LEFT.contains(&glyph)
        || RIMS.iter().any(|(rim, ..)| *rim == glyph)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_glyph_fills_is_shown_by_it() {
        assert_eq!(closest(0), (' ', false));
        assert_eq!(closest(ALL), ('\u{2588}', false));
        assert_eq!(closest(filled((0, 0), (4, 4))), ('\u{2598}', false));
        assert_eq!(closest(filled((0, 7), (8, 8))), ('\u{2581}', false));
        assert_eq!(closest(filled((0, 0), (8, 1))), ('\u{2594}', false));
        assert_eq!(closest(filled((0, 0), (8, 7))), ('\u{2581}', true), "the upper seven are the lower one, inverse");
        assert_eq!(closest(filled((0, 0), (3, 8))), ('\u{258d}', false));
        assert_eq!(closest(filled((5, 0), (8, 8))), ('\u{258b}', true));
        // An edge that rises by an eighth within the cell is the nearest of those that do not.
        let askew = filled((0, 5), (8, 8)) | filled((6, 4), (8, 5));
        assert_eq!(closest(askew), ('\u{2583}', false));
        assert!("\u{2581}\u{2589}\u{259a} ".chars().all(is_part) && !is_part('x'));
    }
}
