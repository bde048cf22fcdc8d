//! How many bytes may be under way: slow start, congestion avoidance, and half after a loss (RFC 5681).

use crate::wire::MAX_DATAGRAM;

/// The bytes of a full piece.
const FULL: usize = MAX_DATAGRAM;
/// To begin with, for pieces of this size (RFC 5681, section 3.1).
const FIRST: usize = 3 * FULL;
/// Never more: so much waits to be sent at most, with what is under way.
pub(super) const MOST_BYTES: usize = 65_536;

/// The congestion window, in bytes.
#[derive(Clone, Copy, Debug)]
pub(super) struct Window {
    size: usize,
    threshold: usize,
}

impl Default for Window {
    fn default() -> Self {
        Self { size: FIRST, threshold: MOST_BYTES }
    }
}

impl Window {
    pub(super) const fn size(self) -> usize {
        self.size
    }

    /// This many bytes are known to have come, while the window was made use of.
    pub(super) fn grow(&mut self, bytes: usize) {
        let by = if self.size < self.threshold { bytes.min(FULL) } else { (FULL * bytes.min(FULL) / self.size).max(1) };
        self.size = (self.size + by).min(MOST_BYTES);
    }

    /// A loss was noticed while this many bytes were under way.
    pub(super) fn lost(&mut self, flight: usize) {
        self.threshold = (flight / 2).max(2 * FULL);
        self.size = self.threshold;
    }

    /// The time-out ran out while this many bytes were under way.
    pub(super) fn timed_out(&mut self, flight: usize) {
        self.lost(flight);
        self.size = FULL;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_grows_fast_then_slowly_and_a_loss_halves_it() {
        let mut window = Window::default();
        window.timed_out(12 * FULL);
        assert_eq!((window.size(), window.threshold), (FULL, 6 * FULL));
        (0..5).for_each(|_| window.grow(FULL));
        assert_eq!(window.size(), 6 * FULL, "one for each");
        (0..6).for_each(|_| window.grow(FULL));
        assert!((6 * FULL + FULL / 2..=7 * FULL).contains(&window.size()), "about one for a whole window");
        window.lost(10 * FULL);
        assert_eq!(window.size(), 5 * FULL, "half of what was under way");
        (0..100_000).for_each(|_| window.grow(FULL));
        assert_eq!(window.size(), MOST_BYTES);
        window.lost(10);
        assert_eq!(window.size(), 2 * FULL, "never less");
    }
}
