//! A client that says goodbye until it is answered, or long enough.

use crate::tick::HostNanos;
use crate::wire::{Acks, BitWriter, MessageKind};

/// Time between two goodbyes.
const EVERY: i64 = 50_000_000;
/// How many are sent at most; then the server finds out by itself.
const MOST: u32 = 40;

/// Going.
#[derive(Clone, Debug)]
pub(super) struct Leaving {
    /// The connection to be ended.
    pub(super) epoch: u8,
    said: Option<HostNanos>,
    left: u32,
}

impl Leaving {
    /// From the connection of this epoch; without one there is nobody to say it to.
    pub(super) fn new(epoch: Option<u8>) -> Self {
        Self { epoch: epoch.unwrap_or_default(), said: None, left: if epoch.is_some() { MOST } else { 0 } }
    }

    /// A goodbye, when it is time for one. `Err` when that was the last.
    pub(super) fn say(&mut self, now: HostNanos, acks: &mut Acks) -> Result<Option<Vec<u8>>, ()> {
        if self.said.is_some_and(|said| now.since(said) < EVERY) {
            return Ok(None);
        }
        self.left = self.left.checked_sub(1).ok_or(())?;
        self.said = Some(now);
        let mut out = BitWriter::new();
        acks.header(MessageKind::Goodbye, self.epoch, now).write(&mut out);
        Ok(Some(out.finish()))
    }

    pub(super) fn deadline(&self) -> Option<HostNanos> {
        self.said.map(|said| said.plus(EVERY))
    }
}
