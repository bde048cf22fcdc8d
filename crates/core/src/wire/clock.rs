//! The server's time, told every so often to who goes by it.

use super::bits::{BitReader, BitWriter};
use super::error::WireError;
use crate::tick::{Rate, Tick, WireTick};

/// Says in which tick the server is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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

    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter) {
        out.put(u32::from(self.tick.0), 16);
        out.put(u32::from(self.part), 8);
    }

    pub(super) fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        Ok(Self { tick: WireTick(from.take(16)? as u16), part: from.take(8)? as u8 })
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
