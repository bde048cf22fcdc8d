//! Presses at random: hands that use whatever the rule has.

use velocitas_core::{Input, InputField, InputKind, POINT_REACH, Schema, Vec3, vec3, wrap_angle};
use velocitas_record::controls::{Controls, first, is_stick, steering};
use velocitas_record::time::LabTime;

use super::route::{TURN, Walk};
use super::seen::{Luck, Seen};

/// What was done at random last.
#[derive(Clone, Debug, Default)]
pub(super) struct Random {
    /// The number of the next thing to be done.
    next: u64,
    /// When the last one was.
    since: LabTime,
    /// What is held, and where axes and sticks beyond the first are.
    given: Input,
    stick: (f32, f32),
    facing: f32,
    /// Where the eyes turn to.
    wanted: f32,
    pitch: f32,
    order: Option<Vec3>,
}

/// How far up and down eyes look.
const PITCH: f32 = 1.0;
/// One time in this number a stick or an axis is let go.
const LET_GO: f64 = 0.25;

impl Random {
    /// Does what is due, on top of what the hands do anyway: where those go by themselves it leaves steering to them. The number
    /// n of all is done at a moment of the n-th slot of 1/`often` seconds. Returns when hands moved last.
    pub(super) fn play(
        &mut self,
        (often, begun): (f64, LabTime),
        seen: &Seen<'_>,
        leads: bool,
        luck: &dyn Fn(Luck, u64) -> f64,
        controls: &mut Controls,
    ) -> LabTime {
        let schema = seen.schema;
        let mut presses = Input::default();
        loop {
            let number = self.next;
            let due = begun.plus(LabTime::from_secs((number as f64 + luck(Luck::When, number)) / often));
            if due >= seen.now {
                break;
            }
            (self.next, self.since) = (number + 1, due);
            let open: Vec<&InputField> =
                schema.input.iter().filter(|f| !leads || !Walk::moves(schema, f.name)).collect();
            let which = (luck(Luck::Which, number) * open.len() as f64) as usize;
            if let Some(f) = open.get(which) {
                self.touch(f, seen, (luck(Luck::How, number), luck(Luck::Far, number)), &mut presses);
            }
        }
        if !leads {
            self.facing = wrap_angle(self.facing + wrap_angle(self.wanted - self.facing).clamp(-TURN, TURN));
            *controls = Controls { stick: self.stick, facing: self.facing, order: self.order, ..*controls };
        }
        controls.pitch = if self.pitch == 0.0 { controls.pitch } else { self.pitch };
        for f in &schema.input {
            for lane in f.lane..f.lane + f.kind.lanes() {
                let bits = if f.kind == InputKind::Press {
                    controls.given.int(lane) + presses.int(lane)
                } else if self.given.int(lane) != 0 {
                    self.given.int(lane)
                } else {
                    continue;
                };
                controls.given.set_int(lane, bits);
            }
        }
        self.since
    }

    /// Does something to an input.
    fn touch(&mut self, f: &InputField, seen: &Seen<'_>, (how, far): (f64, f64), presses: &mut Input) {
        let signed = (how * 2.0 - 1.0) as f32;
        let let_go = far < LET_GO;
        match f.kind {
            InputKind::Press => presses.set_int(f.lane, presses.int(f.lane) + 1),
            InputKind::Held => self.given.set_flag(f.lane, !self.given.flag(f.lane)),
            InputKind::Axis { .. } => self.axis(f, seen.schema, if let_go { 0.0 } else { signed }),
            InputKind::Stick { .. } => self.push(f, seen.schema, if let_go { 0.0 } else { 1.0 }, how),
            InputKind::Bearing { .. } => self.wanted = signed * std::f32::consts::PI,
            InputKind::Pitch { .. } => self.pitch = signed * PITCH,
            InputKind::Point { .. } => {
                let within = |(min, max): (f32, f32), share: f64| {
                    (min + (max - min) * share as f32).clamp(-POINT_REACH, POINT_REACH)
                };
                let b = seen.bounds;
                let place = vec3(within((b.min.0, b.max.0), how), within((b.min.1, b.max.1), far), b.floor);
                if first(seen.schema, velocitas_record::controls::is_point).is_some_and(|first| first.name == f.name) {
                    self.order = Some(place);
                } else {
                    f.give(&mut self.given, place);
                }
            }
        }
    }

    fn axis(&mut self, f: &InputField, schema: &Schema, x: f32) {
        match steering(schema).position(|axis| axis.name == f.name) {
            Some(0) => self.stick.1 = x,
            Some(_) => self.stick.0 = x,
            None => self.given.set_real(f.lane, x),
        }
    }

    fn push(&mut self, f: &InputField, schema: &Schema, far: f32, how: f64) {
        let (sin, cos) = libm::sincosf((how * std::f64::consts::TAU) as f32);
        let (x, y) = (cos * far, sin * far);
        if first(schema, is_stick).is_some_and(|stick| stick.name == f.name) {
            self.stick = (x, y);
        } else {
            self.given.set_real(f.lane, x);
            self.given.set_real(f.lane + 1, y);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_core::Bounds;

    const KINDS: [(&str, InputKind); 7] = [
        ("move", InputKind::Stick { bits: 7 }),
        ("dash", InputKind::Press),
        ("crouch", InputKind::Held),
        ("lift", InputKind::Axis { bits: 7 }),
        ("look", InputKind::Pitch { bits: 8 }),
        ("facing", InputKind::Bearing { bits: 10 }),
        ("goal", InputKind::Point { bits: 14 }),
    ];

    fn schema() -> Schema {
        let mut lane = 0;
        let fields = KINDS.iter().map(|&(name, kind)| {
            lane += kind.lanes();
            InputField { name, lane: lane - kind.lanes(), kind }
        });
        Schema { input: fields.collect(), ..Schema::default() }
    }

    fn luck(what: Luck, number: u64) -> f64 {
        crate::chance::Chance::of(7, crate::chance::Purpose::Hands, 1, what as u32, number).uniform()
    }

    /// Ten minutes at sixty frames a second: how often anything was done, and for each input in how many frames it was given.
    fn ten_minutes(leads: bool) -> (u64, Vec<u32>, Vec<f32>) {
        let (schema, mut random) = (schema(), Random::default());
        let bounds = Bounds { min: (-20.0, -10.0), max: (20.0, 10.0), floor: 0.0 };
        let mut given = vec![0; KINDS.len()];
        let mut places = Vec::new();
        for frame in 0..36_000 {
            let now = LabTime::from_secs(f64::from(frame) / 60.0);
            let seen = Seen { now, own: None, schema: &schema, bounds };
            let mut controls = Controls::default();
            random.play((3.0, LabTime::ZERO), &seen, leads, &luck, &mut controls);
            let input = controls.to_input(&schema, &schema);
            for (f, count) in schema.input.iter().zip(&mut given) {
                *count += u32::from((f.lane..f.lane + f.kind.lanes()).any(|lane| input.int(lane) != 0));
            }
            places.extend(controls.order.map(|order| order.x));
        }
        (random.next, given, places)
    }

    #[test]
    fn everything_a_rule_has_is_used_as_often_as_asked_for() {
        let (done, given, places) = ten_minutes(false);
        assert!((1798..=1802).contains(&done), "three times a second: {done}");
        assert!(given.iter().all(|frames| *frames > 150), "{given:?}");
        assert!((200..320).contains(&given[1]), "a press is a press once: a seventh of all, {given:?}");
        assert!(places.iter().all(|x| x.abs() <= 20.0) && places.iter().any(|x| *x < -10.0), "orders lie in the world");
    }

    #[test]
    fn who_goes_somewhere_is_left_to_steer() {
        let (_, given, places) = ten_minutes(true);
        assert_eq!((given[0], given[5], given[6], places.len()), (0, 0, 0, 0));
        assert!(given[1..5].iter().all(|frames| *frames > 400), "{given:?}");
    }
}
