//! What hands do during one frame, and how that becomes the input of a rule.

use std::mem::discriminant;

use serde::{Deserialize, Serialize};
use velocitas_core::{Input, InputField, InputKind, Schema, Vec3};

/// Hands on the controls during one frame: what any rule understands, and what the member's own rule asks for by name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Controls {
    /// To the right and ahead of where the eyes point, each −1 to 1: the first stick. A rule without a stick is steered: ahead is
    /// its first axis, right the second.
    pub stick: (f32, f32),
    /// Where the eyes point, in radians: the first bearing.
    pub facing: f32,
    /// How far above the level they point, in radians: the first pitch.
    pub pitch: f32,
    /// A place to go to, for rules that are given orders: the first point. `None` where no order is given.
    pub order: Option<Vec3>,
    /// What else is given, laid out as the member's own rule has its inputs. What is at rest there is as said above; another rule
    /// gets what has the same name and kind.
    pub given: Input,
}

/// The first input of a kind.
pub fn first(schema: &Schema, kind: fn(&InputKind) -> bool) -> Option<&InputField> {
    schema.input.iter().find(|f| kind(&f.kind))
}

/// Whether it is two numbers for a direction.
pub const fn is_stick(kind: &InputKind) -> bool {
    matches!(kind, InputKind::Stick { .. })
}

/// Whether it is one number.
pub const fn is_axis(kind: &InputKind) -> bool {
    matches!(kind, InputKind::Axis { .. })
}

/// Whether it is a place.
pub const fn is_point(kind: &InputKind) -> bool {
    matches!(kind, InputKind::Point { .. })
}

/// Whether it is how far up somebody looks.
pub const fn is_pitch(kind: &InputKind) -> bool {
    matches!(kind, InputKind::Pitch { .. })
}

const fn is_bearing(kind: &InputKind) -> bool {
    matches!(kind, InputKind::Bearing { .. })
}

/// The axes that a rule without a stick is steered by: ahead, and to the right.
pub fn steering(schema: &Schema) -> impl Iterator<Item = &InputField> {
    let steered = first(schema, is_stick).is_none();
    schema.input.iter().filter(move |f| steered && is_axis(&f.kind)).take(2)
}

/// The axes that nothing else moves.
pub fn spare_axes(schema: &Schema) -> impl Iterator<Item = &InputField> {
    let steering = steering(schema).count();
    schema.input.iter().filter(|f| is_axis(&f.kind)).skip(steering)
}

impl Controls {
    /// As the input of a rule with this layout; `own` is that of the member's own rule.
    pub fn to_input(&self, schema: &Schema, own: &Schema) -> Input {
        let mut input = Input::default();
        let bearing = first(schema, is_bearing);
        if let Some(f) = first(schema, is_stick) {
            let (mut x, mut y) = self.stick;
            // A rule without a bearing gets the stick already turned.
            if bearing.is_none() {
                let (sin, cos) = (libm::sinf(self.facing), libm::cosf(self.facing));
                (x, y) = (y * cos + x * sin, y * sin - x * cos);
            }
            input.set_real(f.lane, x);
            input.set_real(f.lane + 1, y);
        }
        if let Some(f) = bearing {
            input.set_real(f.lane, self.facing);
        }
        if let Some(f) = first(schema, is_pitch) {
            input.set_real(f.lane, self.pitch);
        }
        for (f, x) in steering(schema).zip([self.stick.1, self.stick.0]) {
            input.set_real(f.lane, x);
        }
        if let Some((f, order)) = first(schema, is_point).zip(self.order) {
            f.give(&mut input, order);
        }
        if self.given != Input::default() {
            self.overlay(&mut input, schema, own);
        }
        input
    }

    /// What is given by name, over what is there.
    fn overlay(&self, input: &mut Input, schema: &Schema, own: &Schema) {
        for f in &schema.input {
            let same = |g: &&InputField| g.name == f.name && discriminant(&g.kind) == discriminant(&f.kind);
            let Some(g) = own.input.iter().find(same) else { continue };
            let lanes = 0..f.kind.lanes();
            if lanes.clone().any(|i| self.given.int(g.lane + i) != 0) {
                lanes.for_each(|i| input.set_int(f.lane + i, self.given.int(g.lane + i)));
            }
        }
    }

    /// Whether nothing is pushed or pressed; what is only held, looked at or ordered is none of that.
    pub fn is_at_rest(&self, own: &Schema) -> bool {
        let moves = |f: &InputField| match f.kind {
            InputKind::Press => self.given.int(f.lane) > 0,
            InputKind::Stick { .. } | InputKind::Axis { .. } => {
                (f.lane..f.lane + f.kind.lanes()).any(|lane| self.given.real(lane) != 0.0)
            }
            _ => false,
        };
        self.stick == (0.0, 0.0) && !own.input.iter().any(moves)
    }

    /// Presses that were not seen by a frame yet are kept.
    pub fn add_presses(&mut self, before: &Self, own: &Schema) {
        for f in own.input.iter().filter(|f| f.kind == InputKind::Press) {
            self.given.set_int(f.lane, self.given.int(f.lane) + before.given.int(f.lane));
        }
    }

    /// A press is a press once.
    pub fn let_go(&mut self, own: &Schema) {
        self.given = own.held_on(&self.given);
    }
}

/// Something done to inputs by name. What a rule has no input of that name and kind for is not done.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Acts {
    /// What is pressed, once.
    pub press: Vec<String>,
    /// What is held down.
    pub hold: Vec<String>,
    /// Where axes are held, −1 to 1.
    pub axes: Vec<(String, f32)>,
    /// Where what takes orders is sent.
    pub order: Option<Vec3>,
}

impl Acts {
    /// All of it at once, laid out for a rule.
    pub fn given(&self, schema: &Schema) -> Input {
        let mut given = Input::default();
        self.hold(&mut given, schema);
        self.press(&mut given, schema);
        given
    }

    /// Holds what is held.
    pub fn hold(&self, given: &mut Input, schema: &Schema) {
        for f in &schema.input {
            match f.kind {
                InputKind::Held if self.hold.iter().any(|name| name == f.name) => given.set_flag(f.lane, true),
                InputKind::Axis { .. } => {
                    if let Some((_, x)) = self.axes.iter().find(|(name, _)| *name == f.name) {
                        given.set_real(f.lane, *x);
                    }
                }
                _ => {}
            }
        }
    }

    /// Presses what is pressed.
    pub fn press(&self, given: &mut Input, schema: &Schema) {
        let pressed = |f: &&InputField| f.kind == InputKind::Press && self.press.iter().any(|name| name == f.name);
        schema.input.iter().filter(pressed).for_each(|f| given.set_int(f.lane, given.int(f.lane) + 1));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_core::walker::{Walker, input_lane};
    use velocitas_core::{Motion, vec3};

    fn schema(kinds: &[(&'static str, InputKind)]) -> Schema {
        let mut lane = 0;
        let fields = kinds.iter().map(|&(name, kind)| {
            lane += kind.lanes();
            InputField { name, lane: lane - kind.lanes(), kind }
        });
        Schema { input: fields.collect(), ..Schema::default() }
    }

    const AXIS: InputKind = InputKind::Axis { bits: 7 };

    #[test]
    fn controls_find_their_fields_in_any_schema() {
        let feet = Walker::new().schema().clone();
        let mut given = Input::default();
        given.set_flag(input_lane::SPRINT, true);
        given.set_int(input_lane::HOP, 2);
        let controls = Controls { stick: (0.5, -1.0), facing: 0.7, given, ..Controls::default() };
        let input = controls.to_input(&feet, &feet);
        assert_eq!((input.real(input_lane::MOVE), input.real(input_lane::MOVE + 1)), (0.5, -1.0));
        assert_eq!((input.flag(input_lane::SPRINT), input.int(input_lane::HOP)), (true, 2));
        // A rule without a bearing gets the stick already turned: ahead, looking north, is north.
        let push = schema(&[("push", InputKind::Stick { bits: 7 })]);
        let north = Controls { stick: (0.0, 1.0), facing: std::f32::consts::FRAC_PI_2, ..Controls::default() };
        let input = north.to_input(&push, &push);
        assert!(input.real(0).abs() < 1e-6 && (input.real(1) - 1.0).abs() < 1e-6);
    }

    #[test]
    fn another_rule_gets_what_has_the_same_name_and_kind() {
        let own = schema(&[("hop", InputKind::Press), ("lamp", InputKind::Held), ("lift", AXIS)]);
        let other =
            schema(&[("lamp", InputKind::Held), ("hop", InputKind::Held), ("throttle", AXIS), ("rudder", AXIS)]);
        let mut given = Input::default();
        given.set_int(0, 1);
        given.set_flag(1, true);
        given.set_real(2, 0.5);
        let input = Controls { given, ..Controls::default() }.to_input(&other, &own);
        let bits: Vec<u32> = input.bits()[..4].to_vec();
        assert_eq!(bits, [1, 0, 0, 0], "the lamp, and no hop that is held, nor a throttle for a lift");
    }

    #[test]
    fn axes_steer_where_there_is_no_stick_and_a_point_is_an_order() {
        let helm = schema(&[("throttle", AXIS), ("rudder", AXIS), ("pump", AXIS)]);
        let order = Some(vec3(3.0, -4.0, 0.0));
        let mut controls = Controls { stick: (-0.5, 0.75), order, ..Controls::default() };
        let input = controls.to_input(&helm, &helm);
        assert_eq!((0..3).map(|i| input.real(i)).collect::<Vec<_>>(), [0.75, -0.5, 0.0]);
        controls.given.set_real(1, 0.25);
        controls.given.set_real(2, -1.0);
        let input = controls.to_input(&helm, &helm);
        assert_eq!((0..3).map(|i| input.real(i)).collect::<Vec<_>>(), [0.75, 0.25, -1.0], "a name goes before");
        let both = schema(&[("move", InputKind::Stick { bits: 7 }), ("lift", AXIS)]);
        assert_eq!(controls.to_input(&both, &both).real(2), -1.0, "laid out alike here");
        let stick = Controls { given: Input::default(), ..controls };
        assert_eq!(stick.to_input(&both, &both).real(2), 0.0, "a stick moves no axis beside it");
        let goal = schema(&[("goal", InputKind::Point { bits: 14 })]);
        let ordered = stick.to_input(&goal, &goal);
        assert_eq!((ordered.vec3(0), ordered.flag(3)), (vec3(3.0, -4.0, 0.0), true));
        assert_eq!(Controls { order: None, ..stick }.to_input(&goal, &goal), Input::default());
    }

    #[test]
    fn presses_add_up_until_a_frame_sees_them() {
        let own = schema(&[("hop", InputKind::Press), ("lamp", InputKind::Held)]);
        let mut given = Input::default();
        given.set_int(0, 1);
        given.set_flag(1, true);
        let before = Controls { given, ..Controls::default() };
        let mut now = before;
        now.add_presses(&before, &own);
        assert_eq!(now.given.int(0), 2);
        assert!(!now.is_at_rest(&own));
        now.let_go(&own);
        assert!(now.given.int(0) == 0 && now.given.flag(1) && now.is_at_rest(&own));
    }
}
