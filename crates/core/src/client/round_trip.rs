//! The round trip as measured: mean and spread over the last few dozen answers.

/// Answers over which it is smoothed.
const OVER: f64 = 48.0;

/// A running mean and variance of round trips.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct RoundTrip {
    mean: f64,
    variance: f64,
    count: f64,
}

impl RoundTrip {
    /// Takes a measured round trip in nanoseconds.
    pub(super) fn sample(&mut self, nanos: i64) {
        self.count = if self.count < OVER { self.count + 1.0 } else { OVER };
        let off = nanos as f64 - self.mean;
        let share = 1.0 / self.count;
        self.mean += off * share;
        // Welford's recurrence while filling, exponential afterwards.
        self.variance = (1.0 - share) * (self.variance + share * off * off);
    }

    /// Mean in nanoseconds.
    pub(super) const fn mean(&self) -> i64 {
        self.mean as i64
    }

    /// Standard deviation in nanoseconds.
    pub(super) fn sigma(&self) -> i64 {
        libm::sqrt(self.variance) as i64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mean_and_spread_of_a_square_wave() {
        let mut rtt = RoundTrip::default();
        for i in 0..400 {
            rtt.sample(if i % 2 == 0 { 60_000_000 } else { 100_000_000 });
        }
        assert!((rtt.mean() - 80_000_000).abs() < 1_000_000);
        assert!((rtt.sigma() - 20_000_000).abs() < 1_000_000);
    }
}
