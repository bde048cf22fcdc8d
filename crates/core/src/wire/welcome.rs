//! Being let in.

use super::bits::BitWriter;
use super::error::ranged;
use super::noting::FieldValue;
use super::rows::{Passed, Way, micros, number, written};

/// What a newcomer must know. The envelope names its connection.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Welcome {
    /// The clock in the envelope of the hello that this answers: an answer to another's hello is none.
    pub asked_us: u32,
    /// The newcomer's place at the server.
    pub slot: u16,
    /// Tick from which due times are counted.
    pub base: u64,
    /// Server time since that tick, in microseconds, when this was sent.
    pub since_base_us: u64,
    /// Ticks a second.
    pub rate: u16,
    /// Ticks from snapshot to snapshot.
    pub snapshot_every: u8,
    /// How far apart the server's frames are, in microseconds: inputs wait for the next one.
    pub frame_us: u32,
    /// Milliseconds without a word after which each takes the other for gone.
    pub gone_ms: u32,
}

impl Welcome {
    /// All of it.
    pub(super) fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        way.bits("clock of the hello", &mut self.asked_us, 32, micros)?;
        way.word("place", &mut self.slot, number)?;
        way.long("base tick", &mut self.base, FieldValue::Number)?;
        way.long("since the base", &mut self.since_base_us, |us| FieldValue::Real(us as f32 / 1e3, "ms"))?;
        way.word("tick rate", &mut self.rate, |rate| FieldValue::Real(rate as f32, "Hz"))?;
        way.byte("snapshot every", &mut self.snapshot_every, 8, number)?;
        way.bits("server's frames", &mut self.frame_us, 32, micros)?;
        way.bits("gone after", &mut self.gone_ms, 32, |ms| FieldValue::Real(ms as f32, "ms"))?;
        if !W::READS {
            return Ok(());
        }
        ranged("tick rate", u32::from(self.rate), 1, 1000)?;
        ranged("snapshot interval", u32::from(self.snapshot_every), 1, 255)?;
        // Beyond a century of microseconds, sums of times would overflow.
        ranged("high half of the server time", (self.since_base_us >> 32) as u32, 0, 1 << 19)?;
        ranged("high half of the base tick", (self.base >> 32) as u32, 0, 1 << 19)?;
        Ok(())
    }

    /// Appends the message.
    pub fn write(mut self, out: &mut BitWriter) {
        written(self.rows(out));
    }
}
