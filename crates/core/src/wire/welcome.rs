//! Being let in.

use super::bits::{BitReader, BitWriter};
use super::error::{WireError, ranged};

/// What a newcomer must know. The envelope names its connection.
#[derive(Clone, Debug, PartialEq, Eq)]
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
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter) {
        out.put(self.asked_us, 32);
        out.put(u32::from(self.slot), 16);
        out.long(self.base);
        out.long(self.since_base_us);
        out.put(u32::from(self.rate), 16);
        out.put(u32::from(self.snapshot_every), 8);
        out.put(self.frame_us, 32);
        out.put(self.gone_ms, 32);
    }

    pub(super) fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        let welcome = Self {
            asked_us: from.take(32)?,
            slot: from.take(16)? as u16,
            base: from.long()?,
            since_base_us: from.long()?,
            rate: from.take(16)? as u16,
            snapshot_every: from.take(8)? as u8,
            frame_us: from.take(32)?,
            gone_ms: from.take(32)?,
        };
        ranged("tick rate", u32::from(welcome.rate), 1, 1000)?;
        ranged("snapshot interval", u32::from(welcome.snapshot_every), 1, 255)?;
        // Beyond a century of microseconds, sums of times would overflow.
        ranged("high half of the server time", (welcome.since_base_us >> 32) as u32, 0, 1 << 19)?;
        ranged("high half of the base tick", (welcome.base >> 32) as u32, 0, 1 << 19)?;
        Ok(welcome)
    }
}
