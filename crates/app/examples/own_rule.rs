//! A movement rule of one's own in the full interface: a skiff that glides.
//!
//! Run with `cargo run --release --example own_rule`. The rule is the thirty lines between the two marks; everything
//! else (wire format, prediction, reconciliation, drawing, the guard's limits) follows from its schema.

use std::sync::Arc;

use velocitas::core::{
    Agree, Blend, Body, Ground, Input, InputField, InputKind, Limits, Motion, Quantiser, Scene, Schema, SeenBy, Shape,
    Slide, State, StateField, Step, Vec3, slide,
};

/// Pushed by the stick, slowed by the water: it never quite stops turning.
#[derive(Debug)]
struct Skiff {
    schema: Schema,
}

impl Skiff {
    fn new() -> Self {
        let vector = |name, lane, shape, unit, step, agree| StateField {
            name,
            lane,
            shape,
            unit,
            wire: Quantiser::new(step, 18),
            agree: Agree::Within(agree),
            blend: Blend::Linear,
            seen_by: SeenBy::All,
        };
        let state = vec![
            vector("pos", 0, Shape::Point, "m", 1.0 / 256.0, 0.02),
            vector("vel", 3, Shape::Vector, "m/s", 1.0 / 128.0, 0.1),
        ];
        let input = vec![InputField { name: "push", lane: 0, kind: InputKind::Stick { bits: 7 } }];
        Self { schema: Schema { state, input } }
    }
}

// --- the rule ---
impl Motion for Skiff {
    fn name(&self) -> &'static str {
        "skiff"
    }
    fn schema(&self) -> &Schema {
        &self.schema
    }
    fn body(&self) -> Body {
        Body { radius: 0.8, height: 1.0, step: 0.0 }
    }
    fn limits(&self, _: &[f32]) -> Limits {
        Limits::of_pace(6.0, 0.1, 0.1, 0.04)
    }
    fn spawn(&self, position: Vec3, _: f32) -> State {
        let mut state = State::default();
        state.set_vec3(0, position);
        state
    }
    fn step(&self, scene: &Scene<'_>, state: &State, input: &Input) -> Step {
        let push = Vec3 { x: input.real(0), y: input.real(1), z: 0.0 } * 6.0;
        let before = state.vec3(3);
        let after = before + (push - before) * (scene.dt * 1.2);
        let travel = (before + after) * (scene.dt * 0.5);
        let ground: &Ground = scene.ground;
        let wanted = Slide { from: state.vec3(0), travel, velocity: after, grounded: false };
        let moved = slide(ground, &self.body(), wanted);
        let mut next = State::default();
        next.set_vec3(0, moved.position);
        next.set_vec3(3, moved.velocity);
        Step { state: next, contacts: moved.contacts, teleported: false }
    }
}
// --- that was it ---

const COURSE: &str = r#"
format = 1
name = "Skiffs at Lampwick Quay"
seed = 3
tick_rate = "30 Hz"
world = { min = [-40, -24], max = [40, 24] }

[[zone]]
name = "basin"
surface = "water"
min = [-40, -24]
max = [40, 24]

[[solid]]
name = "breakwater"
at = [2, 0]
size = [26, 3]
yaw = "18 deg"
height = "2 m"

[link.home]
latency = "60 ms"
jitter = "9 ms"
loss = "3 %"

[[cast]]
name = "teal"
role = "helm"
rule = "skiff"
link = "home"
spawn = [-20, -8]
route = [{ at = [20, -8] }, { at = [24, 10] }, { at = [-16, 8] }, { at = [-20, -8] }]

[[cast]]
name = "curlew"
role = "bot"
rule = "skiff"
arrangement = "claims"
link = "home"
spawn = [-20, 12]
route = [{ at = [0, 14] }, { at = [-24, 0] }]
"#;

fn main() -> Result<(), velocitas::OpenError> {
    velocitas::open_text("own_rule", COURSE, &[Arc::new(Skiff::new())])
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas::analysis::metrics;
    use velocitas::lab::{Course, Run};
    use velocitas::record::LabTime;

    #[test]
    fn the_rule_is_predicted_exactly_and_never_accused() {
        let course = Course::parse("own_rule", COURSE, &[Arc::new(Skiff::new())]).expect("a sound course");
        let mut run = Run::new(course).expect("it fits");
        run.advance(LabTime::from_secs(60.0));
        for member in run.course().members() {
            let m = metrics::measure(run.record(), run.course().machine(member), LabTime::ZERO, run.now());
            assert!(m.prediction_error_m.p50.is_some_and(|e| e < 0.01), "{m:?}");
            assert_eq!(m.corrections.unexplained, 0);
            assert!(m.verdicts.is_empty(), "{m:?}");
        }
    }
}
