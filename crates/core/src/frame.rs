//! The smoothed frame interval. What arrives between two frames waits, so the other side must allow for that.

use crate::tick::HostNanos;

/// A running mean of frame lengths.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Frame {
    last: Option<HostNanos>,
    mean: f64,
}

/// Frames over which it is smoothed.
const OVER: f64 = 16.0;
/// A longer frame is a stall and says nothing about the usual ones.
const LONGEST: i64 = 100_000_000;

impl Frame {
    /// A frame begins now.
    pub(crate) fn passed(&mut self, now: HostNanos) {
        if let Some(last) = self.last.filter(|last| now.since(*last) < LONGEST) {
            let took = now.since(last).max(0) as f64;
            self.mean = if self.mean == 0.0 { took } else { self.mean + (took - self.mean) / OVER };
        }
        self.last = Some(now);
    }

    /// Nanoseconds from frame to frame; 0 before the second.
    pub(crate) const fn mean(&self) -> i64 {
        self.mean as i64
    }
}
