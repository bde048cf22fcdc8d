//! One claim against the last accepted one.

use crate::motion::{Limits, Motion, Scene};
use crate::tick::{Rate, Tick};
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Rule};

/// One claim.
pub(super) struct Case<'a> {
    pub(super) scene: &'a Scene<'a>,
    pub(super) motion: &'a dyn Motion,
    pub(super) limits: &'a Limits,
    pub(super) rate: Rate,
    pub(super) from: Tick,
    pub(super) tick: Tick,
    pub(super) start: Vec3,
    pub(super) end: Vec3,
}

impl Case<'_> {
    pub(super) fn seconds(&self) -> f32 {
        self.tick.since(self.from) as f32 * self.scene.dt
    }

    /// The step of the wire in which places are told, in metres.
    pub(super) fn quantum(&self) -> f32 {
        self.motion.schema().state[0].wire.step()
    }

    /// The longest way along the ground that is lawful, rounding included.
    pub(super) fn lawful_way(&self) -> f32 {
        self.limits.level * (1.0 + self.limits.slack) * self.seconds() + self.quantum() * std::f32::consts::SQRT_2
    }

    /// What a rule measured of this claim against what it allows.
    pub(super) fn evidence(&self, rule: Rule, measured: f32, limit: f32) -> Evidence {
        let quantum = self.quantum() * std::f32::consts::SQRT_2;
        let slack = self.limits.slack;
        Evidence { slack, quantum, ..Evidence::plain(rule, (self.from, self.tick), measured, limit) }
    }
}
