//! How an entity moves, what it may, and what ground there is, at any tick: whatever the guard holds of these is asked here.

use crate::data::State;
use crate::float::{max, min};
use crate::ground::{Ground, Surface, Underfoot};
use crate::motion::{Limits, Motion, Scene};
use crate::policy::Policy;
use crate::schema::Schema;
use crate::session::Timeline;
use crate::tick::{Rate, Tick};
use crate::vec3::{Vec3, vec3};

/// How an entity moves, at any tick.
#[derive(Clone, Copy)]
pub(in crate::server) struct Rules<'a> {
    pub(in crate::server) timeline: &'a Timeline,
    pub(in crate::server) kind: u8,
    pub(in crate::server) rate: Rate,
    pub(in crate::server) policy: &'a Policy,
}

/// Between what an owner told of itself: the last state it told, how many ticks ago, and the one it tells now.
#[derive(Clone, Copy)]
pub(super) struct Between<'a> {
    pub(super) before: &'a State,
    pub(super) ago: u64,
    pub(super) told: Option<&'a State>,
    /// What may have been underfoot meanwhile.
    pub(super) underfoot: &'a Underfoot,
}

/// The limits of what was told last.
#[derive(Clone, Debug, Default)]
pub(super) struct Kept(Option<Told>);

#[derive(Clone, Debug)]
struct Told {
    tick: Tick,
    state: State,
    underfoot: Underfoot,
    limits: Limits,
}

impl Told {
    fn is_of(&self, state: &State, underfoot: &Underfoot) -> bool {
        self.state == *state && self.underfoot == *underfoot
    }
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

    /// Whether anything changed after `from`, up to `to`.
    pub(super) fn is_changed(&self, from: Tick, to: Tick) -> bool {
        self.timeline.last_change() > from && self.timeline.between(from, to, self.kind).nth(1).is_some()
    }

    /// The grounds that held in any of these ticks, the newest first.
    pub(super) fn grounds(&self, from: Tick, to: Tick) -> impl Iterator<Item = &'a Ground> {
        self.timeline.between(from, to, self.kind).map(|(known, _)| &*known.ground)
    }

    /// What is lawful in any of these ticks, in whatever state.
    pub(super) fn most(&self, from: Tick, to: Tick) -> Limits {
        let mut all = self.timeline.between(from, to, self.kind).map(|(_, most)| *most);
        // Something always holds.
        let newest = all.next().unwrap_or(Limits::of_pace(0.0, 0.0, 0.0, 0.0));
        all.fold(newest, |limits, most| limits.or(&most))
    }

    /// What is lawful in a tick after `from`, between what was told: how fast and how far in a burst by what holds in it, all that is measured
    /// over a while by what held within the last second as well.
    pub(super) fn limits(&self, from: Tick, tick: Tick, between: &Between<'_>, kept: &mut Kept) -> Limits {
        if let Some(now) = self.limits_kept(from, tick, between, kept) {
            return now;
        }
        let scene = self.scene(tick);
        let motion = self.motion(tick);
        let ticks = self.timeline.between(from.next().min(tick), tick, self.kind);
        let within = |known: &crate::session::Ingredients, most: &Limits| {
            let (motion, tunables) = (known.kinds.motion(self.kind), known.scene(tick, scene.dt, self.kind).tunables);
            let of =
                |state, ago: u64| motion.limits_in(most, tunables, (state, ago as f32 * scene.dt), between.underfoot);
            let limits = of(between.before, between.ago);
            between.told.map_or(limits, |told| limits.or(&of(told, 0)))
        };
        let mut all = ticks.map(|(known, most)| within(known, most));
        let newest = all.next().unwrap_or_else(|| motion.limits(scene.tunables));
        let now = all.fold(newest, |limits, other| limits.or(&other));
        let second = Tick(from.0.saturating_sub(u64::from(self.rate.hz())));
        if !self.is_changed(second, tick) {
            return now;
        }
        let lately = self.most(second, tick);
        Limits { level: now.level, up: now.up, down: now.down, burst: now.burst, ..lately }
    }

    /// The same where nothing changed for a second, and what is told now follows what was told just before: of that it is known
    /// already.
    fn limits_kept(&self, from: Tick, tick: Tick, between: &Between<'_>, kept: &mut Kept) -> Option<Limits> {
        let second = Tick(from.0.saturating_sub(u64::from(self.rate.hz())));
        let told = between.told.filter(|_| between.ago == 0 && !self.is_changed(second, tick))?;
        let (_, most) = self.timeline.between(tick, tick, self.kind).next()?;
        let scene = self.scene(tick);
        let of = |state: &State| self.motion(tick).limits_in(most, scene.tunables, (state, 0.0), between.underfoot);
        let before = match &kept.0 {
            Some(kept) if kept.is_of(between.before, between.underfoot) && !self.is_changed(kept.tick, tick) => {
                kept.limits
            }
            _ => of(between.before),
        };
        let limits = of(told);
        kept.0 = Some(Told { tick, state: *told, underfoot: *between.underfoot, limits });
        Some(before.or(&limits))
    }

    /// What may have been underfoot when steps looked, which is where each begins; of those between that are not known, anywhere within
    /// reach.
    pub(super) fn underfoot(&self, (from, tick): (Tick, Tick), (start, end): (Vec3, Vec3)) -> Underfoot {
        let scene = self.scene(tick);
        if scene.ground.zones().is_empty() {
            return Underfoot::of(Surface::PLAIN);
        }
        let step = self.schema(tick).state[0].wire.step();
        let unknown = tick.since(from).unsigned_abs().saturating_sub(1);
        let (end, reach) = match unknown {
            0 => (start, step),
            ticks => (end, step + self.most(from, tick).level * ticks as f32 * scene.dt),
        };
        let reach = vec3(reach, reach, reach);
        let low = vec3(min(start.x, end.x), min(start.y, end.y), min(start.z, end.z)) - reach;
        let high = vec3(max(start.x, end.x), max(start.y, end.y), max(start.z, end.z)) + reach;
        scene.ground.underfoot(low, high)
    }
}
