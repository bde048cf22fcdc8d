//! The server's time, told every so often to who goes by it.

use super::bits::BitWriter;
use super::noting::FieldValue;
use super::rows::{Passed, Way, written};
use crate::tick::{Rate, Tick, WireTick};

/// Says in which tick the server is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ClockTold {
    /// The newest tick that fell due.
    pub tick: WireTick,
    /// How much of a tick has passed since, in 256ths; 255 also for more.
    pub part: u8,
}

impl ClockTold {
    /// What is said `since` nanoseconds after `tick` fell due.
    pub fn new(tick: Tick, since: i64, rate: Rate) -> Self {
        Self { tick: tick.wire(), part: (since.max(0) * 256 / rate.nanos()).min(255) as u8 }
    }

    /// The moment that is meant, in nanoseconds since `base` fell due, where `tick` is the one told.
    pub fn since(self, base: Tick, tick: Tick, rate: Rate) -> i64 {
        rate.due(tick.0.saturating_sub(base.0)) + i64::from(self.part) * rate.nanos() / 256
    }

    /// All of it.
    pub(super) fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        way.tick("tick", &mut self.tick)?;
        way.byte("of a tick since", &mut self.part, 8, |part| FieldValue::Real(part as f32 / 2.56, "%"))
    }

    /// Appends the message.
    pub fn write(mut self, out: &mut BitWriter) {
        written(self.rows(out));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_moment_meant_is_the_moment_told_to_a_256th_of_a_tick() {
        let rate = Rate::new(60).expect("a rate");
        let base = Tick(1000);
        for since in [0, 1, 5_000_000, 16_000_000] {
            let told = ClockTold::new(Tick(1240), since, rate);
            let meant = told.since(base, Tick(1240), rate);
            let off = rate.due(240) + since - meant;
            assert!((0..=rate.nanos() / 256 + 1).contains(&off), "{since}: {off}");
        }
        assert_eq!(ClockTold::new(Tick(1), 90_000_000, rate).part, 255, "it does not wrap");
    }
}
