//! States between states.

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
}

impl BlendPlan {
    /// Of states with such a layout.
    pub fn of(schema: &Schema) -> Self {
        let velocity = schema.velocity_lane();
        let point = schema.state.iter().find(|f| f.shape == Shape::Point).map(|f| f.lane);
        let bearing = schema.bearing_lane();
        let mut plan = Self { lanes: [Default::default(); STATE_LANES], count: 0, place: point.zip(velocity), bearing };
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

    /// Where an entity looks in a state, in radians; `None` for a rule that does not say.
    pub(crate) fn bearing(&self, state: &State) -> Option<f32> {
        self.bearing.map(|lane| state.real(lane))
    }

    /// Each field from `a` to `b` in its own way.
    pub(crate) fn blend(&self, a: &State, b: &State, t: f32, seconds: f32) -> State {
        let mut out = if t >= 1.0 { *b } else { *a };
        let on = Hermite::at(t);
        for &(lane, how) in &self.lanes[..self.count] {
            let lane = usize::from(lane);
            let ends = (a.real(lane), b.real(lane));
            let between = match how {
                How::Straight => mix(ends.0, ends.1, t),
                How::Bearing => mix_angle(ends.0, ends.1, t),
                How::Curve(vel) => {
                    let vel = usize::from(vel);
                    on.value(ends, (a.real(vel) * seconds, b.real(vel) * seconds))
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
