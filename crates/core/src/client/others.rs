//! Everybody that snapshots tell of, the own entities among them, and how they are drawn.

use crate::event::{Fact, Sink, tell};
use crate::ids::EntityId;
use crate::remote::{
    Drawn, DrawnSpot, DrawnState, OnTheWay, Placed, RemoteSettings, Sample, Samples, Shown, Spot, SpotBlend,
};
use crate::session::Kinds;
use crate::tick::{Rate, Tick};
use crate::wire::EntityRecord;

/// Somebody, as snapshots told.
#[derive(Clone, Debug)]
pub(super) struct Other {
    pub(super) id: EntityId,
    pub(super) kind: u8,
    /// The places at the server of those who own it.
    pub(super) owners: Vec<u16>,
    samples: Samples,
}

impl Other {
    /// The newest state received of it.
    pub(super) fn newest(&self) -> Option<&Sample> {
        self.samples.newest()
    }
}

/// All of them, by their ids.
#[derive(Clone, Debug, Default)]
pub(super) struct Others {
    all: Vec<Other>,
}

/// What all that is drawn of others at a moment has in common.
#[derive(Clone, Copy)]
pub(super) struct Seeing<'a> {
    pub(super) moment: Shown,
    pub(super) kinds: &'a Kinds,
    pub(super) rate: Rate,
    pub(super) settings: &'a RemoteSettings,
}

/// The ticks of the states between which a moment lies, where in time that is, and how far on the way.
type Way = ((Option<Tick>, Option<Tick>), Placed, OnTheWay);

impl Others {
    pub(super) fn iter(&self) -> impl Iterator<Item = &Other> {
        self.all.iter()
    }

    pub(super) fn get(&self, id: EntityId) -> Option<&Other> {
        self.all.iter().find(|other| other.id == id)
    }

    pub(super) fn get_mut(&mut self, id: EntityId) -> Option<&mut Other> {
        self.all.iter_mut().find(|other| other.id == id)
    }

    /// Bytes they take, roughly.
    pub(super) fn bytes(&self) -> usize {
        self.all.iter().map(|other| size_of::<Other>() + other.samples.bytes()).sum()
    }

    /// Takes what a snapshot says of somebody: of who is not known yet only from the newest. Both the known and a snapshot
    /// are in order, so `place` is where the one before was; returns where this one is.
    pub(super) fn take_in<S: Sink>(
        &mut self,
        tick: Tick,
        record: &EntityRecord,
        (newest, place): (bool, usize),
        sink: &mut S,
    ) -> usize {
        let entity = record.entity;
        let sample = Sample { tick, teleports: entity.teleports, state: record.state };
        let at = match (self.all.get(place), self.all.get(place + 1)) {
            (Some(this), _) if this.id == entity.id => place,
            (_, Some(next)) if next.id == entity.id => place + 1,
            // A strange sender's may be in any order.
            _ => self.all.partition_point(|other| other.id < entity.id),
        };
        let known = self.all.get_mut(at).filter(|other| other.id == entity.id && other.kind == entity.kind);
        match known {
            Some(other) => other.samples.insert(sample),
            None if newest => {
                let mut samples = Samples::default();
                samples.insert(sample);
                let (id, kind, owners) = (entity.id, entity.kind, Vec::new());
                self.all.insert(at, Other { id, kind, owners, samples });
                tell(sink, Fact::Entered { entity: id, tick });
            }
            None => {}
        }
        at
    }

    /// Somebody is gone. `false` where it was not known.
    pub(super) fn remove(&mut self, id: EntityId) -> bool {
        let at = self.all.iter().position(|other| other.id == id);
        at.map(|at| self.all.remove(at)).is_some()
    }

    /// Forgets what no moment from `tick` on is drawn from.
    pub(super) fn forget(&mut self, tick: Tick) {
        self.all.iter_mut().for_each(|other| other.samples.forget(tick));
    }

    /// Calls back with where each is drawn, but for those that are drawn otherwise.
    pub(super) fn spot(
        &self,
        seeing: &Seeing<'_>,
        is_otherwise: impl Fn(EntityId) -> bool,
        each: &mut impl FnMut(EntityId, &DrawnSpot),
    ) {
        let Seeing { moment, kinds, rate, settings } = *seeing;
        // Most lie between the same two snapshots.
        let (mut way, mut about): (Option<Way>, usize) = (None, 0);
        for other in self.all.iter().filter(|other| !is_otherwise(other.id)) {
            let course = &kinds.plan(other.kind).spot;
            if let Some(((Some(a), Some(b)), placed, on)) = &way
                && let Some((a, b)) = other.samples.neighbours(about, (*a, *b))
                && a.teleports == b.teleports
            {
                let (pos, bearing) = course.between(on, &a.state, &b.state);
                let Placed { how, shown, .. } = *placed;
                each(other.id, &DrawnSpot { pos, bearing, tick: shown.tick, fraction: shown.fraction, how });
                continue;
            }
            if !settings.interpolate {
                let Some(sample) = other.samples.newest() else { continue };
                let Spot { pos, bearing, .. } = course.spot(sample);
                each(other.id, &DrawnSpot { pos, bearing, tick: sample.tick, fraction: 0.0, how: Drawn::Newest });
                continue;
            }
            let (before, after) = other.samples.around_near(moment, &mut about);
            let ends = (before.map(|s| s.tick), after.map(|s| s.tick));
            let (_, placed, on) = match &mut way {
                Some(known) if known.0 == ends => known,
                other => {
                    let Some(placed) = moment.among(ends.0, ends.1, rate, settings.extrapolate_ms) else { continue };
                    other.insert((ends, placed, OnTheWay::of(moment, &placed, ends, rate)))
                }
            };
            if let Some((pos, bearing)) = spot(course, on, (before, after)) {
                let Placed { how, shown, .. } = *placed;
                each(other.id, &DrawnSpot { pos, bearing, tick: shown.tick, fraction: shown.fraction, how });
            }
        }
    }

    /// Calls back with the whole state that is drawn of each, but for those that are drawn otherwise.
    pub(super) fn draw(
        &self,
        seeing: &Seeing<'_>,
        is_otherwise: impl Fn(EntityId) -> bool,
        each: &mut impl FnMut(EntityId, &DrawnState),
    ) {
        let Seeing { moment, kinds, rate, settings } = *seeing;
        for other in self.all.iter().filter(|other| !is_otherwise(other.id)) {
            let plan = &kinds.plan(other.kind).blend;
            let drawn = if settings.interpolate {
                other.samples.at(plan, rate, moment, settings.extrapolate_ms)
            } else {
                let newest = other.samples.newest();
                newest.map(|sample| DrawnState::of(plan, sample.state, (sample.tick, 0.0), Drawn::Newest))
            };
            drawn.iter().for_each(|drawn| each(other.id, drawn));
        }
    }
}

/// Where somebody is drawn between two states, and where it looks there.
fn spot(
    course: &SpotBlend,
    on: &OnTheWay,
    (before, after): (Option<&Sample>, Option<&Sample>),
) -> Option<(crate::vec3::Vec3, f32)> {
    if let (Some(a), Some(b)) = (before, after)
        && a.teleports == b.teleports
    {
        return Some(course.between(on, &a.state, &b.state));
    }
    let (before, after) = (before.map(|s| course.spot(s)), after.map(|s| course.spot(s)));
    let between = (before.as_ref(), after.as_ref());
    course.point(on, between).zip(course.bearing(on, between))
}
