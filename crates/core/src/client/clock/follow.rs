//! Keeping to what is known: *when* the next tick falls is moved, never *which number* it has, so no input is skipped.
//!
//! What is off is worked off at a tick a second; in a hurry, ticks are as short or as long as they may be. Off by more than a quarter of a
//! second the clock is set in any case.

use super::settings::{ClockChange, ClockSettings};
use crate::tick::Rate;

/// Beyond this number of nanoseconds the clock is set.
pub(super) const HARD: u64 = 250_000_000;

/// However much is allowed, no tick is stretched by more than this share.
const MOST_SLEW: f64 = 0.5;

/// What to do about the clock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::client) enum Steer {
    /// Leave it.
    Hold,
    /// Move the next tick by this number of nanoseconds (positive: later).
    Slew(i64),
    /// Set the clock by this number of nanoseconds (positive: later).
    Set(i64),
}

/// How far it is off, and what was done about it.
#[derive(Clone, Debug, Default)]
pub(super) struct Follow {
    /// All shifts up to now; positive is later.
    shifted: f64,
    /// The error still to be worked off; positive: too little lead.
    error: f64,
    /// Whether that is done as quickly as may be.
    hurries: bool,
}

impl Follow {
    /// The shift in force, to be remembered with each input sent.
    pub(super) const fn shifted(&self) -> f64 {
        self.shifted
    }

    /// What is still to be worked off, in nanoseconds; positive: too little lead.
    pub(super) const fn error(&self) -> f64 {
        self.error
    }

    /// It is off by this number of nanoseconds; positive: too little lead. `is_hard` where it is known to be off by more than that.
    pub(super) fn is_off(&mut self, error: f64, hurry: bool, is_hard: bool, settings: &ClockSettings) -> Steer {
        self.error = error;
        self.hurries |= hurry;
        let tolerance = match settings.change {
            ClockChange::Slewed => HARD as f64,
            ClockChange::Set => f64::from(settings.tolerance_ms) * 1e6,
        };
        if is_hard || self.error.abs() > tolerance {
            let by = -self.error as i64;
            self.apply(by);
            return Steer::Set(by);
        }
        Steer::Hold
    }

    /// Nothing is known of how far it is off.
    pub(super) const fn is_unknown(&mut self) {
        self.error = 0.0;
        self.hurries = false;
    }

    /// At each tick: how far to move the next one.
    pub(super) fn steer(&mut self, rate: Rate, settings: &ClockSettings) -> Steer {
        let tick = rate.nanos() as f64;
        let is_slewed = settings.change == ClockChange::Slewed;
        // Early is cheap and late is not: give ground only when there is a good half tick to spare.
        if is_slewed && (self.error > 0.125 * tick || self.error < -0.625 * tick) {
            let most = settings.slew.clamp(0.0, MOST_SLEW);
            let usual = 1.0 / f64::from(rate.hz());
            let share = if self.hurries || most < usual { most } else { usual };
            // So many more ticks in a second are each shorter by a little less.
            let (sooner, later) = (share / (1.0 + share) * tick, share * tick);
            let by = (-self.error).clamp(-sooner, later) as i64;
            self.apply(by);
            return Steer::Slew(by);
        }
        self.hurries = false;
        Steer::Hold
    }

    fn apply(&mut self, by: i64) {
        self.shifted += by as f64;
        self.error += by as f64;
    }
}
