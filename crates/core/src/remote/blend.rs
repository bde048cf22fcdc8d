//! States between states.

use crate::data::State;
use crate::float::{mix, mix_angle};
use crate::schema::{Blend, Schema, Shape};

/// Each field from `a` to `b` in its own way.
pub(crate) fn blend(schema: &Schema, a: &State, b: &State, t: f32, seconds: f32) -> State {
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
pub(crate) fn run_on(schema: &Schema, state: &State, seconds: f32) -> State {
    let mut out = *state;
    if let (Some(vel), Some(pos)) = (schema.velocity_lane(), schema.state.iter().find(|f| f.shape == Shape::Point)) {
        let moved = state.vec3(pos.lane) + state.vec3(vel) * seconds;
        out.set_vec3(pos.lane, moved);
    }
    out
}
