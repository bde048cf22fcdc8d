//! Fingerprints of rules: whether two machines have the same, told without sending them.
//!
//! The layout of a rule can be compared exactly. What a rule *does* cannot, so it is tried: the digest of a few dozen steps
//! from canned inputs, with whatever [`Motion::version`] adds. Two rules whose prints differ do differ; two whose prints are
//! the same did the same in all that was tried.

use std::sync::Arc;

use crate::data::{Digest, Input};
use crate::field::InputKind;
use crate::float::max;
use crate::ground::{Bounds, Ground, Solid, SolidId};
use crate::motion::{Motion, Scene};
use crate::schema::Schema;
use crate::tick::Tick;
use crate::vec3::vec3;

/// The fingerprint of one kind of entity.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct KindPrint {
    /// Of its layout: see [`Schema::fingerprint`].
    pub layout: u32,
    /// Of what it does.
    pub rule: u32,
}

/// Steps tried: long enough for a jump to land again.
const STEPS: u64 = 90;
/// Seconds a tick while trying.
const DT: f32 = 1.0 / 60.0;

impl KindPrint {
    /// The fingerprint of a rule.
    pub fn of(rule: &dyn Motion) -> Self {
        Self { layout: fold(rule.schema().fingerprint()), rule: fold(behaviour(rule)) }
    }
}

const fn fold(digest: u64) -> u32 {
    (digest ^ digest >> 32) as u32
}

/// The digest of what a rule does in a small yard.
fn behaviour(rule: &dyn Motion) -> u64 {
    let mut digest = Digest::default();
    digest.word(rule.version());
    let tunables: Vec<f32> = rule.tunables().iter().map(|t| t.default).collect();
    for tunable in rule.tunables() {
        tunable.name.bytes().for_each(|b| digest.word(u64::from(b)));
        digest.word(u64::from(tunable.default.to_bits()));
    }
    let limits = rule.limits(&tunables);
    [limits.level, limits.up, limits.down, limits.slack].iter().for_each(|x| digest.word(u64::from(x.to_bits())));
    let also = [limits.fall, limits.burst.map(|b| b.level), limits.burst.map(|b| b.metres)];
    also.into_iter().flatten().chain(limits.gains).for_each(|x| digest.word(u64::from(x.to_bits())));
    let ground = yard();
    let mut state = rule.spawn(vec3(0.0, 0.0, 0.0), 0.3);
    for tick in 0..STEPS {
        let scene = Scene { tick: Tick(tick), dt: DT, ground: &ground, tunables: &tunables };
        state = rule.step(&scene, &state, &canned(rule.schema(), tick)).state;
        digest.lanes(&state, rule.schema().state_lanes());
    }
    digest.value()
}

/// Level ground with a step to climb and a wall to slide along.
fn yard() -> Ground {
    let bounds = Bounds { min: (-40.0, -40.0), max: (40.0, 40.0), floor: 0.0 };
    let block =
        |id, x, half_x, high| Solid { id: SolidId(id), x, y: 0.0, half_x, half_y: 6.0, yaw: 0.4, low: 0.0, high };
    Ground::new(bounds, vec![block(0, 2.0, 0.6, 0.25), block(1, 5.0, 0.5, 4.0)], Vec::new())
}

/// What the hands do in a tick: every field is moved, each at its own pace.
fn canned(schema: &Schema, tick: u64) -> Input {
    let mut input = Input::default();
    for (n, f) in schema.input.iter().enumerate() {
        let turn = tick as f32 * 0.11 + n as f32;
        match f.kind {
            InputKind::Held => input.set_flag(f.lane, tick / 15 % 2 == 1),
            InputKind::Press => input.set_int(f.lane, u32::from(tick % 20 == 9)),
            InputKind::Stick { .. } => {
                input.set_real(f.lane, 0.4 * libm::sinf(turn));
                input.set_real(f.lane + 1, max(libm::cosf(turn * 0.2), 0.2) * 0.9);
            }
            InputKind::Point { .. } if tick % 30 < 12 => {}
            InputKind::Point { .. } => f.give(&mut input, vec3(6.0 * libm::cosf(turn * 0.1), 3.0, 1.0)),
            InputKind::Axis { .. } | InputKind::Bearing { .. } | InputKind::Pitch { .. } => {
                input.set_real(f.lane, 0.8 * libm::sinf(turn));
            }
        }
    }
    schema.round_input(&input)
}

/// The fingerprints of rules, by number.
pub(super) fn prints(rules: &[Arc<dyn Motion>]) -> Arc<[KindPrint]> {
    rules.iter().map(|rule| KindPrint::of(&**rule)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::altered::Altered;
    use crate::data::State;
    use crate::motion::Step;

    use crate::walker::Walker;

    /// A walker that drifts in the air, by `drift` metres a tick.
    fn drifting(drift: f32, version: u64) -> Altered {
        let after = move |_: &Scene<'_>, _: &State, step: &mut Step| {
            if step.state.vec3(0).z > 0.2 {
                step.state.set_real(0, step.state.real(0) + drift);
            }
        };
        Altered { version, after: Box::new(after), ..Altered::named("drifting") }
    }

    #[test]
    fn a_rule_that_does_something_else_has_another_print_and_the_same_layout() {
        let print = |drift, version| KindPrint::of(&drifting(drift, version));
        let plain = print(0.0, 0);
        assert_eq!(plain, print(0.0, 0), "asked twice");
        assert_eq!(plain.rule, KindPrint::of(&Walker::new()).rule, "its name is nothing it does");
        let others = [print(1e-4, 0), print(0.0, 1)];
        assert!(others.iter().all(|other| other.layout == plain.layout && other.rule != plain.rule), "{others:?}");
    }
}
