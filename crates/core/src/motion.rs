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

/// What a step may read: everything as it was in force *at that tick* on that machine.
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

/// The limits of lawful movement, before slack: speeds in metres a second, and falling.
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
    /// The pace that can be sustained along the ground, if it is less than `level`.
    pub burst: Option<Burst>,
    /// The least acceleration downwards with nothing under the feet, in m/s². `None` if it may stay in the air.
    pub fall: Option<f32>,
    /// The most by which its velocity along the ground changes away from solids, in m/s². `None` for no limit.
    pub accel: Option<f32>,
    /// For each lane of the state, the most by which it may grow in a second; infinite for no limit.
    pub gains: [f32; STATE_LANES],
}

/// What a limit of one number is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LimitOf {
    /// The velocity along the ground.
    Level,
    /// The velocity up and down.
    Height,
}

/// A limit of one number that a rule may leave out.
#[derive(Clone, Copy, Debug)]
pub struct LimitSpec {
    /// Its name, as gaits write it.
    pub name: &'static str,
    /// Its unit: the powers of a metre and of a second.
    pub unit: (i8, i8),
    /// Its key in records.
    pub key: &'static str,
    /// What it is about.
    pub of: LimitOf,
    /// Whether it is the least that is lawful, not the most.
    pub least: bool,
    /// What it is.
    pub get: fn(&Limits) -> Option<f32>,
    /// Changes it.
    pub set: fn(&mut Limits, Option<f32>),
}

/// The table of them.
pub const LIMITS: [LimitSpec; 2] = [
    LimitSpec {
        name: "fall",
        unit: (1, -2),
        key: "fall_mps2",
        of: LimitOf::Height,
        least: true,
        get: |limits| limits.fall,
        set: |limits, fall| limits.fall = fall,
    },
    LimitSpec {
        name: "accel",
        unit: (1, -2),
        key: "accel_mps2",
        of: LimitOf::Level,
        least: false,
        get: |limits| limits.accel,
        set: |limits, accel| limits.accel = accel,
    },
];

/// A sustained pace, and the metres that may be gone beyond it: a token bucket.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Burst {
    /// The sustained pace, in metres a second.
    pub level: f32,
    /// Metres beyond it; they are earned back by going slower.
    pub metres: f32,
}

impl Limits {
    /// Limits of speed alone.
    pub const fn of_pace(level: f32, up: f32, down: f32, slack: f32) -> Self {
        Self { level, up, down, slack, burst: None, fall: None, accel: None, gains: [f32::INFINITY; STATE_LANES] }
    }

    /// The wider of two in each limit: what is lawful in the one state or the other.
    #[must_use]
    pub fn or(mut self, other: &Self) -> Self {
        let either = |a: Option<f32>, b: Option<f32>, wider: fn(f32, f32) -> f32| a.zip(b).map(|(a, b)| wider(a, b));
        self.level = max(self.level, other.level);
        self.up = max(self.up, other.up);
        self.down = max(self.down, other.down);
        self.slack = max(self.slack, other.slack);
        for limit in &LIMITS {
            let wider = if limit.least { min } else { max };
            let both = either((limit.get)(&self), (limit.get)(other), wider);
            (limit.set)(&mut self, both);
        }
        self.burst = self
            .burst
            .zip(other.burst)
            .map(|(a, b)| Burst { level: max(a.level, b.level), metres: max(a.metres, b.metres) });
        self.gains.iter_mut().zip(other.gains).for_each(|(gain, other)| *gain = max(*gain, other));
        self
    }
}

/// What hands can do, as the rule's author states it. More than that is noted, never an accusation.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Hands {
    /// Bearings and pitches, by their place among the inputs, that turn by at most this number of radians a second.
    pub turns: Vec<(usize, f32)>,
    /// Pairs of inputs, by their place, that no hand presses in one tick.
    pub apart: Vec<[usize; 2]>,
}

/// The default: no limits.
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

/// An appearance.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Look {
    /// Its name.
    pub name: String,
    /// Taken below this speed along the ground, in metres a second; `None` for the last.
    pub below: Option<f32>,
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

    /// Its tunables. May be empty.
    fn tunables(&self) -> &[Tunable] {
        &[]
    }

    /// The room that it takes up.
    fn body(&self) -> Body;

    /// Its limits with these tunables, over all states.
    fn limits(&self, tunables: &[f32]) -> Limits;

    /// Its limits now, given a state that is known rounded by the wire and `since.1` seconds old, with one of these surfaces underfoot.
    /// `most` are the limits over all states. Only speeds may depend on the state and the surface.
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

    /// What hands can do with its inputs.
    fn hands(&self) -> &Hands {
        &ANY_HANDS
    }

    /// Whether it can be stepped. A rule that a record names and this program does not contain cannot.
    fn is_here(&self) -> bool {
        true
    }

    /// Its appearances, from the slowest to the fastest: standing, walking, sprinting. None, if the rule states none.
    fn looks(&self) -> &[Look] {
        &[]
    }

    /// That at a speed along the ground, in m/s.
    fn look(&self, speed: f32) -> Option<&str> {
        let look = self.looks().iter().find(|look| look.below.is_none_or(|below| speed < below));
        look.map(|look| look.name.as_str())
    }

    /// Makes one tick.
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
