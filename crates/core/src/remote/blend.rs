//! States between states.

use crate::data::State;
use crate::float::{mix, mix_angle};
use crate::schema::{Blend, Schema, Shape, StateField};
use crate::vec3::{Vec3, vec3};

/// Each field from `a` to `b` in its own way.
pub(crate) fn blend(schema: &Schema, a: &State, b: &State, t: f32, seconds: f32) -> State {
    let mut out = if t >= 1.0 { *b } else { *a };
    for f in &schema.state {
        if f.blend == Blend::None {
            continue;
        }
        let velocity = velocity_of(schema, f);
        for lane in f.lane..f.lane + f.shape.lanes() {
            out.set_real(lane, blend_lane(f, velocity, (a, b), (t, seconds), lane));
        }
    }
    out
}

/// A position straight from one to the other.
pub(crate) fn straight(a: Vec3, b: Vec3, t: f32) -> Vec3 {
    vec3(mix(a.x, b.x, t), mix(a.y, b.y, t), mix(a.z, b.z, t))
}

/// A position along a curve with these slopes over the whole way.
pub(crate) fn curve((a, b): (Vec3, Vec3), (da, db): (Vec3, Vec3), on: &Hermite) -> Vec3 {
    vec3(on.value((a.x, b.x), (da.x, db.x)), on.value((a.y, b.y), (da.y, db.y)), on.value((a.z, b.z), (da.z, db.z)))
}

/// Where the velocity lies that a field's curve leaves and arrives with.
fn velocity_of(schema: &Schema, f: &StateField) -> Option<usize> {
    if f.blend == Blend::Curve { schema.velocity_lane() } else { None }
}

fn blend_lane(
    f: &StateField,
    velocity: Option<usize>,
    (a, b): (&State, &State),
    (t, seconds): (f32, f32),
    lane: usize,
) -> f32 {
    let ends = (a.real(lane), b.real(lane));
    match (f.blend, velocity) {
        (Blend::Curve, Some(velocity)) => {
            let vel = velocity + lane - f.lane;
            Hermite::at(t).value(ends, (a.real(vel) * seconds, b.real(vel) * seconds))
        }
        (Blend::Bearing, _) => mix_angle(ends.0, ends.1, t),
        _ => mix(ends.0, ends.1, t),
    }
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

/// The position carried on by the velocity for `seconds`.
pub(crate) fn run_on(schema: &Schema, state: &State, seconds: f32) -> State {
    let mut out = *state;
    if let (Some(vel), Some(pos)) = (schema.velocity_lane(), schema.state.iter().find(|f| f.shape == Shape::Point)) {
        let moved = state.vec3(pos.lane) + state.vec3(vel) * seconds;
        out.set_vec3(pos.lane, moved);
    }
    out
}
