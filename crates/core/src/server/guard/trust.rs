//! How much may be taken at its owner's word where what could tell was lost.

use crate::tick::Rate;

/// Of twenty ticks one, saved up to a second.
#[derive(Clone, Copy, Debug)]
pub(super) struct Trust {
    /// In twentieths of a tick.
    balance: u64,
    cap: u64,
}

impl Trust {
    const PARTS: u64 = 20;

    pub(super) fn new(rate: Rate) -> Self {
        let cap = u64::from(rate.hz()) * Self::PARTS;
        Self { balance: cap, cap }
    }

    /// A tick has passed.
    pub(super) fn gain(&mut self) {
        self.balance = (self.balance + 1).min(self.cap);
    }

    /// Accepts this number of ticks without evidence, if that many may still be accepted.
    #[must_use]
    pub(super) fn pay(&mut self, ticks: u64) -> bool {
        let left = self.balance.checked_sub(ticks.saturating_mul(Self::PARTS));
        self.balance = left.unwrap_or(self.balance);
        left.is_some()
    }
}
