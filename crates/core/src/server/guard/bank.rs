//! Fair time: each claim's advance is paid for with ticks that have passed.

use crate::tick::Rate;

/// Dropped ticks that are made good for at most: beyond them what waits in the socket is thrown away.
pub(super) const MOST_SLEPT: u64 = 4096;

/// Fair time: as many ticks as a server second at most, gaining one and a little a tick.
#[derive(Clone, Copy, Debug)]
pub(in crate::server) struct Bank {
    /// In 512ths of a tick.
    balance: u64,
    cap: u64,
    /// Time in which the server stood still and its ticks were dropped, while the owner's went on. Beyond the cap, since
    /// it did pass; until the owner has caught up, or a while at most.
    slept: u64,
    /// Server ticks until that lapses.
    lapses: u32,
    /// Server ticks in a row in which a claim could not pay.
    deficit: u32,
}

/// What came of a charge.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::server) enum Charge {
    /// It is paid.
    Paid,
    /// It has to wait.
    Waits,
    /// It has waited for two seconds: no bunch of packets, no drift does that.
    Overdrawn,
    /// It could never be paid.
    TooLong,
}

impl Bank {
    const UNIT: u64 = 512;

    pub(in crate::server) fn new(rate: Rate) -> Self {
        let cap = u64::from(rate.hz()) * Self::UNIT;
        Self { balance: cap, cap, slept: 0, lapses: 0, deficit: 0 }
    }

    /// A server tick has passed: 1 + 1/512 ticks, which covers 1,953 ppm of drift.
    pub(in crate::server) fn gain(&mut self) {
        self.balance = (self.balance + Self::UNIT + 1).min(self.cap);
        self.lapses = self.lapses.saturating_sub(1);
        if self.lapses == 0 {
            self.slept = 0;
        }
    }

    /// The server has dropped this number of ticks, and the owner has not.
    pub(in crate::server) fn sleep(&mut self, ticks: u64) {
        self.slept = self.slept.saturating_add(ticks.min(MOST_SLEPT) * (Self::UNIT + 1));
        // Two seconds: what was under way has arrived by then.
        self.lapses = (2 * self.cap / Self::UNIT) as u32;
    }

    /// The owner has caught up with the server.
    pub(in crate::server) const fn wake(&mut self) {
        self.slept = 0;
    }

    /// Has a claim's advance paid for.
    pub(in crate::server) fn charge(&mut self, ticks: u64) -> Charge {
        if ticks > self.longest() {
            return Charge::TooLong;
        }
        if self.pay(ticks) {
            self.deficit = 0;
            return Charge::Paid;
        }
        self.deficit += 1;
        if u64::from(self.deficit) > 2 * self.longest() { Charge::Overdrawn } else { Charge::Waits }
    }

    /// What waited is waited for no more.
    pub(in crate::server) const fn forgive(&mut self) {
        self.deficit = 0;
    }

    /// The longest advance that could ever be paid.
    const fn longest(&self) -> u64 {
        self.cap / Self::UNIT
    }

    /// Pays for an advance, or not.
    #[must_use]
    pub(super) fn pay(&mut self, ticks: u64) -> bool {
        let cost = ticks.saturating_mul(Self::UNIT);
        let can = cost <= self.balance + self.slept;
        if can {
            // What lapses goes first.
            let from_sleep = cost.min(self.slept);
            self.slept -= from_sleep;
            self.balance -= cost - from_sleep;
        }
        can
    }
}
