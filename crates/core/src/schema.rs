//! What the lanes of a state and an input mean.
//!
//! Everything generic works from a [`Schema`]: the wire format from `wire`, reconciliation from `agree`, drawing from
//! `blend`, snapshots to others from `seen_by`, screens from names and units. A schema is checked once, by
//! [`Schema::check`]; the rest of the core may then index lanes without asking.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::data::{Digest, INPUT_LANES, Input, STATE_LANES, State};
use crate::field::{InputField, InputKind, PRESS_BITS, SeenBy, Shape, StateField, bearing_quantiser, stick_quantiser};
use crate::float::{clamp, wrap_angle};

/// The most kinds in a session: a hello carries a fingerprint of each.
pub const MOST_KINDS: usize = 128;

/// The whole meaning of one kind of entity.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Schema {
    /// Remembered values, in lane order.
    pub state: Vec<StateField>,
    /// Pressed values, in lane order.
    pub input: Vec<InputField>,
}

/// Why a [`Schema`] cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum SchemaError {
    /// Two fields share a lane, or there are too many.
    #[error("field `{field}` takes lane {lane}, which another field has or which is beyond the last of {most}")]
    Lane {
        /// Field at fault.
        field: &'static str,
        /// The lane.
        lane: usize,
        /// Lanes there are.
        most: usize,
    },
    /// An entity needs a position, as its first field and in the first lanes.
    #[error("the first state field must be a point in lane 0 (where the entity is)")]
    NoPosition,
    /// Bits outside 2 to 16, or 4 to 20 for a point.
    #[error("input `{0}` must take 2 to 16 bits, a point 4 to 20")]
    Bits(&'static str),
    /// One rule more than a session can have.
    #[error("a session has at most {} rules", MOST_KINDS)]
    TooManyKinds,
}

impl Schema {
    /// How many lanes of a state are in use; none lies beyond.
    pub fn state_lanes(&self) -> usize {
        self.state.iter().map(|f| f.lane + f.shape.lanes()).max().unwrap_or(0)
    }

    /// Bits of one input on the wire, at most.
    pub fn input_bits(&self) -> u32 {
        self.input.iter().map(|f| f.kind.bits()).sum()
    }

    /// Bits of a state on the wire as its owner receives it: exactly.
    pub fn exact_bits(&self) -> u32 {
        self.state.iter().map(StateField::exact_bits).sum()
    }

    /// Bits of a state on the wire as everybody else receives it.
    pub fn seen_bits(&self) -> u32 {
        self.state.iter().map(StateField::seen_bits).sum()
    }

    /// Two schemas with the same fingerprint read and write the same bits with the same meaning: names, kinds, lanes
    /// and widths. How nearly they must agree and how they are drawn is not part of it.
    pub fn fingerprint(&self) -> u64 {
        let mut digest = Digest::default();
        self.field_prints().for_each(|(_, print)| digest.word(print));
        digest.value()
    }

    /// For each field, those of the state first, its name and a fingerprint of how it is laid out.
    pub fn field_prints(&self) -> impl Iterator<Item = (&'static str, u64)> {
        let print = |name: &'static str, words: [u64; 4]| {
            let mut digest = Digest::default();
            name.bytes().map(u64::from).chain(words).for_each(|word| digest.word(word));
            (name, digest.value())
        };
        let state = self.state.iter().map(move |f| {
            let step = u64::from(f.wire.step().to_bits());
            let kind = f.shape as u64 + if f.seen_by == SeenBy::Owner { 256 } else { 0 };
            print(f.name, [f.lane as u64, kind, step, u64::from(f.wire.bits())])
        });
        let input = self.input.iter().map(move |f| {
            let kind = match f.kind {
                InputKind::Stick { .. } => 0,
                InputKind::Held => 1,
                InputKind::Press => 2,
                InputKind::Bearing { .. } => 3,
                InputKind::Axis { .. } => 4,
                InputKind::Pitch { .. } => 5,
                InputKind::Point { .. } => 6,
            };
            print(f.name, [f.lane as u64, 512 + kind, u64::from(f.kind.bits()), 0])
        });
        state.chain(input)
    }

    /// First lane of the first vector in metres a second, if any: how fast the entity is.
    pub fn velocity_lane(&self) -> Option<usize> {
        self.state.iter().find(|f| f.shape == Shape::Vector && f.unit == "m/s").map(|f| f.lane)
    }

    /// Lane of the first bearing, if any: where the entity looks.
    pub fn bearing_lane(&self) -> Option<usize> {
        self.state.iter().find(|f| f.shape == Shape::Bearing).map(|f| f.lane)
    }

    /// Lane of the flag that says whether the entity stands on something, if its rule keeps one by the name of `grounded`, as the language
    /// and the built-in walker do.
    pub fn grounded_lane(&self) -> Option<usize> {
        self.state.iter().find(|f| f.shape == Shape::Flag && f.name == "grounded").map(|f| f.lane)
    }

    /// Checks what the rest of the core relies on.
    ///
    /// # Errors
    /// When lanes overlap or run out, when there is no position, when an input has no sensible width.
    pub fn check(&self) -> Result<(), SchemaError> {
        if self.state.first().is_none_or(|f| f.shape != Shape::Point || f.lane != 0) {
            return Err(SchemaError::NoPosition);
        }
        let mut taken = [false; STATE_LANES];
        for f in &self.state {
            take_lanes(&mut taken, f.name, f.lane, f.shape.lanes())?;
        }
        let mut taken = [false; INPUT_LANES];
        for f in &self.input {
            take_lanes(&mut taken, f.name, f.lane, f.kind.lanes())?;
            let (bits, fits) = match f.kind {
                InputKind::Point { bits } => (bits, 4..=20),
                InputKind::Stick { bits }
                | InputKind::Bearing { bits }
                | InputKind::Axis { bits }
                | InputKind::Pitch { bits } => (bits, 2..=16),
                InputKind::Held | InputKind::Press => continue,
            };
            if !fits.contains(&bits) {
                return Err(SchemaError::Bits(f.name));
            }
        }
        Ok(())
    }

    /// Rounds an input to what the wire can carry, so that the owner predicts with what the server will read.
    #[must_use]
    pub fn round_input(&self, raw: &Input) -> Input {
        let mut out = Input::default();
        for f in &self.input {
            match f.kind {
                InputKind::Stick { bits } => {
                    let (mut x, mut y) = (clamp(raw.real(f.lane), -1.0, 1.0), clamp(raw.real(f.lane + 1), -1.0, 1.0));
                    let q = stick_quantiser(bits);
                    let length = libm::sqrtf(x * x + y * y);
                    // What rounding put just beyond the disc stays there, so that rounding twice is rounding once.
                    let rounded = q.round(x) == x && q.round(y) == y && length <= 1.0 + 0.75 * q.step();
                    if length > 1.0 && !rounded {
                        (x, y) = (x / length, y / length);
                    }
                    out.set_real(f.lane, q.round(x));
                    out.set_real(f.lane + 1, q.round(y));
                }
                InputKind::Held => out.set_flag(f.lane, raw.flag(f.lane)),
                InputKind::Press => out.set_int(f.lane, raw.int(f.lane)),
                InputKind::Bearing { bits } => {
                    out.set_real(f.lane, bearing_quantiser(bits).round(wrap_angle(raw.real(f.lane))));
                }
                InputKind::Point { .. } if !raw.flag(f.given_lane()) => {}
                InputKind::Axis { .. } | InputKind::Pitch { .. } | InputKind::Point { .. } => {
                    let Some(q) = f.kind.quantiser() else { continue };
                    for lane in f.lane..f.lane + f.kind.real_lanes() {
                        out.set_real(lane, q.round(raw.real(lane)));
                    }
                    if matches!(f.kind, InputKind::Point { .. }) {
                        out.set_flag(f.given_lane(), true);
                    }
                }
            }
        }
        out
    }

    /// The length of the first stick that does not lie in the unit disc, give or take one step of the wire, and the length
    /// that is allowed.
    pub fn input_beyond_range(&self, input: &Input) -> Option<(f32, f32)> {
        self.input.iter().find_map(|f| match f.kind {
            InputKind::Stick { bits } => {
                let (x, y) = (input.real(f.lane), input.real(f.lane + 1));
                let most = 1.0 + 1.5 * stick_quantiser(bits).step();
                let square = x * x + y * y;
                (square > most * most).then(|| (libm::sqrtf(square), most))
            }
            _ => None,
        })
    }

    /// The input a server makes up when one is missing: keys stay down, nothing is pressed.
    #[must_use]
    pub fn held_on(&self, last: &Input) -> Input {
        let mut out = *last;
        for f in self.input.iter().filter(|f| f.kind == InputKind::Press) {
            out.set_int(f.lane, 0);
        }
        out
    }

    /// An input whose sticks and axes are pushed less far: by this share of what they were.
    #[must_use]
    pub fn weakened(&self, input: &Input, share: f32) -> Input {
        let mut out = *input;
        let pushed = |kind| matches!(kind, InputKind::Stick { .. } | InputKind::Axis { .. });
        for f in self.input.iter().filter(|f| pushed(f.kind)) {
            (f.lane..f.lane + f.kind.lanes()).for_each(|lane| out.set_real(lane, input.real(lane) * share));
        }
        self.round_input(&out)
    }

    /// The input a server makes up when one has been missing for long: keys come up, sticks and axes go to their middle; eyes
    /// and what was ordered stay.
    #[must_use]
    pub fn at_rest(&self, last: &Input) -> Input {
        let mut out = Input::default();
        let stays =
            |kind| matches!(kind, InputKind::Bearing { .. } | InputKind::Pitch { .. } | InputKind::Point { .. });
        for f in self.input.iter().filter(|f| stays(f.kind)) {
            (f.lane..f.lane + f.kind.lanes()).for_each(|lane| out.set_int(lane, last.int(lane)));
        }
        out
    }

    /// The input a step reads: presses counted since `before`, everything else as in `now`. Both hold running counters.
    #[must_use]
    pub fn presses_since(&self, now: &Input, before: &Input) -> Input {
        let mut out = *now;
        for f in self.input.iter().filter(|f| f.kind == InputKind::Press) {
            let pressed = now.int(f.lane).wrapping_sub(before.int(f.lane)) % (1 << PRESS_BITS);
            out.set_int(f.lane, pressed);
        }
        out
    }

    /// Rounds a state to what others would receive of it.
    #[must_use]
    pub fn round_state(&self, state: &State) -> State {
        let mut out = *state;
        for f in &self.state {
            for lane in f.lane..f.lane + f.shape.lanes() {
                match f.shape {
                    Shape::Flag | Shape::Counter => {}
                    _ => out.set_real(lane, f.wire.round(state.real(lane))),
                }
            }
        }
        out
    }

    /// A state as everybody but its owner receives it: rounded, and zero where it may not be seen.
    #[must_use]
    pub fn seen(&self, state: &State) -> State {
        let rounded = self.round_state(state);
        let mut out = State::default();
        for f in self.state.iter().filter(|f| f.seen_by == SeenBy::All) {
            (f.lane..f.lane + f.shape.lanes()).for_each(|lane| out.set_int(lane, rounded.int(lane)));
        }
        out
    }

    /// Copies what only the owner may see from another state.
    pub fn keep_private(&self, state: &mut State, from: &State) {
        for f in self.state.iter().filter(|f| f.seen_by == SeenBy::Owner) {
            (f.lane..f.lane + f.shape.lanes()).for_each(|lane| state.set_int(lane, from.int(lane)));
        }
    }

    /// Whether all fields agree within their tolerances.
    pub fn agrees(&self, a: &State, b: &State) -> bool {
        self.state.iter().all(|f| f.apart(a, b) <= 1.0)
    }
}

fn take_lanes(taken: &mut [bool], field: &'static str, lane: usize, width: usize) -> Result<(), SchemaError> {
    for lane in lane..lane + width {
        match taken.get_mut(lane) {
            Some(free) if !*free => *free = true,
            _ => return Err(SchemaError::Lane { field, lane, most: taken.len() }),
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Motion;
    use crate::walker::Walker;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn rounding_an_input_twice_changes_nothing(x in -2.0f32..2.0, y in -2.0f32..2.0, facing in -9.0f32..9.0) {
            let walker = Walker::new();
            let schema = walker.schema();
            let mut raw = Input::default();
            raw.set_real(0, x);
            raw.set_real(1, y);
            raw.set_real(4, facing);
            let once = schema.round_input(&raw);
            prop_assert_eq!(schema.round_input(&once), once);
            prop_assert_eq!(schema.input_beyond_range(&once), None);
        }
    }

    #[test]
    fn fields_that_share_a_lane_are_refused() {
        let mut schema = Walker::new().schema().clone();
        schema.state[1].lane = 2;
        assert!(matches!(schema.check(), Err(SchemaError::Lane { field: "vel", lane: 2, .. })));
    }

    #[test]
    fn a_stick_beyond_the_disc_is_out_of_range() {
        let walker = Walker::new();
        let mut input = Input::default();
        input.set_real(0, 1.0);
        input.set_real(1, 1.0);
        let beyond = walker.schema().input_beyond_range(&input);
        assert!(beyond.is_some_and(|(length, most)| (length - std::f32::consts::SQRT_2).abs() < 1e-6 && most < 1.1));
        // Wherever the stick lies.
        let stick = InputField { name: "push", lane: 4, kind: InputKind::Stick { bits: 7 } };
        let schema = Schema { input: vec![stick], ..Schema::default() };
        assert_eq!(schema.input_beyond_range(&input), None);
        input.set_real(5, -1.5);
        assert_eq!(schema.input_beyond_range(&input).map(|(length, _)| length), Some(1.5));
    }

    fn states(change: impl Fn(&mut State)) -> (State, State) {
        let a = Walker::new().spawn(crate::vec3(1.0, 2.0, 0.0), 3.1);
        let mut b = a;
        change(&mut b);
        (a, b)
    }

    #[test]
    fn agreement_is_asked_field_by_field_in_its_own_unit() {
        let walker = Walker::new();
        let agree = |change: &dyn Fn(&mut State)| {
            let (a, b) = states(change);
            walker.schema().agrees(&a, &b)
        };
        assert!(agree(&|s| s.set_real(0, 1.019)), "2 cm of position");
        assert!(!agree(&|s| s.set_real(0, 1.021)));
        assert!(!agree(&|s| s.set_vec3(0, crate::vec3(1.015, 2.015, 0.0))), "as a distance, not by axis");
        assert!(agree(&|s| s.set_real(3, 0.09)) && !agree(&|s| s.set_real(3, 0.11)), "10 cm/s of velocity");
        assert!(agree(&|s| s.set_real(6, -3.13)), "bearings around the back");
        assert!(!agree(&|s| s.set_flag(7, false)), "flags exactly");
    }

    #[test]
    fn presses_are_differences_of_counters_that_wrap() {
        let walker = Walker::new();
        let counter = |n: u32| {
            let mut input = Input::default();
            input.set_int(3, n % 16);
            input.set_flag(2, true);
            input
        };
        let presses = |now, before| walker.schema().presses_since(&counter(now), &counter(before));
        assert_eq!(presses(17, 15).int(3), 2);
        assert_eq!(presses(7, 7).int(3), 0);
        assert!(presses(7, 7).flag(2), "held keys are as they are");
        let made_up = walker.schema().held_on(&presses(9, 7));
        assert_eq!((made_up.int(3), made_up.flag(2)), (0, true));
    }

    #[test]
    fn others_see_a_state_rounded_to_the_wire_and_no_worse() {
        let walker = Walker::new();
        let exact = walker.spawn(crate::vec3(12.3456, -7.8912, 0.3333), 1.2345);
        let seen = walker.schema().round_state(&exact);
        assert!(seen.vec3(0).distance(exact.vec3(0)) < 0.004 && seen != exact);
        assert_eq!(walker.schema().round_state(&seen), seen);
        assert_eq!(walker.schema().input_bits(), 29);
        assert_eq!((walker.schema().velocity_lane(), walker.schema().bearing_lane()), (Some(3), Some(6)));
    }
}
