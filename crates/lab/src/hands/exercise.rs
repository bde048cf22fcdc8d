//! Exercise: every input that nothing else moves is used now and then, one after the other.

use velocitas_core::{InputField, InputKind};
use velocitas_record::controls::Controls;
use velocitas_record::time::LabTime;

use super::route::Walk;
use super::script::Script;
use super::seen::Seen;

/// How often something is used …
const EVERY: LabTime = LabTime(2_000_000_000);
/// … and how long it is held.
const HELD: LabTime = LabTime(700_000_000);
/// How far up and down eyes look, in radians.
const PITCH: f32 = 0.5;

/// Which turn it is.
#[derive(Clone, Debug, Default)]
pub(super) struct Exercise {
    /// Turns that were begun.
    begun: u64,
}

impl Exercise {
    /// Uses what is due. Sticks and axes go one way in one round and the other way in the next.
    pub(super) fn play(&mut self, begun: LabTime, seen: &Seen<'_>, script: &Script, controls: &mut Controls) {
        let schema = seen.schema;
        let open: Vec<&InputField> = schema.input.iter().filter(|f| is_open(f, seen, script)).collect();
        let elapsed = seen.now.minus(begun);
        // The first turn is taken once there has been time to look around.
        let (turn, into) = (elapsed.0 / EVERY.0, LabTime(elapsed.0 % EVERY.0));
        let Some(f) = turn.checked_sub(1).and_then(|turn| open.get((turn % open.len().max(1) as u64) as usize)) else {
            return;
        };
        let begins = turn > self.begun;
        self.begun = self.begun.max(turn);
        let way = if ((turn - 1) / open.len() as u64).is_multiple_of(2) { 1.0 } else { -1.0 };
        let given = &mut controls.given;
        match f.kind {
            InputKind::Press if begins => given.set_int(f.lane, given.int(f.lane) + 1),
            InputKind::Held if into < HELD => given.set_flag(f.lane, true),
            InputKind::Axis { .. } if into < HELD => given.set_real(f.lane, way),
            InputKind::Stick { .. } if into < HELD => given.set_real(f.lane + 1, way),
            InputKind::Bearing { .. } => controls.facing = way,
            InputKind::Pitch { .. } if into < HELD => controls.pitch = way * PITCH,
            InputKind::Point { .. } => {
                let b = seen.bounds;
                let middle = |min: f32, max: f32| min + (max - min) * (0.5 + 0.25 * way);
                f.give(given, velocitas_core::vec3(middle(b.min.0, b.max.0), middle(b.min.1, b.max.1), b.floor));
            }
            _ => {}
        }
    }
}

/// Whether nothing else that the hands do moves an input.
fn is_open(f: &InputField, seen: &Seen<'_>, script: &Script) -> bool {
    !(script.leads() && Walk::moves(seen.schema, f.name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::hands::Waypoint;
    use velocitas_core::{Bounds, Schema};

    #[test]
    fn what_nothing_else_moves_is_used_in_turn_and_pressed_once() {
        let kinds = [
            ("move", InputKind::Stick { bits: 7 }),
            ("dash", InputKind::Press),
            ("crouch", InputKind::Held),
            ("lift", InputKind::Axis { bits: 7 }),
        ];
        let lanes = [0, 2, 3, 4];
        let fields = kinds.iter().zip(lanes).map(|(&(name, kind), lane)| InputField { name, lane, kind });
        let schema = Schema { input: fields.collect(), ..Schema::default() };
        let bounds = Bounds { min: (-9.0, -9.0), max: (9.0, 9.0), floor: 0.0 };
        let script = Script { route: vec![Waypoint::default()], exercise: true, ..Script::default() };
        let mut exercise = Exercise::default();
        let mut used = [0u32; 4];
        let mut ways = Vec::new();
        for frame in 0..60 * 14 {
            let now = LabTime::from_secs(f64::from(frame) / 60.0);
            let mut controls = Controls::default();
            exercise.play(LabTime::ZERO, &Seen { now, own: None, schema: &schema, bounds }, &script, &mut controls);
            for (count, lane) in used.iter_mut().zip(lanes) {
                *count += controls.given.int(lane).min(1);
            }
            ways.extend(Some(controls.given.real(4)).filter(|x| *x != 0.0));
        }
        // Six turns of two seconds, after the first two: each of three things twice.
        assert_eq!(used, [0, 2, 2 * 42, 2 * 42]);
        assert!(ways.first() == Some(&1.0) && ways.last() == Some(&-1.0), "one way, then the other");
    }
}
