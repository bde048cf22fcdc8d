//! Knowing which tick the server is in, and running ahead by just enough that inputs arrive in time.
//!
//! What is known comes from [how early inputs arrive](margins), from [the server's time](server_time), or from both; how it is
//! [followed](follow) is another question. Each is a choice of the [settings](settings).

mod follow;
mod margins;
mod server_time;
mod settings;

pub use settings::{ClockBy, ClockChange, ClockSettings, LeadBy};

use std::collections::VecDeque;

use follow::Follow;
pub(super) use follow::Steer;
use margins::{Margin, Margins, OTHER_TICKS};
use server_time::ServerTime;

use super::round_trip::RoundTrip;
use crate::tick::{HostNanos, Rate, Tick};
use crate::tick_loop::TickLoop;
use crate::wire::Welcome;

/// Times of leaving that are remembered.
const SHIFTS: usize = 512;
/// A server's frame is not believed to be longer than this, in microseconds.
pub(super) const LONGEST_FRAME: u32 = 100_000;

/// A client's clock: what it knows of the server's, and how it follows.
#[derive(Clone, Debug)]
pub(super) struct Clock {
    margins: Margins,
    server: ServerTime,
    follow: Follow,
    /// Shift in force when datagrams left, by time.
    shifts: VecDeque<(HostNanos, f64)>,
    /// For how long what arrives waits at the server, in nanoseconds.
    waits: i64,
}

/// What a client has measured of the way and of itself.
#[derive(Clone, Copy, Debug)]
pub(super) struct Measured<'a> {
    pub(super) round_trip: &'a RoundTrip,
    /// Nanoseconds from frame to frame.
    pub(super) frame: i64,
}

impl Clock {
    /// The clock of a newcomer.
    pub(super) fn new(now: HostNanos, sent_us: u32, welcome: &Welcome, round_trip: &RoundTrip) -> Self {
        Self {
            margins: Margins::default(),
            server: ServerTime::new(now, sent_us, welcome, round_trip.mean()),
            follow: Follow::default(),
            shifts: VecDeque::new(),
            waits: i64::from(welcome.frame_us.min(LONGEST_FRAME)) * 1000,
        }
    }

    /// Something leaves now.
    pub(super) fn sent(&mut self, now: HostNanos) {
        self.shifts.push_back((now, self.follow.shifted()));
        if self.shifts.len() > SHIFTS {
            self.shifts.pop_front();
        }
    }

    /// A datagram arrived that left by the server's clock at `sent_us`; a round trip was measured by it.
    pub(super) fn exchanged(&mut self, now: HostNanos, sent_us: u32, round_trip: i64, settings: &ClockSettings) {
        if settings.by == ClockBy::Timestamps {
            self.server.exchanged(now, sent_us, round_trip);
        }
    }

    /// The server told its time, in nanoseconds since the base of its ticks.
    pub(super) fn told(&mut self, now: HostNanos, since: i64, round_trip: &RoundTrip, settings: &ClockSettings) {
        if settings.by == ClockBy::Told {
            self.server.told(now, since, round_trip.mean());
        }
    }

    /// A snapshot reports the margin of inputs that `left` when the newest datagram did that it acknowledges. What to do about the clock.
    pub(super) fn reported(
        &mut self,
        ticks: &TickLoop,
        now: HostNanos,
        (margin, left): (Option<i8>, Option<HostNanos>),
        measured: Measured<'_>,
        settings: &ClockSettings,
    ) -> Steer {
        let rate = ticks.rate();
        let report = margin.and_then(|quarters| self.report(rate, ticks.newest(), quarters, left, settings));
        let by_margins = report.map(|report| self.follow.shifted() - report.wanted);
        let is_saturated = report.is_some() && matches!(margin, Some(i8::MIN | i8::MAX));
        let is_another_way = report.is_some_and(|report| report.is_another_way);
        let error = match (settings.by, settings.lead) {
            (ClockBy::Assumed, _) => None,
            (ClockBy::Margins, _) => by_margins,
            (_, LeadBy::Fixed) => Some(self.by_time(ticks, now, measured, settings)),
            // Whichever asks for more; and ground is given where both can spare it.
            (_, LeadBy::Adapted) => {
                let by_time = self.by_time(ticks, now, measured, settings);
                Some(by_margins.map_or(by_time, |by_margins| by_margins.max(by_time)))
            }
        };
        let Some(error) = error else {
            if settings.by == ClockBy::Assumed {
                self.follow.is_unknown();
            }
            return Steer::Hold;
        };
        let by_margins = settings.by == ClockBy::Margins;
        let is_far = !by_margins && error.abs() > OTHER_TICKS * rate.nanos() as f64;
        let steer = self.follow.is_off(error, is_another_way || is_far, is_saturated && by_margins, settings);
        if let Steer::Set(by) = steer
            && (is_saturated || by.unsigned_abs() > follow::HARD)
        {
            self.margins.clear();
        }
        steer
    }

    fn report(
        &mut self,
        rate: Rate,
        at: Tick,
        quarters: i8,
        left: Option<HostNanos>,
        settings: &ClockSettings,
    ) -> Option<margins::Reported> {
        let left = left?;
        let (_, then) = *self.shifts.iter().rev().find(|(at, _)| *at <= left)?;
        self.margins.report(rate, Margin { quarters, then, at }, settings.lead, settings.spare())
    }

    /// By how much the lead over the server's time is too little, in nanoseconds.
    fn by_time(&self, ticks: &TickLoop, now: HostNanos, measured: Measured<'_>, settings: &ClockSettings) -> f64 {
        let mean = measured.round_trip.mean();
        let up = match (settings.lead, settings.by) {
            (LeadBy::Adapted, ClockBy::Timestamps) => self.server.shortest().unwrap_or(mean) / 2,
            _ => mean / 2,
        };
        let jitter = match (settings.lead, settings.by) {
            (LeadBy::Fixed, _) => 0,
            (_, ClockBy::Timestamps) => 4 * self.server.jitter(),
            _ => (2.6 * measured.round_trip.sigma() as f64 * std::f64::consts::FRAC_1_SQRT_2) as i64,
        };
        // On average half a frame of each passes before it leaves and before it is read.
        let frames = (measured.frame + self.waits) / 2;
        let lead = (up + jitter + frames) as f64 + settings.spare() * ticks.rate().nanos() as f64;
        let ahead = ticks.since_base(now) - self.server.at(now);
        lead - ahead as f64
    }

    /// At each tick: how far to move the next one.
    pub(super) fn steer(&mut self, rate: Rate, settings: &ClockSettings) -> Steer {
        self.follow.steer(rate, settings)
    }
}

#[cfg(test)]
mod tests;
