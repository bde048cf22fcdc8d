//! One entity as snapshots told of it, and what is drawn of it.
//!
//! Between two states each field is blended in its own way; past the newest the position runs on for a short while, then
//! stands. Teleports are cut.

use super::blend::{BlendPlan, Hermite, curve, no_steeper, straight};
use super::settings::Blending;
use crate::data::State;
use crate::field::Blend;
use crate::float::{mix, mix_angle};
use crate::schema::Schema;
use crate::tick::{Rate, Tick};
use crate::vec3::Vec3;

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
    /// Standing still at the first state received: the moment drawn lies before it.
    First = 5,
    /// Between two received states, and still coming back from where it ran on to.
    Returning = 6,
    /// Run on past the newest received by its rule.
    ByRule = 7,
}

impl Drawn {
    /// By its number.
    pub const fn from_number(number: u8) -> Option<Self> {
        Some(match number {
            0 => Self::Predicted,
            1 => Self::Blended,
            2 => Self::Newest,
            3 => Self::Extrapolated,
            4 => Self::Held,
            5 => Self::First,
            6 => Self::Returning,
            7 => Self::ByRule,
            _ => return None,
        })
    }

    /// Whether it is past the newest state received.
    pub const fn is_past(self) -> bool {
        matches!(self, Self::Extrapolated | Self::Held | Self::ByRule)
    }

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Predicted => "predicted",
            Self::Blended => "blended",
            Self::Newest => "newest",
            Self::Extrapolated => "extrapolated",
            Self::Held => "held",
            Self::First => "first",
            Self::Returning => "returning",
            Self::ByRule => "by_rule",
        }
    }
}

/// A state to draw and where it lies in time.
#[derive(Clone, Copy, Debug)]
pub struct DrawnState {
    /// The state.
    pub state: State,
    /// The tick it shows: this one …
    pub tick: Tick,
    /// … and the share of the way to the next, from 0 to 1.
    pub fraction: f32,
    /// How it came about.
    pub how: Drawn,
    /// Looking where, in radians; `None` for a rule that does not say.
    pub bearing: Option<f32>,
}

impl DrawnState {
    /// A state as it is drawn of an entity of such a rule.
    pub fn of(plan: &BlendPlan, state: State, (tick, fraction): (Tick, f32), how: Drawn) -> Self {
        Self { bearing: plan.bearing(&state), state, tick, fraction, how }
    }
}

/// A moment to draw: a tick, and how much of the way to the next.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Shown {
    /// This tick …
    pub tick: Tick,
    /// … and the share of the way to the next, from 0 to 1.
    pub fraction: f32,
}

/// A state as it was received.
#[derive(Clone, Copy, Debug)]
pub struct Sample {
    /// Its tick.
    pub tick: Tick,
    /// Its running count of teleports.
    pub teleports: u8,
    /// The state.
    pub state: State,
}

/// Where a moment lies among the states received, and how what is drawn then comes about.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Placed {
    /// How it comes about.
    pub how: Drawn,
    /// What is seen: never past the limit of running on, never before the first state.
    pub shown: Shown,
    /// Seconds run on past the newest state.
    run_on: f32,
}

impl Shown {
    /// A number of ticks after one; the fraction is below 1, also where rounding would make it 1.
    pub(crate) fn after(base: Tick, ticks: f64) -> Self {
        let whole = libm::floor(ticks);
        let fraction = (ticks - whole) as f32;
        if fraction < 1.0 {
            return Self { tick: base.offset(whole as i64), fraction };
        }
        Self { tick: base.offset(whole as i64 + 1), fraction: 0.0 }
    }

    /// How much of the way from a tick to another it is there, and how many seconds that way takes.
    fn share(self, from: Tick, to: Tick, rate: Rate) -> (f32, f32) {
        let apart = to.since(from) as f32;
        ((self.tick.since(from) as f32 + self.fraction) / apart, apart * rate.dt())
    }

    /// Places the moment, given the tick of the newest state received that is not after it, and that of the oldest received
    /// after it. Past the newest a remote runs on for `limit_ms`, then stands. `None` where nothing was received.
    pub fn among(self, before: Option<Tick>, after: Option<Tick>, rate: Rate, limit_ms: u32) -> Option<Placed> {
        let Some(before) = before else {
            let shown = Self { tick: after?, fraction: 0.0 };
            return Some(Placed { how: Drawn::First, shown, run_on: 0.0 });
        };
        if after.is_some() {
            return Some(Placed { how: Drawn::Blended, shown: self, run_on: 0.0 });
        }
        let past = (self.tick.since(before) as f64 + f64::from(self.fraction)) / f64::from(rate.hz());
        let limit = f64::from(limit_ms) / 1000.0;
        let run_on = past.min(limit) as f32;
        let how = if past <= 0.0 {
            Drawn::Blended
        } else if past <= limit {
            Drawn::Extrapolated
        } else {
            Drawn::Held
        };
        let shown = Self::after(before, f64::from(run_on) * f64::from(rate.hz()));
        Some(Placed { how, shown, run_on })
    }
}

/// What is drawn of an entity at a moment that is [placed](Shown::among) between these two states.
pub fn drawn(
    plan: &BlendPlan,
    rate: Rate,
    moment: Shown,
    (before, after): (Option<&Sample>, Option<&Sample>),
    limit_ms: u32,
) -> Option<DrawnState> {
    let Placed { how, shown, run_on: seconds } =
        moment.among(before.map(|s| s.tick), after.map(|s| s.tick), rate, limit_ms)?;
    let state = match (before, after) {
        (Some(a), Some(b)) if a.teleports == b.teleports => {
            let (share, seconds) = moment.share(a.tick, b.tick, rate);
            plan.blend(&a.state, &b.state, share, seconds)
        }
        (Some(a), Some(_)) => a.state,
        (Some(a), None) => plan.run_on(&a.state, seconds),
        (None, b) => b?.state,
    };
    Some(DrawnState::of(plan, state, (shown.tick, shown.fraction), how))
}

/// Where somebody is drawn: what a [`DrawnState`] says of that.
#[derive(Clone, Copy, Debug)]
pub struct DrawnSpot {
    /// Where.
    pub pos: Vec3,
    /// Looking where, in radians; 0 for a rule that does not say.
    pub bearing: f32,
    /// The tick it shows: this one …
    pub tick: Tick,
    /// … and the share of the way to the next, from 0 to 1.
    pub fraction: f32,
    /// How it came about.
    pub how: Drawn,
}

/// What a sample says of where somebody is.
#[derive(Clone, Copy, Debug)]
pub struct Spot {
    /// Its running count of teleports.
    pub teleports: u8,
    /// Where.
    pub pos: Vec3,
    /// How fast; zero for a rule without a velocity.
    pub vel: Vec3,
    /// Looking where, in radians; 0 for a rule that does not say.
    pub bearing: f32,
}

/// How a rule's position, and where it looks, are drawn between snapshots.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SpotBlend {
    blend: Blend,
    /// Whether velocities count for no more than so much of the straight way.
    limited: bool,
    velocity: Option<usize>,
    bearing: Option<(usize, Blend)>,
}

impl SpotBlend {
    /// Of a rule with such a layout.
    pub fn of(schema: &Schema) -> Self {
        let point = schema.state.iter().find(|f| f.lane == 0);
        let blend_of = |lane: usize| schema.state.iter().find(|f| f.lane == lane).map_or(Blend::None, |f| f.blend);
        let bearing = schema.bearing_lane().map(|lane| (lane, blend_of(lane)));
        let blend = point.map_or(Blend::None, |f| f.blend);
        Self { blend, limited: false, velocity: schema.velocity_lane(), bearing }
    }

    /// The same in another way of blending; a rule that does not blend places is left as it is.
    #[inline]
    pub fn in_way(&self, blending: Blending) -> Self {
        match (blending, self.blend) {
            (Blending::ByField, _) | (_, Blend::None) => *self,
            (Blending::Linear, _) => Self { blend: Blend::Linear, ..*self },
            (Blending::Curve, _) => Self { blend: Blend::Curve, limited: true, ..*self },
        }
    }

    /// What a sample says of where somebody is.
    #[inline]
    pub fn spot(&self, sample: &Sample) -> Spot {
        let vel = self.velocity.map_or(Vec3::ZERO, |lane| sample.state.vec3(lane));
        let bearing = self.bearing.map_or(0.0, |(lane, _)| sample.state.real(lane));
        Spot { teleports: sample.teleports, pos: sample.state.vec3(0), vel, bearing }
    }

    /// Between two places with no teleport between them; `speeds` says how fast somebody is at both, for a rule that knows.
    #[inline]
    fn way(&self, on: &OnTheWay, (a, b): (Vec3, Vec3), speeds: impl FnOnce(usize) -> (Vec3, Vec3)) -> Vec3 {
        match (self.blend, self.velocity) {
            (Blend::None, _) if on.share >= 1.0 => b,
            (Blend::None, _) => a,
            (Blend::Curve, Some(lane)) => {
                let (at, to) = speeds(lane);
                let (mut at, mut to) = (at * on.seconds, to * on.seconds);
                if self.limited {
                    (at, to) = (no_steeper(at, b - a), no_steeper(to, b - a));
                }
                curve((a, b), (at, to), &on.curve)
            }
            _ => straight(a, b, on.share),
        }
    }

    /// Between two bearings, in the way of the field that says where somebody looks.
    #[inline]
    fn turn(on: &OnTheWay, blend: Blend, (a, b): (f32, f32)) -> f32 {
        match blend {
            Blend::None if on.share >= 1.0 => b,
            Blend::None => a,
            Blend::Bearing => mix_angle(a, b, on.share),
            _ => mix(a, b, on.share),
        }
    }

    /// Where somebody is drawn between two states with no teleport between them, and where it looks there: what
    /// [`point`](Self::point) and [`bearing`](Self::bearing) say.
    #[inline]
    pub(crate) fn between(&self, on: &OnTheWay, a: &State, b: &State) -> (Vec3, f32) {
        let pos = self.way(on, (a.vec3(0), b.vec3(0)), |lane| (a.vec3(lane), b.vec3(lane)));
        let looks = |(lane, blend)| Self::turn(on, blend, (a.real(lane), b.real(lane)));
        (pos, self.bearing.map_or(0.0, looks))
    }

    /// Where it looks there: what [`drawn`] says of the bearing.
    #[inline]
    pub fn bearing(&self, on: &OnTheWay, (before, after): (Option<&Spot>, Option<&Spot>)) -> Option<f32> {
        Some(match (before, after, self.bearing) {
            (Some(a), Some(b), Some((_, blend))) if a.teleports == b.teleports => {
                Self::turn(on, blend, (a.bearing, b.bearing))
            }
            (Some(a), ..) => a.bearing,
            (None, b, _) => b?.bearing,
        })
    }

    /// Where somebody is drawn at a moment between these two: what [`drawn`] says of the position.
    #[inline]
    pub fn point(&self, on: &OnTheWay, (before, after): (Option<&Spot>, Option<&Spot>)) -> Option<Vec3> {
        Some(match (before, after) {
            (Some(a), Some(b)) if a.teleports == b.teleports => self.way(on, (a.pos, b.pos), |_| (a.vel, b.vel)),
            (Some(a), Some(_)) => a.pos,
            (Some(a), None) if self.velocity.is_some() => a.pos + a.vel * on.run_on,
            (Some(a), None) => a.pos,
            (None, b) => b?.pos,
        })
    }
}

/// A moment between two snapshots, as all that is drawn of them has it in common.
#[derive(Clone, Copy, Debug)]
pub struct OnTheWay {
    /// The share of the way from the one to the other.
    share: f32,
    curve: Hermite,
    /// How long that way is.
    seconds: f32,
    /// Seconds past the newest, where there is no other.
    run_on: f32,
}

impl OnTheWay {
    /// A moment that is placed between the snapshots of these ticks.
    pub fn of(moment: Shown, placed: &Placed, (before, after): (Option<Tick>, Option<Tick>), rate: Rate) -> Self {
        let (share, seconds) = before.zip(after).map_or((0.0, 0.0), |(a, b)| moment.share(a, b, rate));
        Self { share, curve: Hermite::at(share), seconds, run_on: placed.run_on }
    }
}

/// States of one entity, by tick, in a row.
#[derive(Clone, Debug, Default)]
pub(crate) struct Samples {
    row: Vec<Sample>,
    /// How many of the row are forgotten: they are closed up a few at a time.
    forgotten: usize,
}

/// How many are forgotten before the rest is moved up.
const CLOSED_UP: usize = 4;

impl Samples {
    #[inline]
    fn all(&self) -> &[Sample] {
        &self.row[self.forgotten..]
    }

    /// Bytes they take.
    pub(crate) fn bytes(&self) -> usize {
        self.row.capacity() * size_of::<Sample>()
    }

    /// Takes a state; one that is known already is dropped.
    pub(crate) fn insert(&mut self, sample: Sample) {
        // Most are newer than all before.
        if self.all().last().is_none_or(|newest| newest.tick < sample.tick) {
            self.row.push(sample);
        } else {
            self.insert_among(sample);
        }
        if self.all().len() > MOST {
            self.forget_first(1);
        }
    }

    fn insert_among(&mut self, sample: Sample) {
        let at = self.all().partition_point(|s| s.tick < sample.tick);
        if self.all().get(at).is_some_and(|s| s.tick == sample.tick) {
            return;
        }
        self.row.insert(self.forgotten + at, sample);
    }

    /// Forgets what no moment from `tick` on is drawn from.
    #[inline]
    pub(crate) fn forget(&mut self, tick: Tick) {
        if let [_, second, rest @ ..] = self.all()
            && second.tick <= tick
            && !rest.is_empty()
        {
            let more = rest[..rest.len() - 1].iter().take_while(|sample| sample.tick <= tick).count();
            self.forget_first(1 + more);
        }
    }

    fn forget_first(&mut self, count: usize) {
        self.forgotten += count;
        if self.forgotten >= CLOSED_UP {
            self.row.drain(..self.forgotten);
            self.forgotten = 0;
        }
    }

    /// The newest state received.
    pub(crate) fn newest(&self) -> Option<&Sample> {
        self.all().last()
    }

    /// The two states of these ticks, where they lie one after the other and the later one in this place.
    #[inline]
    pub(crate) fn neighbours(&self, place: usize, (before, after): (Tick, Tick)) -> Option<(&Sample, &Sample)> {
        let [a, b] = self.all().get(place.checked_sub(1)?..)?.first_chunk::<2>()?;
        (a.tick == before && b.tick == after).then_some((a, b))
    }

    /// The states on both sides of a moment, which lie `about` so far in the row, as those of others do.
    #[inline]
    pub(crate) fn around_near(&self, moment: Shown, about: &mut usize) -> (Option<&Sample>, Option<&Sample>) {
        if let (Some(before), Some(after)) =
            (about.checked_sub(1).and_then(|i| self.all().get(i)), self.all().get(*about))
            && before.tick <= moment.tick
            && after.tick > moment.tick
        {
            return (Some(before), Some(after));
        }
        // Mostly it lies between the last few.
        let later = self.all().iter().rev().take_while(|s| s.tick > moment.tick).count();
        *about = self.all().len() - later;
        (about.checked_sub(1).and_then(|i| self.all().get(i)), self.all().get(*about))
    }

    /// The states on both sides of a moment.
    pub(crate) fn around(&self, moment: Shown) -> (Option<&Sample>, Option<&Sample>) {
        self.around_near(moment, &mut 0)
    }

    /// What is drawn at a moment.
    pub(crate) fn at(&self, plan: &BlendPlan, rate: Rate, moment: Shown, limit_ms: u32) -> Option<DrawnState> {
        drawn(plan, rate, moment, self.around(moment), limit_ms)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::motion::Motion;
    use crate::vec3::vec3;
    use crate::walker::{Walker, state_lane};
    use proptest::prelude::*;

    fn sample(tick: u64, x: f32, facing: f32, teleports: u8) -> Sample {
        let walker = Walker::new();
        let mut state = walker.spawn(vec3(x, 0.0, 0.0), facing);
        state.set_vec3(state_lane::VEL, vec3(2.0, 0.0, 0.0));
        Sample { tick: Tick(tick), teleports, state }
    }

    fn x_at(samples: &Samples, tick: u64, fraction: f32) -> (f32, Drawn) {
        let walker = Walker::new();
        let moment = Shown { tick: Tick(tick), fraction };
        let drawn = samples.at(&BlendPlan::of(walker.schema()), Rate::new(10).unwrap(), moment, 200).unwrap();
        (drawn.state.vec3(state_lane::POS).x, drawn.how)
    }

    fn received(all: &[(u64, f32, u8)]) -> Samples {
        let mut samples = Samples::default();
        for &(tick, x, teleports) in all {
            samples.insert(sample(tick, x, 0.0, teleports));
        }
        samples
    }

    #[test]
    fn states_that_arrive_out_of_order_are_blended_in_order() {
        let r = received(&[(10, 1.0, 0), (16, 4.0, 0), (13, 2.0, 0), (13, 9.0, 0), (7, 9.0, 0)]);
        assert_eq!(x_at(&r, 11, 0.5), (1.5, Drawn::Blended));
        assert_eq!(x_at(&r, 14, 0.5), (3.0, Drawn::Blended));
    }

    #[test]
    fn past_the_newest_it_runs_on_for_the_limit_and_then_stands() {
        let r = received(&[(10, 1.0, 0)]);
        assert_eq!(x_at(&r, 11, 0.0), (1.2, Drawn::Extrapolated));
        let (stopped, how) = x_at(&r, 15, 0.0);
        assert!((stopped - 1.4).abs() < 1e-6 && how == Drawn::Held);
        assert_eq!(x_at(&r, 90, 0.0).0, stopped);
    }

    proptest! {
        #[test]
        fn a_limited_curve_stays_near_the_straight_way_and_is_the_same_for_a_place_and_a_whole_state(
            way in prop::array::uniform3(-9.0f32..9.0), from in prop::array::uniform3(-90.0f32..90.0),
            to in prop::array::uniform3(-90.0f32..90.0), t in 0.0f32..=1.0,
        ) {
            let walker = Walker::new();
            let state = |pos: [f32; 3], vel: [f32; 3]| {
                let mut state = State::default();
                state.set_vec3(state_lane::POS, vec3(pos[0], pos[1], pos[2]));
                state.set_vec3(state_lane::VEL, vec3(vel[0], vel[1], vel[2]));
                state
            };
            let (a, b) = (state([0.0; 3], from), state(way, to));
            let plan = BlendPlan::of(walker.schema()).in_way(Blending::Curve);
            let place = plan.blend(&a, &b, t, 0.2).vec3(state_lane::POS);
            let way = vec3(way[0], way[1], way[2]);
            let even = way * (3.0 * t * t - 2.0 * t * t * t);
            prop_assert!((place - even).length() <= 0.376 * way.length() + 1e-6, "{place:?} beside {even:?}");
            let on = OnTheWay { share: t, curve: Hermite::at(t), seconds: 0.2, run_on: 0.0 };
            let (spot, _) = SpotBlend::of(walker.schema()).in_way(Blending::Curve).between(&on, &a, &b);
            prop_assert!((spot - place).length() < 1e-4, "{spot:?} and {place:?}");
            let linear = BlendPlan::of(walker.schema()).in_way(Blending::Linear).blend(&a, &b, t, 0.2);
            prop_assert!((linear.vec3(state_lane::POS) - way * t).length() < 1e-4);
        }

        #[test]
        fn what_is_forgotten_is_what_no_later_moment_is_drawn_from(steps in prop::collection::vec((0u64..60, 0u8..4), 1..80)) {
            let (mut samples, mut plain): (Samples, Vec<u64>) = Default::default();
            for (tick, what) in steps {
                if what == 0 {
                    samples.forget(Tick(tick));
                    while plain.len() > 2 && plain[1] <= tick {
                        plain.remove(0);
                    }
                } else {
                    samples.insert(sample(tick, 1.0, 0.0, 0));
                    if let Err(at) = plain.binary_search(&tick) {
                        plain.insert(at, tick);
                    }
                }
                prop_assert!(samples.all().iter().map(|s| s.tick.0).eq(plain.iter().copied()));
                prop_assert!(samples.row.len() < samples.all().len() + CLOSED_UP);
            }
        }
    }

    #[test]
    fn a_teleport_is_cut_not_blended() {
        let r = received(&[(10, 1.0, 0), (12, 50.0, 1)]);
        assert_eq!(x_at(&r, 11, 0.9).0, 1.0);
        assert_eq!(x_at(&r, 12, 0.0).0, 50.0);
    }

    #[test]
    fn bearings_take_the_shorter_arc() {
        let walker = Walker::new();
        let (a, b) = (sample(0, 0.0, 3.0, 0).state, sample(0, 0.0, -3.0, 0).state);
        let half = BlendPlan::of(walker.schema()).blend(&a, &b, 0.5, 0.1).real(state_lane::FACING);
        assert!(half.abs() > 3.1, "{half}");
    }

    #[test]
    fn a_curve_leaves_and_arrives_with_the_velocities_and_a_steady_one_is_a_line() {
        let walker = Walker::new();
        let mut schema = walker.schema().clone();
        schema.state[0].blend = Blend::Curve;
        let (a, mut b) = (sample(0, 0.0, 0.0, 0).state, sample(0, 2.0, 0.0, 0).state);
        let x = |b: &State, t: f32| BlendPlan::of(&schema).blend(&a, b, t, 1.0).vec3(state_lane::POS).x;
        assert!((x(&b, 0.25) - 0.5).abs() < 1e-6, "2 m/s over 2 m in a second");
        assert_eq!((x(&b, 0.0), x(&b, 1.0)), (0.0, 2.0));
        b.set_vec3(state_lane::VEL, vec3(0.0, 0.0, 0.0));
        assert!(x(&b, 0.9) > 1.9, "it slows down on arrival: {}", x(&b, 0.9));
    }

    #[test]
    fn a_moment_just_before_a_tick_is_that_tick() {
        assert_eq!(Shown::after(Tick(10), 2.25), Shown { tick: Tick(12), fraction: 0.25 });
        assert_eq!(Shown::after(Tick(10), 2.999_999_999_9), Shown { tick: Tick(13), fraction: 0.0 });
    }

    #[test]
    fn nothing_received_draws_nothing() {
        let none = Samples::default();
        assert!(none.newest().is_none());
        let moment = Shown { tick: Tick(1), fraction: 0.0 };
        assert!(none.at(&BlendPlan::of(Walker::new().schema()), Rate::new(10).unwrap(), moment, 200).is_none());
    }
}
