//! Everybody that snapshots tell of, the own entities among them, and how they are drawn.

use crate::data::{Input, State};
use crate::ease::{Ease, Jump};
use crate::event::{Fact, Sink, tell};
use crate::float::wrap_angle;
use crate::ids::EntityId;
use crate::remote::{
    Ahead, Drawn, DrawnSpot, DrawnState, OnTheWay, Placed, RemoteSettings, Sample, Samples, Shown, Spot, SpotBlend,
};
use crate::session::{Kinds, Timeline};
use crate::tick::{HostNanos, Rate, Tick};
use crate::vec3::Vec3;
use crate::wire::{EntityRecord, Snapshot};

/// Somebody, as snapshots told.
#[derive(Clone, Debug)]
pub(super) struct Other {
    pub(super) id: EntityId,
    pub(super) kind: u8,
    /// The places at the server of those who own it.
    pub(super) owners: Vec<u16>,
    samples: Samples,
    /// What is left of where it ran on to.
    ease: Ease,
    /// What it was made with at the newest state, as far as that is told, and where its rule takes it from there.
    input: Option<Box<Input>>,
    ahead: Option<Box<Ahead>>,
}

impl Other {
    /// The newest state received of it.
    pub(super) fn newest(&self) -> Option<&Sample> {
        self.samples.newest()
    }

    /// Takes a state, and says where it was drawn until then, where it may jump by that.
    fn take_in(&mut self, sample: Sample, seeing: &Seeing<'_>) -> Option<Looking> {
        self.run_on(seeing);
        let newest = self.samples.newest();
        let is_put = newest.is_some_and(|newest| newest.teleports != sample.teleports);
        // Where states lie on both sides of the moment, a later one changes nothing.
        let is_after = newest.is_some_and(|newest| newest.tick > seeing.moment.tick && sample.tick > newest.tick);
        let before = self.spot_at(seeing).filter(|_| !is_after && !is_put);
        self.samples.insert(sample);
        if is_put {
            self.ease.cut();
        }
        before
    }

    /// Hides how far what is drawn has jumped from where it was.
    fn hide(&mut self, (before, looked): Looking, Returning { seeing, snap }: &Returning<'_>) {
        self.run_on(seeing);
        let Some((after, looks)) = self.spot_at(seeing) else { return };
        let jump = Jump { before, after, turn: looked - looks };
        if jump.is_one() {
            self.ease.hide(seeing.now, jump, seeing.settings.back, *snap);
        }
    }

    /// A whole state, or where its rule took it instead.
    fn led(&self, drawn: DrawnState, seeing: &Seeing<'_>) -> DrawnState {
        let newest = self.samples.newest().map(|sample| sample.tick);
        let placed = seeing.moment.among(newest, None, seeing.rate, seeing.settings.limit_ms());
        let Some((placed, state)) = placed.and_then(|placed| Some((placed, self.by_rule(seeing, &placed)?))) else {
            return drawn;
        };
        let plan = &seeing.kinds.plan(self.kind).blend;
        DrawnState::of(plan, state, (placed.shown.tick, placed.shown.fraction), by_rule(&placed).how)
    }

    /// The same of a whole state.
    fn eased(&self, drawn: DrawnState, now: HostNanos) -> DrawnState {
        if self.ease.is_over(now) {
            return drawn;
        }
        let DrawnState { mut state, how, bearing, .. } = drawn;
        state.set_vec3(0, state.vec3(0) + self.ease.offset(now));
        let bearing = bearing.map(|bearing| wrap_angle(bearing + self.ease.turn(now)));
        let how = if how == Drawn::Blended { Drawn::Returning } else { how };
        DrawnState { state, how, bearing, ..drawn }
    }

    /// Makes the ticks past its newest state that are drawn at a moment.
    fn run_on(&mut self, seeing: &Seeing<'_>) {
        let Seeing { moment, timeline, rate, settings, .. } = *seeing;
        if !settings.goes_by_rule() {
            return;
        }
        let (Some(input), Some(newest)) = (self.input.as_deref(), self.samples.newest()) else { return };
        let Some(placed) = moment.among(Some(newest.tick), None, rate, settings.limit_ms()) else { return };
        if !placed.how.is_past() {
            self.ahead = None;
            return;
        }
        Ahead::reach(&mut self.ahead, (newest, self.kind), input, placed.shown, (timeline, rate));
    }

    /// The state to which its rule took it by a moment past its newest.
    fn by_rule(&self, seeing: &Seeing<'_>, placed: &Placed) -> Option<State> {
        if !seeing.settings.goes_by_rule() || !placed.how.is_past() {
            return None;
        }
        let from = self.samples.newest()?.tick;
        self.ahead.as_ref()?.at(&seeing.kinds.plan(self.kind).blend, from, placed.shown, seeing.rate)
    }

    /// Where it is at a moment by what was received of it, and where it looks.
    fn spot_at(&self, seeing: &Seeing<'_>) -> Option<Looking> {
        let Seeing { moment, kinds, rate, settings, .. } = *seeing;
        let plan = kinds.plan(self.kind);
        let course = kinds.plan(self.kind).spot.in_way(settings.blending);
        let (before, after) = self.samples.around(moment);
        let ends = (before.map(|s| s.tick), after.map(|s| s.tick));
        let placed = moment.among(ends.0, ends.1, rate, settings.limit_ms())?;
        if let Some(state) = self.by_rule(seeing, &placed) {
            return Some((state.vec3(0), plan.blend.bearing(&state).unwrap_or_default()));
        }
        spot(&course, &OnTheWay::of(moment, &placed, ends, rate), (before, after))
    }

    /// What is drawn of it, given where it is by what was received.
    #[inline]
    fn sight(&self, (pos, bearing): (Vec3, f32), placed: &Placed, now: HostNanos) -> DrawnSpot {
        let Placed { how, shown, .. } = *placed;
        let spot = DrawnSpot { pos, bearing, tick: shown.tick, fraction: shown.fraction, how };
        if self.ease.is_over(now) {
            return spot;
        }
        let bearing = wrap_angle(bearing + self.ease.turn(now));
        let how = if how == Drawn::Blended { Drawn::Returning } else { how };
        DrawnSpot { pos: pos + self.ease.offset(now), bearing, how, ..spot }
    }
}

/// All of them, by their ids.
#[derive(Clone, Debug, Default)]
pub(super) struct Others {
    all: Vec<Other>,
    /// Where those were drawn of whom the snapshot at hand tells, as far as they may jump by it.
    jumps: Vec<(EntityId, Looking)>,
}

/// Where somebody is drawn, and where it looks.
type Looking = (Vec3, f32);

/// What all that is drawn of others at a moment has in common.
#[derive(Clone, Copy)]
pub(super) struct Seeing<'a> {
    pub(super) now: HostNanos,
    pub(super) moment: Shown,
    pub(super) kinds: &'a Kinds,
    pub(super) timeline: &'a Timeline,
    pub(super) rate: Rate,
    pub(super) settings: &'a RemoteSettings,
}

/// What it takes to have those who ran on come back from there.
pub(super) struct Returning<'a> {
    pub(super) seeing: Seeing<'a>,
    /// A return from further than this, in metres, is shown at once.
    pub(super) snap: f32,
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
        returning: Option<&Returning<'_>>,
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
            Some(other) => match returning {
                Some(Returning { seeing, .. }) => {
                    let before = other.take_in(sample, seeing);
                    self.jumps.extend(before.map(|before| (entity.id, before)));
                }
                None => other.samples.insert(sample),
            },
            None if newest => {
                let mut samples = Samples::default();
                samples.insert(sample);
                let (id, kind, owners) = (entity.id, entity.kind, Vec::new());
                self.all
                    .insert(at, Other { id, kind, owners, samples, ease: Ease::default(), input: None, ahead: None });
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

    /// Takes what others were made with at the newest snapshot.
    pub(super) fn take_inputs(&mut self, snapshot: &Snapshot) {
        let others = snapshot.entities.iter().filter(|record| record.entity.own.is_none());
        for (record, input) in others.zip(snapshot.inputs.iter().flatten()) {
            self.get_mut(record.entity.id).into_iter().for_each(|other| other.input = input.map(Box::new));
        }
    }

    /// Hides how far those jump of whom a snapshot told, once all of it is taken.
    pub(super) fn hide(&mut self, returning: Option<&Returning<'_>>) {
        let mut jumps = std::mem::take(&mut self.jumps);
        for (id, before) in jumps.drain(..) {
            if let Some((other, returning)) = self.get_mut(id).zip(returning) {
                other.hide(before, returning);
            }
        }
        self.jumps = jumps;
    }

    /// Makes the ticks that are drawn at a moment of those who are past their newest state.
    pub(super) fn run_on(&mut self, seeing: &Seeing<'_>) {
        if seeing.settings.goes_by_rule() {
            self.all.iter_mut().for_each(|other| other.run_on(seeing));
        }
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
        let Seeing { now, moment, kinds, rate, settings, .. } = *seeing;
        // Most lie between the same two snapshots.
        let (mut way, mut about): (Option<Way>, usize) = (None, 0);
        for other in self.all.iter().filter(|other| !is_otherwise(other.id)) {
            let course = &kinds.plan(other.kind).spot.in_way(settings.blending);
            if let Some(((Some(a), Some(b)), placed, on)) = &way
                && let Some((a, b)) = other.samples.neighbours(about, (*a, *b))
                && a.teleports == b.teleports
            {
                each(other.id, &other.sight(course.between(on, &a.state, &b.state), placed, now));
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
                    let Some(placed) = moment.among(ends.0, ends.1, rate, settings.limit_ms()) else { continue };
                    other.insert((ends, placed, OnTheWay::of(moment, &placed, ends, rate)))
                }
            };
            if let Some(state) = other.by_rule(seeing, placed) {
                let looks = kinds.plan(other.kind).blend.bearing(&state).unwrap_or_default();
                each(other.id, &other.sight((state.vec3(0), looks), &by_rule(placed), now));
            } else if let Some(spot) = spot(course, on, (before, after)) {
                each(other.id, &other.sight(spot, placed, now));
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
        let Seeing { now, moment, kinds, rate, settings, .. } = *seeing;
        for other in self.all.iter().filter(|other| !is_otherwise(other.id)) {
            let plan = &kinds.plan(other.kind).blend.in_way(settings.blending);
            let drawn = if settings.interpolate {
                let drawn = other.samples.at(plan, rate, moment, settings.limit_ms());
                drawn.map(|drawn| other.eased(other.led(drawn, seeing), now))
            } else {
                let newest = other.samples.newest();
                newest.map(|sample| DrawnState::of(plan, sample.state, (sample.tick, 0.0), Drawn::Newest))
            };
            drawn.iter().for_each(|drawn| each(other.id, drawn));
        }
    }
}

/// The same place in time, had by a rule.
fn by_rule(placed: &Placed) -> Placed {
    let mut placed = *placed;
    if placed.how == Drawn::Extrapolated {
        placed.how = Drawn::ByRule;
    }
    placed
}

/// Where somebody is drawn between two states, and where it looks there.
fn spot(course: &SpotBlend, on: &OnTheWay, (before, after): (Option<&Sample>, Option<&Sample>)) -> Option<(Vec3, f32)> {
    if let (Some(a), Some(b)) = (before, after)
        && a.teleports == b.teleports
    {
        return Some(course.between(on, &a.state, &b.state));
    }
    let (before, after) = (before.map(|s| course.spot(s)), after.map(|s| course.spot(s)));
    let between = (before.as_ref(), after.as_ref());
    course.point(on, between).zip(course.bearing(on, between))
}
