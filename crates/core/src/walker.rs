//! The built-in rule: somebody on foot.
//!
//! The stick is turned by the view bearing (already flat: there is no pitch), walking or sprinting sets the wanted
//! speed, grip limits the change of velocity a second, a hop starts from the ground only, gravity acts until
//! terminal fall, and the body slides through the ground. The displacement of a tick is the mean of its first and last
//! velocity times dt, which makes distances and jump heights independent of the tick rate.
//!
//! Ice has little grip; water slows. Both come from the surface stood on.

use crate::body::Body;
use crate::data::{Input, State};
use crate::field::{Agree, Blend, InputField, InputKind, SeenBy, Shape, StateField};
use crate::float::{clamp, max};
use crate::ground::{Slide, slide};
use crate::motion::{Limits, Motion, Scene, Step, Tunable};
use crate::quantiser::Quantiser;
use crate::schema::Schema;
use crate::vec3::{Vec3, vec3};

/// Lanes of a walker's state.
pub mod state_lane {
    /// Position, three lanes.
    pub const POS: usize = 0;
    /// Velocity, three lanes.
    pub const VEL: usize = 3;
    /// View bearing.
    pub const FACING: usize = 6;
    /// Whether it stands.
    pub const GROUNDED: usize = 7;
}

/// Lanes of a walker's input.
pub mod input_lane {
    /// Stick: x to the right, y ahead.
    pub const MOVE: usize = 0;
    /// Sprint held.
    pub const SPRINT: usize = 2;
    /// Hops pressed.
    pub const HOP: usize = 3;
    /// View bearing.
    pub const FACING: usize = 4;
}

const TUNABLES: [Tunable; 7] = [
    Tunable { name: "walk", unit: "m/s", default: 4.2, least: 0.5, most: 20.0 },
    Tunable { name: "haste", unit: "1", default: 1.6, least: 1.0, most: 4.0 },
    Tunable { name: "grip", unit: "m/s^2", default: 38.0, least: 1.0, most: 200.0 },
    Tunable { name: "steer", unit: "m/s^2", default: 9.0, least: 0.0, most: 200.0 },
    Tunable { name: "fall", unit: "m/s^2", default: 22.0, least: 1.0, most: 100.0 },
    Tunable { name: "leap", unit: "m/s", default: 7.4, least: 0.0, most: 30.0 },
    Tunable { name: "plunge", unit: "m/s", default: 40.0, least: 1.0, most: 100.0 },
];

/// The rule called `walker` in courses.
#[derive(Clone, Debug)]
pub struct Walker {
    schema: Schema,
}

impl Default for Walker {
    fn default() -> Self {
        Self::new()
    }
}

impl Walker {
    /// The rule with its schema.
    pub fn new() -> Self {
        let field = |name, lane, shape, unit, wire, agree, blend| StateField {
            name,
            lane,
            shape,
            unit,
            wire,
            agree,
            blend,
            seen_by: SeenBy::All,
        };
        let (near, close) = (Agree::Within(0.02), Agree::Within(0.1));
        let pos = Quantiser::new(1.0 / 256.0, 18);
        let vel = Quantiser::new(1.0 / 128.0, 15);
        let arc = crate::field::bearing_quantiser(10);
        Self {
            schema: Schema {
                state: vec![
                    field("pos", state_lane::POS, Shape::Point, "m", pos, near, Blend::Linear),
                    field("vel", state_lane::VEL, Shape::Vector, "m/s", vel, close, Blend::Linear),
                    field("facing", state_lane::FACING, Shape::Bearing, "rad", arc, close, Blend::Bearing),
                    field("grounded", state_lane::GROUNDED, Shape::Flag, "", arc, Agree::Exactly, Blend::None),
                ],
                input: vec![
                    InputField { name: "move", lane: input_lane::MOVE, kind: InputKind::Stick { bits: 7 } },
                    InputField { name: "sprint", lane: input_lane::SPRINT, kind: InputKind::Held },
                    InputField { name: "hop", lane: input_lane::HOP, kind: InputKind::Press },
                    InputField { name: "facing", lane: input_lane::FACING, kind: InputKind::Bearing { bits: 10 } },
                ],
            },
        }
    }
}

/// `from` moved towards `to` by at most `most`.
fn toward(from: Vec3, to: Vec3, most: f32) -> Vec3 {
    let gap = to - from;
    let length = gap.length();
    if length <= most { to } else { from + gap * (most / length) }
}

impl Motion for Walker {
    fn name(&self) -> &'static str {
        "walker"
    }

    fn schema(&self) -> &Schema {
        &self.schema
    }

    fn tunables(&self) -> &[Tunable] {
        &TUNABLES
    }

    fn body(&self) -> Body {
        Body { radius: 0.35, height: 1.7, step: 0.3 }
    }

    fn limits(&self, tunables: &[f32]) -> Limits {
        let [walk, haste, grip, steer, fall, leap, plunge] = tuned(tunables);
        Limits { fall: Some(fall), accel: Some(max(grip, steer)), ..Limits::of_pace(walk * haste, leap, plunge, 0.04) }
    }

    fn spawn(&self, position: Vec3, bearing: f32) -> State {
        let mut state = State::default();
        state.set_vec3(state_lane::POS, position);
        state.set_real(state_lane::FACING, bearing);
        state.set_flag(state_lane::GROUNDED, true);
        state
    }

    fn step(&self, scene: &Scene<'_>, state: &State, input: &Input) -> Step {
        let [walk, haste, grip, steer, fall, leap, plunge] = tuned(scene.tunables);
        let dt = scene.dt;
        let pos = state.vec3(state_lane::POS);
        let grounded = state.flag(state_lane::GROUNDED);
        let facing = input.real(input_lane::FACING);
        let facing = if facing.is_finite() { facing } else { 0.0 };
        let surface = scene.ground.surface(pos);
        let mut start = state.vec3(state_lane::VEL);

        let pace = if input.flag(input_lane::SPRINT) { walk * haste } else { walk };
        let want = turned(input, facing) * (pace * if grounded { surface.pace } else { 1.0 });
        let change = if grounded { grip * surface.grip } else { steer };
        let level = toward(start.level(), want, change * dt);

        if grounded && input.int(input_lane::HOP) > 0 {
            start.z = leap;
        }
        // Who stood and does not rise goes on standing.
        let stands = grounded && start.z <= 0.0;
        let mut end = vec3(level.x, level.y, max(start.z - fall * dt, -plunge));
        if stands {
            // Standing: gravity is met by the ground, which `slide` looks for below.
            end.z = 0.0;
            start.z = 0.0;
        }
        let moved = slide(
            scene.ground,
            &self.body(),
            Slide { from: pos, travel: (start + end) * (dt * 0.5), velocity: end, grounded: stands },
        );

        let mut next = State::default();
        next.set_vec3(state_lane::POS, moved.position);
        next.set_vec3(state_lane::VEL, moved.velocity);
        next.set_real(state_lane::FACING, facing);
        next.set_flag(state_lane::GROUNDED, moved.grounded);
        Step { state: next, contacts: moved.contacts, teleported: false }
    }
}

/// The stick as a level direction in the world; longer than 1 is cut to 1.
fn turned(input: &Input, facing: f32) -> Vec3 {
    let (x, y) = (input.real(input_lane::MOVE), input.real(input_lane::MOVE + 1));
    let (x, y) = (clamp(x, -1.0, 1.0), clamp(y, -1.0, 1.0));
    let (sin, cos) = (libm::sinf(facing), libm::cosf(facing));
    let world = vec3(y * cos + x * sin, y * sin - x * cos, 0.0);
    let length = world.length();
    if length > 1.0 { world * (1.0 / length) } else { world }
}

/// The tunables given, or the defaults where the caller gave too few.
fn tuned(given: &[f32]) -> [f32; TUNABLES.len()] {
    std::array::from_fn(|i| given.get(i).copied().unwrap_or(TUNABLES[i].default))
}
