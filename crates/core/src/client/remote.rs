//! Everybody else, drawn from snapshots.
//!
//! [`ViewClock`] smooths the arrival of snapshots into a timeline and says which tick to draw now; a [`Remote`] holds
//! one entity's states in tick order and blends the two around that tick, runs on past the newest for a short while,
//! then stops. Teleports are cut.

use std::collections::VecDeque;

use super::settings::{ClientSettings, ViewDelay};
use crate::data::State;
use crate::float::{mix, mix_angle};
use crate::schema::{Blend, Schema, Shape};
use crate::tick::{HostNanos, Rate, Tick};
use crate::wire::EntityRecord;

/// States kept of one entity at most.
const MOST: usize = 128;

/// How a drawn state came about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Drawn {
    /// Predicted by its owner.
    Predicted = 0,
    /// Between two received states.
    Blended = 1,
    /// The newest received, as it came.
    Newest = 2,
    /// Run on past the newest received.
    Extrapolated = 3,
    /// Standing still past the limit of that.
    Held = 4,
}

/// Which tick to draw: the smoothed timeline of arrivals minus the view delay.
#[derive(Clone, Debug, Default)]
pub(super) struct ViewClock {
    /// Mean and variance of (arrival − due time of the tick), in ns.
    mean: f64,
    variance: f64,
    count: f64,
    /// How far the drawn time lies behind the own clock, in ns, and when that was last moved: towards mean and delay, so
    /// slowly that drawn time never steps back, however the mean jumps while it is of few arrivals.
    behind: Option<(f64, HostNanos)>,
}

/// Arrivals over which the timeline is smoothed.
const SMOOTHED_OVER: f64 = 64.0;
/// An arrival so far off starts the smoothing anew: the other side or we stood still.
const ANEW_NANOS: f64 = 500_000_000.0;
/// Drawn time runs at most this share faster or slower than the own clock.
const SLEW: f64 = 0.08;

impl ViewClock {
    /// A snapshot of a tick due `due` ns after the base arrived at `now`.
    pub(super) fn arrived(&mut self, now: HostNanos, due: i64) {
        let offset = (now.0 - due) as f64;
        let off = offset - self.mean;
        if self.count == 0.0 || off.abs() > ANEW_NANOS {
            // Where the other side stood still, so does what is drawn of it: no slew makes that up.
            *self = Self { mean: offset, variance: 0.0, count: 1.0, behind: None };
            return;
        }
        self.count = if self.count < SMOOTHED_OVER { self.count + 1.0 } else { SMOOTHED_OVER };
        let share = 1.0 / self.count;
        self.mean += off * share;
        self.variance += (off * off - self.variance) * share;
    }

    /// The delay wanted, in ns.
    fn wanted(&self, settings: &ClientSettings, interval: i64) -> f64 {
        match settings.view_delay {
            ViewDelay::Millis(ms) => f64::from(ms) * 1e6,
            ViewDelay::Auto => 2.0 * interval as f64 + 2.0 * libm::sqrt(self.variance),
        }
    }

    /// Moves the drawn time towards where it is wanted and returns it in ns since the base tick.
    pub(super) fn drawn_time(&mut self, now: HostNanos, settings: &ClientSettings, interval: i64) -> f64 {
        let wanted = self.mean + self.wanted(settings, interval);
        let behind = match self.behind {
            None => wanted,
            Some((behind, at)) => {
                let most = now.since(at).max(0) as f64 * SLEW;
                behind + (wanted - behind).clamp(-most, most)
            }
        };
        if self.count > 0.0 {
            self.behind = Some((behind, now));
        }
        now.0 as f64 - behind
    }

    /// The delay in force behind the smoothed timeline, in ns.
    pub(super) fn delay(&self) -> i64 {
        self.behind.map_or(0, |(behind, _)| (behind - self.mean) as i64)
    }
}

#[derive(Clone, Copy, Debug)]
struct Sample {
    tick: Tick,
    teleports: u8,
    state: State,
}

/// One entity as snapshots told of it.
#[derive(Clone, Debug)]
pub(super) struct Remote {
    pub(super) id: u16,
    pub(super) kind: u8,
    generation: u8,
    samples: VecDeque<Sample>,
}

/// A state to draw and where it lies in time.
#[derive(Clone, Copy, Debug)]
pub struct DrawnState {
    /// The state.
    pub state: State,
    /// The tick it shows: this one …
    pub tick: Tick,
    /// … and so much of the way to the next.
    pub fraction: f32,
    /// How it came about.
    pub how: Drawn,
}

impl Remote {
    pub(super) fn new(record: &EntityRecord) -> Self {
        let entity = record.entity;
        Self { id: entity.id, kind: entity.kind, generation: entity.generation, samples: VecDeque::new() }
    }

    /// Bytes it takes.
    pub(super) fn bytes(&self) -> usize {
        size_of::<Self>() + self.samples.capacity() * size_of::<Sample>()
    }

    /// Takes a state. Duplicates are dropped, and so is what is older than all that is kept.
    pub(super) fn insert(&mut self, tick: Tick, record: &EntityRecord) {
        if record.entity.generation != self.generation || record.entity.kind != self.kind {
            *self = Self::new(record);
        }
        let sample = Sample { tick, teleports: record.entity.teleports, state: record.state };
        let at = self.samples.iter().rposition(|s| s.tick <= tick);
        match at {
            Some(i) if self.samples[i].tick == tick => return,
            Some(i) => self.samples.insert(i + 1, sample),
            None if self.samples.is_empty() => self.samples.push_back(sample),
            None => return,
        }
        if self.samples.len() > MOST {
            self.samples.pop_front();
        }
    }

    /// The newest state received.
    pub(super) fn newest(&self) -> Option<DrawnState> {
        let s = self.samples.back()?;
        Some(DrawnState { state: s.state, tick: s.tick, fraction: 0.0, how: Drawn::Newest })
    }

    /// The state at `tick` and `fraction` of the way to the next.
    pub(super) fn at(
        &mut self,
        schema: &Schema,
        rate: Rate,
        tick: Tick,
        fraction: f32,
        limit_ms: u32,
    ) -> Option<DrawnState> {
        while self.samples.len() > 2 && self.samples[1].tick <= tick {
            self.samples.pop_front();
        }
        let after = self.samples.iter().position(|s| s.tick > tick);
        match after {
            Some(0) => {
                let s = self.samples[0];
                Some(DrawnState { state: s.state, tick: s.tick, fraction: 0.0, how: Drawn::Held })
            }
            Some(i) => {
                let (a, b) = (self.samples[i - 1], self.samples[i]);
                let share = (tick.since(a.tick) as f32 + fraction) / b.tick.since(a.tick) as f32;
                let seconds = b.tick.since(a.tick) as f32 * rate.dt();
                let state = if a.teleports == b.teleports {
                    blend(schema, &a.state, &b.state, share, seconds)
                } else {
                    a.state
                };
                Some(DrawnState { state, tick, fraction, how: Drawn::Blended })
            }
            None => {
                let s = *self.samples.back()?;
                let past = (tick.since(s.tick) as f64 + f64::from(fraction)) / f64::from(rate.hz());
                let limit = f64::from(limit_ms) / 1000.0;
                let run = past.min(limit) as f32;
                let state = run_on(schema, &s.state, run);
                let how = if past <= 0.0 {
                    Drawn::Blended
                } else if past <= limit {
                    Drawn::Extrapolated
                } else {
                    Drawn::Held
                };
                let shown = f64::from(run) * f64::from(rate.hz());
                let whole = libm::floor(shown);
                Some(DrawnState { state, tick: s.tick.offset(whole as i64), fraction: (shown - whole) as f32, how })
            }
        }
    }
}

/// Each field from `a` to `b` in its own way.
pub(super) fn blend(schema: &Schema, a: &State, b: &State, t: f32, seconds: f32) -> State {
    let mut out = if t >= 1.0 { *b } else { *a };
    for f in &schema.state {
        if f.blend == Blend::None {
            continue;
        }
        let velocity = if f.blend == Blend::Curve { schema.velocity_lane() } else { None };
        for lane in f.lane..f.lane + f.shape.lanes() {
            match f.blend {
                Blend::None => {}
                Blend::Curve if velocity.is_some() => {
                    let Some(vel) = velocity.map(|v| v + lane - f.lane) else { continue };
                    let ends = (a.real(lane), b.real(lane));
                    let slopes = (a.real(vel) * seconds, b.real(vel) * seconds);
                    out.set_real(lane, hermite(ends, slopes, t));
                }
                Blend::Linear | Blend::Curve => out.set_real(lane, mix(a.real(lane), b.real(lane), t)),
                Blend::Bearing => out.set_real(lane, mix_angle(a.real(lane), b.real(lane), t)),
            }
        }
    }
    out
}

/// The cubic through both ends with these slopes over the whole way; exactly the ends at 0 and 1.
fn hermite((a, b): (f32, f32), (da, db): (f32, f32), t: f32) -> f32 {
    if t >= 1.0 {
        return b;
    }
    let (t2, t3) = (t * t, t * t * t);
    a + (b - a) * (3.0 * t2 - 2.0 * t3) + da * (t3 - 2.0 * t2 + t) + db * (t3 - t2)
}

/// The position carried on by the velocity for `seconds`.
fn run_on(schema: &Schema, state: &State, seconds: f32) -> State {
    let mut out = *state;
    if let (Some(vel), Some(pos)) = (schema.velocity_lane(), schema.state.iter().find(|f| f.shape == Shape::Point)) {
        let moved = state.vec3(pos.lane) + state.vec3(vel) * seconds;
        out.set_vec3(pos.lane, moved);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Motion;
    use crate::vec3::vec3;
    use crate::walker::{Walker, state_lane};
    use crate::wire::EntityRef;

    fn record(x: f32, facing: f32, teleports: u8) -> EntityRecord {
        let walker = Walker::new();
        let mut state = walker.spawn(vec3(x, 0.0, 0.0), facing);
        state.set_vec3(state_lane::VEL, vec3(2.0, 0.0, 0.0));
        EntityRecord { entity: EntityRef { id: 1, generation: 0, kind: 0, teleports, own: false }, state }
    }

    fn x_at(remote: &mut Remote, tick: u64, fraction: f32) -> (f32, Drawn) {
        let walker = Walker::new();
        let drawn = remote.at(walker.schema(), Rate::new(10).unwrap(), Tick(tick), fraction, 200).unwrap();
        (drawn.state.vec3(state_lane::POS).x, drawn.how)
    }

    fn remote(samples: &[(u64, f32, u8)]) -> Remote {
        let mut remote = Remote::new(&record(0.0, 0.0, 0));
        for &(tick, x, teleports) in samples {
            remote.insert(Tick(tick), &record(x, 0.0, teleports));
        }
        remote
    }

    #[test]
    fn states_that_arrive_out_of_order_are_blended_in_order() {
        let mut r = remote(&[(10, 1.0, 0), (16, 4.0, 0), (13, 2.0, 0), (13, 9.0, 0), (7, 9.0, 0)]);
        assert_eq!(x_at(&mut r, 11, 0.5), (1.5, Drawn::Blended));
        assert_eq!(x_at(&mut r, 14, 0.5), (3.0, Drawn::Blended));
    }

    #[test]
    fn past_the_newest_it_runs_on_for_the_limit_and_then_stands() {
        let mut r = remote(&[(10, 1.0, 0)]);
        assert_eq!(x_at(&mut r, 11, 0.0), (1.2, Drawn::Extrapolated));
        let (stopped, how) = x_at(&mut r, 15, 0.0);
        assert!((stopped - 1.4).abs() < 1e-6 && how == Drawn::Held);
        assert_eq!(x_at(&mut r, 90, 0.0).0, stopped);
    }

    #[test]
    fn a_teleport_is_cut_not_blended() {
        let mut r = remote(&[(10, 1.0, 0), (12, 50.0, 1)]);
        assert_eq!(x_at(&mut r, 11, 0.9).0, 1.0);
        assert_eq!(x_at(&mut r, 12, 0.0).0, 50.0);
    }

    #[test]
    fn bearings_take_the_shorter_arc() {
        let walker = Walker::new();
        let (a, b) = (record(0.0, 3.0, 0).state, record(0.0, -3.0, 0).state);
        let half = blend(walker.schema(), &a, &b, 0.5, 0.1).real(state_lane::FACING);
        assert!(half.abs() > 3.1, "{half}");
    }

    #[test]
    fn a_curve_leaves_and_arrives_with_the_velocities_and_a_steady_one_is_a_line() {
        let walker = Walker::new();
        let mut schema = walker.schema().clone();
        schema.state[0].blend = Blend::Curve;
        let (a, mut b) = (record(0.0, 0.0, 0).state, record(2.0, 0.0, 0).state);
        let x = |b: &State, t: f32| blend(&schema, &a, b, t, 1.0).vec3(state_lane::POS).x;
        assert!((x(&b, 0.25) - 0.5).abs() < 1e-6, "2 m/s over 2 m in a second");
        assert_eq!((x(&b, 0.0), x(&b, 1.0)), (0.0, 2.0));
        b.set_vec3(state_lane::VEL, vec3(0.0, 0.0, 0.0));
        assert!(x(&b, 0.9) > 1.9, "it slows down on arrival: {}", x(&b, 0.9));
    }

    #[test]
    fn the_drawn_timeline_lags_by_the_delay_and_ignores_transit() {
        let settings = ClientSettings { view_delay: ViewDelay::Millis(100), ..ClientSettings::DEFAULT };
        let mut clock = ViewClock::default();
        for n in 0..200i64 {
            let jitter = if n % 2 == 0 { 3_000_000 } else { -3_000_000 };
            clock.arrived(HostNanos(7_000_000_000 + n * 50_000_000 + jitter), n * 50_000_000);
        }
        let now = HostNanos(7_000_000_000 + 10_000_000_000);
        let drawn = clock.drawn_time(now, &settings, 50_000_000);
        assert!((drawn - 9_900_000_000.0).abs() < 3e6, "{drawn}");
        let auto = clock.wanted(&ClientSettings::DEFAULT, 50_000_000);
        assert!((auto - 106e6).abs() < 1e6, "{auto}");
    }

    #[test]
    fn nothing_received_draws_nothing() {
        let mut r = Remote::new(&record(0.0, 0.0, 0));
        assert!(r.newest().is_none());
        assert!(r.at(Walker::new().schema(), Rate::new(10).unwrap(), Tick(1), 0.0, 200).is_none());
    }
}
