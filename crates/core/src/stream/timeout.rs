//! After how long a piece is taken for lost, as RFC 6298 measures it.

/// Before anything was measured.
const FIRST: i64 = 1_000_000_000;
/// Never shorter. RFC 6298 asks for a second, which nobody plays with; this is what is common.
const SHORTEST: i64 = 200_000_000;
/// Never longer, however often it was doubled.
const LONGEST: i64 = 60_000_000_000;

/// The time-out, in nanoseconds.
#[derive(Clone, Copy, Debug)]
pub(super) struct TimeOut {
    /// The round trip, smoothed, and how far it is off on average.
    smoothed: Option<(i64, i64)>,
    length: i64,
}

impl Default for TimeOut {
    fn default() -> Self {
        Self { smoothed: None, length: FIRST }
    }
}

impl TimeOut {
    pub(super) const fn length(self) -> i64 {
        self.length
    }

    /// A round trip was measured by a piece that was sent once (Karn's rule). `step` is how coarsely time is looked at.
    pub(super) fn sample(&mut self, round_trip: i64, step: i64) {
        let (mean, off) = match self.smoothed {
            None => (round_trip, round_trip / 2),
            Some((mean, off)) => ((7 * mean + round_trip) / 8, (3 * off + (mean - round_trip).abs()) / 4),
        };
        self.smoothed = Some((mean, off));
        self.length = (mean + step.max(4 * off)).clamp(SHORTEST, LONGEST);
    }

    /// It ran out.
    pub(super) fn back_off(&mut self) {
        self.length = (2 * self.length).min(LONGEST);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MS: i64 = 1_000_000;

    #[test]
    fn it_is_measured_doubled_and_measured_again() {
        let mut timeout = TimeOut::default();
        assert_eq!(timeout.length(), 1000 * MS);
        timeout.sample(100 * MS, 0);
        assert_eq!(timeout.length(), 300 * MS, "R + 4 · R/2");
        timeout.sample(180 * MS, 0);
        assert_eq!(timeout.length(), (110 + 4 * (3 * 50 + 80) / 4) * MS, "1/8 and 1/4 of what is new");
        timeout.back_off();
        timeout.back_off();
        assert_eq!(timeout.length(), 340 * 4 * MS);
        (0..60).for_each(|_| timeout.sample(100 * MS, 0));
        assert_eq!(timeout.length(), SHORTEST, "of an even way no more than the least");
        (0..20).for_each(|_| timeout.back_off());
        assert_eq!(timeout.length(), LONGEST);
    }
}
