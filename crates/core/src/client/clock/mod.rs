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
/// Arrivals of snapshots that are remembered.
const ARRIVALS: usize = 64;
/// Ticks by which the own tick is past what a snapshot shows when it arrives, at least.
const PAST_TICKS: f64 = 1.5;
/// A server's frame is not believed to be longer than this, in microseconds.
pub(super) const LONGEST_FRAME: u32 = 100_000;

/// A client's clock: what it knows of the server's, and how it follows.
#[derive(Clone, Debug)]
pub(super) struct Clock {
    margins: Margins,
    /// The shift at which, by the last margins, inputs would have what is wanted of them.
    wanted: Option<f64>,
    server: ServerTime,
    follow: Follow,
    /// Shift in force when datagrams left, by time.
    shifts: VecDeque<(HostNanos, f64)>,
    /// How far ahead of the snapshots the own tick was when they arrived lately, in nanoseconds, as it would have been without any shift.
    ahead: VecDeque<f64>,
    /// The delay of inputs that what the clock is off by is about.
    wanted_delay: u8,
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

/// What a snapshot says of the clock.
#[derive(Clone, Copy, Debug)]
pub(super) struct Report {
    /// The tick that it shows.
    pub(super) tick: Tick,
    /// The least margin of inputs that arrived since the last, in quarter ticks.
    pub(super) margin: Option<i8>,
    /// When the newest datagram left that it acknowledges.
    pub(super) left: Option<HostNanos>,
    /// For how many ticks inputs wait before they count: so much earlier they leave.
    pub(super) delay: u8,
}

impl Clock {
    /// The clock of a newcomer.
    pub(super) fn new(now: HostNanos, sent_us: u32, welcome: &Welcome, round_trip: &RoundTrip) -> Self {
        Self {
            margins: Margins::default(),
            wanted: None,
            server: ServerTime::new(now, sent_us, welcome, round_trip.mean()),
            follow: Follow::default(),
            shifts: VecDeque::new(),
            ahead: VecDeque::new(),
            wanted_delay: 0,
            waits: i64::from(welcome.frame_us.min(LONGEST_FRAME)) * 1000,
        }
    }

    /// Something leaves now, with inputs that wait for so many ticks: without that they would have had so much less to spare.
    pub(super) fn sent(&mut self, now: HostNanos, delay: u8, rate: Rate) {
        self.shifts.push_back((now, self.follow.shifted() - f64::from(delay) * rate.nanos() as f64));
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

    /// A snapshot arrived. What to do about the clock.
    pub(super) fn reported(
        &mut self,
        ticks: &TickLoop,
        now: HostNanos,
        Report { tick, margin, left, delay }: Report,
        measured: Measured<'_>,
        settings: &ClockSettings,
    ) -> Steer {
        let rate = ticks.rate();
        let report = margin.and_then(|quarters| self.report(rate, ticks.newest(), (quarters, delay), left, settings));
        self.wanted_delay = delay;
        let by_margins = report.map(|report| self.follow.shifted() - report.wanted);
        self.wanted = report.map(|report| report.wanted).or(self.wanted);
        let is_saturated = report.is_some() && matches!(margin, Some(i8::MIN | i8::MAX));
        let is_another_way = report.is_some_and(|report| report.is_another_way);
        let error = match (settings.by, settings.lead) {
            (ClockBy::Assumed, _) => None,
            (ClockBy::Margins, _) => by_margins,
            (_, LeadBy::Fixed) => Some(self.by_time(ticks, (now, delay), measured, settings)),
            // Whichever asks for more; and ground is given where both can spare it.
            (_, LeadBy::Adapted) => {
                let by_time = self.by_time(ticks, (now, delay), measured, settings);
                // Where no margin is reported the last one holds: inputs may come less often than snapshots go.
                let by_margins = self.wanted.map(|wanted| self.follow.shifted() - wanted);
                Some(by_margins.map_or(by_time, |by_margins| by_margins.max(by_time)))
            }
        };
        let Some(error) = error else {
            if settings.by == ClockBy::Assumed {
                self.follow.is_unknown();
            }
            return Steer::Hold;
        };
        let error = if delay > 0 { error.max(self.behind(ticks, now, tick)) } else { error };
        let goes_by_margins = settings.by == ClockBy::Margins;
        let is_far = !goes_by_margins && error.abs() > OTHER_TICKS * rate.nanos() as f64;
        let steer = self.follow.is_off(error, is_another_way || is_far, is_saturated && goes_by_margins, settings);
        if let Steer::Set(by) = steer
            && (is_saturated || by.unsigned_abs() > follow::HARD)
        {
            self.margins.clear();
            self.wanted = None;
        }
        steer
    }

    /// By how much the own tick is to be sooner, so that it is past what snapshots show when they arrive, in nanoseconds: with inputs that wait
    /// for longer than their way takes, it could be behind them and still have them arrive in time.
    fn behind(&mut self, ticks: &TickLoop, now: HostNanos, tick: Tick) -> f64 {
        let shown = ticks.rate().due(tick.0.saturating_sub(ticks.base().0));
        let ahead = (ticks.since_base(now) - shown) as f64 + self.follow.shifted();
        self.ahead.push_back(ahead);
        if self.ahead.len() > ARRIVALS {
            self.ahead.pop_front();
        }
        let least = self.ahead.iter().copied().fold(f64::INFINITY, f64::min) - self.follow.shifted();
        PAST_TICKS * ticks.rate().nanos() as f64 - least
    }

    /// For how many ticks inputs may wait that waited for `now` and are to wait for `wanted`: no shorter than the lead can spare, or those under way
    /// would be the last in time.
    pub(super) fn delay(&self, now: u8, wanted: u8, rate: Rate, settings: &ClockSettings) -> u8 {
        if wanted >= now || settings.by == ClockBy::Assumed {
            return wanted;
        }
        // What it is off by is known of another delay yet.
        if self.wanted_delay != wanted {
            return now;
        }
        let lacks = libm::ceil(self.follow.error().max(0.0) / rate.nanos() as f64);
        now.min(wanted.saturating_add(lacks.min(f64::from(u8::MAX)) as u8))
    }

    fn report(
        &mut self,
        rate: Rate,
        at: Tick,
        (quarters, delay): (i8, u8),
        left: Option<HostNanos>,
        settings: &ClockSettings,
    ) -> Option<margins::Reported> {
        let left = left?;
        let (_, then) = *self.shifts.iter().rev().find(|(at, _)| *at <= left)?;
        self.margins.report(rate, Margin { quarters, then, at }, settings.lead, settings.spare() - f64::from(delay))
    }

    /// By how much the lead over the server's time is too little, in nanoseconds.
    fn by_time(
        &self,
        ticks: &TickLoop,
        (now, delay): (HostNanos, u8),
        measured: Measured<'_>,
        settings: &ClockSettings,
    ) -> f64 {
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
        let lead = (up + jitter + frames) as f64 + (settings.spare() - f64::from(delay)) * ticks.rate().nanos() as f64;
        let ahead = ticks.since_base(now) - self.server.at(now);
        lead - ahead as f64
    }

    /// What the server's time is taken to be, in nanoseconds since its base. Who goes by margins knows it only by them: an input is early by what is
    /// left of the lead once it has gone up.
    pub(super) fn server_time(
        &self,
        ticks: &TickLoop,
        now: HostNanos,
        (margin, delay): (Option<i8>, u8),
        measured: Measured<'_>,
        settings: &ClockSettings,
    ) -> Option<i64> {
        if settings.by != ClockBy::Margins {
            return Some(self.server.at(now));
        }
        let tick = ticks.rate().nanos();
        let early = i64::from(margin?) * tick / 4;
        // Of what inputs wait for a frame at each end, half is in the round trip.
        let up = measured.round_trip.mean() / 2 + (measured.frame + self.waits) / 4;
        Some(ticks.since_base(now) + i64::from(delay) * tick - early - up)
    }

    /// At each tick: how far to move the next one.
    pub(super) fn steer(&mut self, rate: Rate, settings: &ClockSettings) -> Steer {
        self.follow.steer(rate, settings)
    }
}

#[cfg(test)]
mod tests;
