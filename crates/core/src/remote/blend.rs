//! States between states.

use super::settings::Blending;
use crate::data::{STATE_LANES, State};
use crate::field::{Blend, Shape};
use crate::float::{mix, mix_angle};
use crate::schema::Schema;
use crate::vec3::{Vec3, vec3};

/// How a lane is blended.
#[derive(Clone, Copy, Debug, Default)]
enum How {
    #[default]
    Straight,
    Bearing,
    /// Along a curve, with the slope that this lane has.
    Curve(u8),
}

/// How each lane of a rule's states is drawn between two of them, worked out once from their layout.
#[derive(Clone, Copy, Debug)]
pub struct BlendPlan {
    lanes: [(u8, How); STATE_LANES],
    count: usize,
    /// Where it is, and how fast.
    place: Option<(usize, usize)>,
    bearing: Option<usize>,
    /// Whether velocities count for no more than so much of the straight way.
    limited: bool,
}

impl BlendPlan {
    /// Of states with such a layout.
    pub fn of(schema: &Schema) -> Self {
        let velocity = schema.velocity_lane();
        let point = schema.state.iter().find(|f| f.shape == Shape::Point).map(|f| f.lane);
        let bearing = schema.bearing_lane();
        let (lanes, place) = ([Default::default(); STATE_LANES], point.zip(velocity));
        let mut plan = Self { lanes, count: 0, place, bearing, limited: false };
        for f in schema.state.iter().filter(|f| f.blend != Blend::None) {
            for lane in f.lane..f.lane + f.shape.lanes() {
                let how = match (f.blend, velocity) {
                    (Blend::Curve, Some(velocity)) => How::Curve((velocity + lane - f.lane) as u8),
                    (Blend::Bearing, _) => How::Bearing,
                    _ => How::Straight,
                };
                plan.lanes[plan.count] = (lane as u8, how);
                plan.count += 1;
            }
        }
        plan
    }

    /// The same in another way of blending; what does not blend places is left as it is.
    pub fn in_way(&self, blending: Blending) -> Self {
        let mut plan = *self;
        let Some((place, velocity)) = self.place.filter(|_| blending != Blending::ByField) else { return plan };
        plan.limited = blending == Blending::Curve;
        for (lane, how) in &mut plan.lanes[..plan.count] {
            if let Some(axis) = usize::from(*lane).checked_sub(place).filter(|axis| *axis < 3) {
                *how = if plan.limited { How::Curve((velocity + axis) as u8) } else { How::Straight };
            }
        }
        plan
    }

    /// Where an entity looks in a state, in radians; `None` for a rule that does not say.
    pub(crate) fn bearing(&self, state: &State) -> Option<f32> {
        self.bearing.map(|lane| state.real(lane))
    }

    /// Each field from `a` to `b` in its own way.
    pub(crate) fn blend(&self, a: &State, b: &State, t: f32, seconds: f32) -> State {
        let mut out = if t >= 1.0 { *b } else { *a };
        let on = Hermite::at(t);
        let limited = self.place.filter(|_| self.limited).map(|(place, velocity)| {
            let way = b.vec3(place) - a.vec3(place);
            [a, b].map(|state| no_steeper(state.vec3(velocity) * seconds, way))
        });
        for &(lane, how) in &self.lanes[..self.count] {
            let lane = usize::from(lane);
            let ends = (a.real(lane), b.real(lane));
            let between = match how {
                How::Straight => mix(ends.0, ends.1, t),
                How::Bearing => mix_angle(ends.0, ends.1, t),
                How::Curve(vel) => {
                    let vel = usize::from(vel);
                    let slopes = match (limited, self.place) {
                        (Some([at, to]), Some((_, velocity))) => (axis(at, vel - velocity), axis(to, vel - velocity)),
                        _ => (a.real(vel) * seconds, b.real(vel) * seconds),
                    };
                    on.value(ends, slopes)
                }
            };
            out.set_real(lane, between);
        }
        out
    }

    /// The position carried on by the velocity for `seconds`.
    pub(crate) fn run_on(&self, state: &State, seconds: f32) -> State {
        let mut out = *state;
        if let Some((pos, vel)) = self.place {
            out.set_vec3(pos, state.vec3(pos) + state.vec3(vel) * seconds);
        }
        out
    }
}

/// A slope counts for no more than this much of the straight way: the curve leaves the straight one by three eighths of it at most, since
/// the two slopes weigh t (1 - t) together.
const MOST_SLOPE: f32 = 1.5;

/// A slope over the whole way, no longer than [`MOST_SLOPE`] of it: of somebody who hardly moved nothing is left.
#[inline]
pub(super) fn no_steeper(slope: Vec3, way: Vec3) -> Vec3 {
    let (steep, most) = (slope.length(), MOST_SLOPE * way.length());
    if steep > most { slope * (most / steep) } else { slope }
}

/// One of three numbers.
const fn axis(of: Vec3, place: usize) -> f32 {
    match place {
        0 => of.x,
        1 => of.y,
        _ => of.z,
    }
}

/// A position straight from one to the other.
pub(crate) fn straight(a: Vec3, b: Vec3, t: f32) -> Vec3 {
    vec3(mix(a.x, b.x, t), mix(a.y, b.y, t), mix(a.z, b.z, t))
}

/// A position along a curve with these slopes over the whole way.
pub(crate) fn curve((a, b): (Vec3, Vec3), (da, db): (Vec3, Vec3), on: &Hermite) -> Vec3 {
    vec3(on.value((a.x, b.x), (da.x, db.x)), on.value((a.y, b.y), (da.y, db.y)), on.value((a.z, b.z), (da.z, db.z)))
}

/// A place on the cubic through both ends with given slopes over the whole way; exactly the ends at 0 and 1.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Hermite {
    ended: bool,
    /// Weights of the way from end to end, and of the slopes at both.
    weights: [f32; 3],
}

impl Hermite {
    pub(crate) fn at(t: f32) -> Self {
        let (t2, t3) = (t * t, t * t * t);
        Self { ended: t >= 1.0, weights: [3.0 * t2 - 2.0 * t3, t3 - 2.0 * t2 + t, t3 - t2] }
    }

    fn value(&self, (a, b): (f32, f32), (da, db): (f32, f32)) -> f32 {
        let [way, first, last] = self.weights;
        if self.ended { b } else { a + (b - a) * way + da * first + db * last }
    }
}
