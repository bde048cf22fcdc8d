//! What part of time the rail shows.

use ratatui::layout::Rect;
use velocitas_record::LabTime;

/// Width of the names at the left.
pub(in crate::tui) const NAMES: u16 = 9;
/// Lengths of a slice, in milliseconds.
const SLICES: [u64; 10] = [10, 20, 40, 80, 160, 320, 640, 1280, 2560, 5120];

/// What part of time the rail shows.
#[derive(Clone, Copy, Debug)]
pub(in crate::tui) struct RailView {
    zoom: usize,
    from: LabTime,
    /// Columns of a page.
    columns: u64,
}

impl Default for RailView {
    fn default() -> Self {
        Self { zoom: 2, from: LabTime::ZERO, columns: 148 }
    }
}

impl RailView {
    pub(in crate::tui) fn slice(&self) -> LabTime {
        LabTime(SLICES[self.zoom] * 1_000_000)
    }

    /// The first moment shown, and the length of a column.
    pub(in crate::tui) fn page(&self) -> (LabTime, LabTime) {
        (self.from, self.slice())
    }

    /// The span shown.
    #[cfg(test)]
    pub(in crate::tui) fn span(&self) -> (LabTime, LabTime) {
        (self.from, self.from.plus(LabTime(self.slice().0 * self.columns)))
    }

    /// Turns the page until the playhead is on it.
    pub(in crate::tui) fn follow(&mut self, at: LabTime, now: LabTime) {
        let slice = self.slice().0;
        let page = slice * self.columns;
        let half = page / 2 / slice * slice;
        if at < self.from {
            self.from = LabTime(at.0.saturating_sub(half) / slice * slice);
        }
        if at.0 >= self.from.0 + page - slice {
            self.from = LabTime((at.0 - half) / slice * slice);
        }
        if now.0 < page {
            self.from = LabTime::ZERO;
        }
    }

    /// Lays the page out for a terminal of this width.
    pub(in crate::tui) fn fit(&mut self, width: u16) {
        self.columns = u64::from(width.saturating_sub(NAMES).max(40));
    }

    pub(in crate::tui) fn zoom(&mut self, finer: bool) {
        self.zoom = if finer { self.zoom.saturating_sub(1) } else { (self.zoom + 1).min(SLICES.len() - 1) };
    }

    /// The moment that a cell of the rail stands for.
    pub(in crate::tui) fn moment_at(&self, area: Rect, x: u16, y: u16) -> Option<LabTime> {
        let inside = y > area.top() && y < area.bottom() && x >= area.left() + NAMES && x < area.right();
        let column = u64::from(x.checked_sub(area.left() + NAMES)?);
        inside.then(|| self.from.plus(LabTime(self.slice().0 * (column + 1) - 1)))
    }

    /// Columns that fit an area.
    pub(in crate::tui) fn fitting(area: Rect) -> usize {
        usize::from(area.width.saturating_sub(NAMES))
    }
}
