//! How an entity moves, and what it may, at any tick.

use crate::data::State;
use crate::motion::{Limits, Motion, Scene};
use crate::policy::Policy;
use crate::schema::Schema;
use crate::session::Timeline;
use crate::tick::{Rate, Tick};

/// Where from some tick on less is allowed, what was allowed before is so for as many seconds more: whoever went faster cannot stop at once,
/// and nobody but the rule itself knows how long that takes.
const GRACE_SECONDS: u64 = 10;

/// How an entity moves, at any tick.
#[derive(Clone, Copy)]
pub(in crate::server) struct Rules<'a> {
    pub(in crate::server) timeline: &'a Timeline,
    pub(in crate::server) kind: u8,
    pub(in crate::server) rate: Rate,
    pub(in crate::server) policy: &'a Policy,
}

impl<'a> Rules<'a> {
    pub(super) fn motion(&self, tick: Tick) -> &'a dyn Motion {
        self.timeline.at(tick).kinds.motion(self.kind)
    }

    pub(super) fn scene(&self, tick: Tick) -> Scene<'a> {
        self.timeline.at(tick).scene(tick, self.rate.dt(), self.kind)
    }

    pub(super) fn schema(&self, tick: Tick) -> &'a Schema {
        self.motion(tick).schema()
    }

    /// What is lawful in a tick, in whatever state.
    pub(super) fn most(&self, tick: Tick) -> Limits {
        self.limits(tick, |_, most| *most)
    }

    /// What is lawful in a tick, between a state of so many ticks ago and one that is told now.
    pub(super) fn limits_between(&self, tick: Tick, (before, ago): (&State, u64), told: Option<&State>) -> Limits {
        let scene = self.scene(tick);
        self.limits(tick, |motion, most| {
            let within = |state, ago| motion.limits_in(most, scene.tunables, state, ago);
            let limits = within(before, ago as f32 * scene.dt);
            told.map_or(limits, |told| limits.or(&within(told, 0.0)))
        })
    }

    /// What is lawful by what holds in a tick, or was by what held until lately.
    fn limits(&self, tick: Tick, now: impl FnOnce(&dyn Motion, &Limits) -> Limits) -> Limits {
        let lately = Tick(tick.0.saturating_sub(GRACE_SECONDS * u64::from(self.rate.hz())));
        let mut all = self.timeline.between(lately, tick, self.kind).map(|(_, most)| most);
        // Something always holds.
        let newest = all.next().map_or(Limits::of_pace(0.0, 0.0, 0.0, 0.0), |most| now(self.motion(tick), most));
        all.fold(newest, |limits, most| limits.or(most))
    }
}
