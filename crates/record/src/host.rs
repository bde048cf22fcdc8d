//! A machine's clock and frames.
//!
//! No two machines agree on the time, run at the same speed, or come round at the same moment. A machine does
//! everything once a frame: what arrives in between waits in its socket.

use velocitas_core::HostNanos;

use crate::time::LabTime;

/// What a machine is like.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct HostSpec {
    /// What its clock reads when the run begins.
    pub offset: HostNanos,
    /// How much too fast its clock runs, in millionths.
    pub drift_ppm: f64,
    /// When its first frame falls, after the beginning.
    pub phase: LabTime,
    /// Frames a second.
    pub fps: f64,
    /// Standard deviation of a frame's length as a share of it.
    pub unevenness: f64,
    /// Long frames a minute.
    pub hitches_per_minute: f64,
    /// How long those are, give or take a half.
    pub hitch: LabTime,
}

impl HostSpec {
    /// An even machine with a perfect clock.
    pub const PERFECT: Self = Self {
        offset: HostNanos(1_000_000_000),
        drift_ppm: 0.0,
        phase: LabTime::ZERO,
        fps: 60.0,
        unevenness: 0.0,
        hitches_per_minute: 0.0,
        hitch: LabTime::ZERO,
    };

    /// What the clock reads at a moment.
    pub fn read(&self, now: LabTime) -> HostNanos {
        let drift = (i128::from(now.0) * (self.drift_ppm * 1000.0) as i128 / 1_000_000_000) as i64;
        self.offset.plus(now.0 as i64 + drift)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_drifting_clock_gains_what_it_should() {
        let host = HostSpec { drift_ppm: 100.0, ..HostSpec::PERFECT };
        let read = host.read(LabTime::from_secs(600.0)).since(host.offset);
        assert_eq!(read, 600_060_000_000);
    }
}
