//! The contract between a movement rule and everything else.
//!
//! A [`Motion`] says what it remembers and what it reads ([`Motion::schema`]), how one tick turns the one into the
//! other ([`Motion::step`]) and what it can lawfully reach ([`Motion::limits`]). It must be a pure function: the same
//! bits in give the same bits out, on every machine. It must not ask for time or chance, nor keep anything.
//!
//! `examples/own_rule.rs` of the `velocitas` crate shows a rule of thirty lines.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::body::Body;
use crate::data::{Input, STATE_LANES, State};
use crate::field::Shape;
use crate::float::{max, min};
use crate::ground::{Contacts, Ground, Underfoot};
use crate::names::{self, Name};
use crate::schema::Schema;
use crate::tick::Tick;
use crate::vec3::Vec3;

/// What a step may look at. All of it is what was in force *at that tick* on that machine.
#[derive(Clone, Copy, Debug)]
pub struct Scene<'a> {
    /// The tick being made.
    pub tick: Tick,
    /// Seconds a tick.
    pub dt: f32,
    /// The world to collide with.
    pub ground: &'a Ground,
    /// One value for each of [`Motion::tunables`], in that order.
    pub tunables: &'a [f32],
}

/// What a step gives back.
#[derive(Clone, Copy, Debug, Default)]
pub struct Step {
    /// The new state.
    pub state: State,
    /// Solids touched on the way.
    pub contacts: Contacts,
    /// Whether the move must be drawn as a cut, never as a slide.
    pub teleported: bool,
}

/// What is lawful, before slack: how fast an entity may move, in metres a second, and what holds it down.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Limits {
    /// Along the ground.
    pub level: f32,
    /// Upwards.
    pub up: f32,
    /// Downwards: terminal fall.
    pub down: f32,
    /// Share by which a measured value may exceed these, 0.04 for 4 %.
    pub slack: f32,
    /// What can be kept up along the ground, where that is less.
    pub burst: Option<Burst>,
    /// With nothing under the feet it falls faster and faster, by at least this, in m/s². `None` where it may stay in the air.
    pub fall: Option<f32>,
    /// Where nothing is touched its speed along the ground changes by at most this, in m/s². `None` where it may at once.
    pub accel: Option<f32>,
    /// For each lane of the state the most by which it may grow, a second; infinite where nothing is said of it.
    pub gains: [f32; STATE_LANES],
}

/// A pace that can be kept up, and what may be gone beyond it: a token bucket of metres.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Burst {
    /// Metres a second, however long it lasts.
    pub level: f32,
    /// Metres beyond that, once; they are saved up again by going slower.
    pub metres: f32,
}

impl Limits {
    /// How fast, and nothing else.
    pub const fn of_pace(level: f32, up: f32, down: f32, slack: f32) -> Self {
        Self { level, up, down, slack, burst: None, fall: None, accel: None, gains: [f32::INFINITY; STATE_LANES] }
    }

    /// The wider of two, each for itself: what is lawful in the one state or the other.
    #[must_use]
    pub fn or(mut self, other: &Self) -> Self {
        let either = |a: Option<f32>, b: Option<f32>, wider: fn(f32, f32) -> f32| a.zip(b).map(|(a, b)| wider(a, b));
        self.level = max(self.level, other.level);
        self.up = max(self.up, other.up);
        self.down = max(self.down, other.down);
        self.slack = max(self.slack, other.slack);
        self.fall = either(self.fall, other.fall, min);
        self.accel = either(self.accel, other.accel, max);
        self.burst = self
            .burst
            .zip(other.burst)
            .map(|(a, b)| Burst { level: max(a.level, b.level), metres: max(a.metres, b.metres) });
        self.gains.iter_mut().zip(other.gains).for_each(|(gain, other)| *gain = max(*gain, other));
        self
    }
}

/// What hands can give, as far as a rule's author says: whoever gives more is noted, never accused.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Hands {
    /// Bearings and pitches, by their place among the inputs, that turn by at most this number of radians a second.
    pub turns: Vec<(usize, f32)>,
    /// Inputs, by their place, of which no hand gives both in one tick.
    pub apart: Vec<[usize; 2]>,
}

/// Of a rule that says nothing.
static ANY_HANDS: Hands = Hands { turns: Vec::new(), apart: Vec::new() };

/// A constant of a rule that may be turned while it runs.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Tunable {
    /// As written in a course and shown on screens.
    #[serde(with = "names")]
    pub name: Name,
    /// SI unit.
    #[serde(with = "names")]
    pub unit: Name,
    /// Value unless a course says otherwise.
    pub default: f32,
    /// Smallest sensible value.
    pub least: f32,
    /// Largest sensible value.
    pub most: f32,
}

/// A movement rule.
///
/// It says what it remembers and what it reads ([`schema`](Self::schema)), how one tick turns the one into the other
/// ([`step`](Self::step)), and what it can lawfully reach ([`limits`](Self::limits)). It must be a pure function: the same bits in give the
/// same bits out, on every machine. It must not ask for time or chance, nor keep anything between steps.
pub trait Motion: Send + Sync + fmt::Debug {
    /// Its name, as courses write it.
    fn name(&self) -> &'static str;

    /// What its lanes mean. The first state field must be the position.
    fn schema(&self) -> &Schema;

    /// Its constants. May be empty.
    fn tunables(&self) -> &[Tunable] {
        &[]
    }

    /// The room it takes.
    fn body(&self) -> Body;

    /// What it can lawfully reach with these tunables, in whatever state.
    fn limits(&self, tunables: &[f32]) -> Limits;

    /// Of what it can reach at `most`, with these tunables in whatever state, what is lawful from a state that is known as it travels,
    /// rounded by the wire, and is this number of seconds old, where one of these surfaces is underfoot. Only how fast it is may depend
    /// on the state and the surface.
    fn limits_in(&self, most: &Limits, _tunables: &[f32], _since: (&State, f32), _underfoot: &Underfoot) -> Limits {
        *most
    }

    /// The state of somebody standing at `position`, looking along `bearing` (radians, 0 = east, counter-clockwise).
    fn spawn(&self, position: Vec3, bearing: f32) -> State;

    /// The most moves through the ground that one step may be made of, each of which may go another way: a rule that
    /// slides once turns no corner within a tick, one with sub-steps does.
    fn moves(&self) -> u32 {
        1
    }

    /// A number that is another when the rule does something else, if the rule can tell: what is tried for its fingerprint
    /// may not meet every case.
    fn version(&self) -> u64 {
        0
    }

    /// Which keys of a keyboard its author would have an input given by, by the input's name: a hint to whoever has a keyboard,
    /// and nothing to netcode. See `velocitas_gait::keys`.
    fn keys(&self) -> &[(&'static str, Vec<&'static str>)] {
        &[]
    }

    /// What hands can give it.
    fn hands(&self) -> &Hands {
        &ANY_HANDS
    }

    /// Whether its steps can be made. Of a rule that a record speaks of, and that is not in this program, they cannot.
    fn is_here(&self) -> bool {
        true
    }

    /// What it looks like at a speed along the ground (m/s), if the rule says: standing, walking, sprinting.
    fn look(&self, _speed: f32) -> Option<&str> {
        None
    }

    /// One tick.
    fn step(&self, scene: &Scene<'_>, state: &State, input: &Input) -> Step;
}

/// Runs a step and rejects it whole if a real lane came out non-finite.
///
/// # Errors
/// Names the first such field; the caller keeps the old state and reports it.
pub fn checked_step(rule: &dyn Motion, scene: &Scene<'_>, state: &State, input: &Input) -> Result<Step, &'static str> {
    let step = rule.step(scene, state, input);
    for f in &rule.schema().state {
        if !matches!(f.shape, Shape::Flag | Shape::Counter)
            && (f.lane..f.lane + f.shape.lanes()).any(|lane| !step.state.real(lane).is_finite())
        {
            return Err(f.name);
        }
    }
    Ok(step)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_wider_of_two_limits_allows_what_either_does() {
        let narrow = Limits {
            burst: Some(Burst { level: 1.0, metres: 5.0 }),
            fall: Some(20.0),
            accel: Some(3.0),
            gains: [1.0; STATE_LANES],
            ..Limits::of_pace(2.0, 1.0, 9.0, 0.04)
        };
        let mut wide = Limits { burst: Some(Burst { level: 2.0, metres: 1.0 }), fall: Some(10.0), ..narrow };
        (wide.accel, wide.level, wide.slack, wide.gains[4]) = (Some(8.0), 6.0, 0.1, 7.0);
        for either in [narrow.or(&wide), wide.or(&narrow)] {
            assert_eq!((either.level, either.up, either.down, either.slack), (6.0, 1.0, 9.0, 0.1));
            assert_eq!(either.burst, Some(Burst { level: 2.0, metres: 5.0 }));
            assert_eq!((either.fall, either.accel), (Some(10.0), Some(8.0)), "who falls less may");
            assert_eq!((either.gains[4], either.gains[5]), (7.0, 1.0));
        }
        let free = Limits::of_pace(1.0, 1.0, 1.0, 0.0);
        let either = narrow.or(&free);
        assert_eq!(
            (either.burst, either.fall, either.accel),
            (None, None, None),
            "where one says nothing, nothing is said"
        );
    }
}
