//! How what is played is drawn: own entities where they are predicted, others where the view has them.

use super::{Lent, Playing};
use crate::ids::EntityId;
use crate::remote::{Drawn, DrawnSpot, DrawnState, OnTheWay, Placed, Shown, Spot};
use crate::tick::{HostNanos, Tick};

/// The ticks of the states between which a moment lies, where in time that is, and how far on the way.
type Way = ((Option<Tick>, Option<Tick>), Placed, OnTheWay);

impl Playing {
    /// How far behind the smoothed arrivals remotes are drawn, in ns.
    pub(in crate::client) fn view_delay(&self) -> i64 {
        self.view.delay()
    }

    /// The moment at which remotes are drawn.
    pub(in crate::client) fn shown(&self, now: HostNanos) -> Option<Shown> {
        let ticks = self.view.shown(now)? * f64::from(self.ticks.rate().hz()) / 1e9;
        Some(Shown::after(self.ticks.base(), ticks))
    }

    /// Calls back with each own entity whose states are made here, as it is to be drawn: between its last two ticks, with
    /// what is left of a correction's offset.
    pub(in crate::client) fn draw_own(
        &self,
        lent: &Lent<'_>,
        now: HostNanos,
        each: &mut impl FnMut(EntityId, &DrawnState),
    ) {
        for (owned, mine) in self.owned.iter().zip(&self.mine) {
            let (Some(newest), Some(state)) = (mine.own.newest(), mine.own.state()) else { continue };
            let context = self.context(lent, *owned);
            let plan = &context.plan(newest).blend;
            let (mut drawn, tick, fraction) = if lent.settings.between_ticks {
                let before = mine.own.state_before().unwrap_or(state);
                let fraction = self.ticks.fraction(now);
                (plan.blend(&before, &state, fraction, self.ticks.rate().dt()), newest.prev(), fraction)
            } else {
                (state, newest, 0.0)
            };
            drawn.set_vec3(0, drawn.vec3(0) + mine.ease.offset(now));
            each(owned.entity, &DrawnState::of(plan, drawn, (tick, fraction), Drawn::Predicted));
        }
    }

    /// Calls back with where everybody else is drawn, and own entities that are waited for.
    pub(in crate::client) fn spot_others(
        &self,
        lent: &Lent<'_>,
        now: HostNanos,
        each: &mut impl FnMut(EntityId, &DrawnSpot),
    ) {
        let Some(moment) = self.shown(now) else { return };
        let (settings, kinds, rate) = (lent.settings, &lent.timeline.at(moment.tick).kinds, self.ticks.rate());
        // Most lie between the same two snapshots.
        let (mut way, mut about): (Option<Way>, usize) = (None, 0);
        let made_here =
            |id| self.owned.iter().zip(&self.mine).any(|(o, mine)| o.entity == id && mine.own.state().is_some());
        for other in &self.others {
            if made_here(other.id) {
                continue;
            }
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
            let place = match (before, after) {
                (Some(a), Some(b)) if a.teleports == b.teleports => Some(course.between(on, &a.state, &b.state)),
                _ => {
                    let (before, after) = (before.map(|s| course.spot(s)), after.map(|s| course.spot(s)));
                    let between = (before.as_ref(), after.as_ref());
                    course.point(on, between).zip(course.bearing(on, between))
                }
            };
            if let Some((pos, bearing)) = place {
                let Placed { how, shown, .. } = *placed;
                each(other.id, &DrawnSpot { pos, bearing, tick: shown.tick, fraction: shown.fraction, how });
            }
        }
    }

    /// Calls back with everybody else, and with own entities that are waited for.
    pub(in crate::client) fn draw_others(
        &self,
        lent: &Lent<'_>,
        now: HostNanos,
        each: &mut impl FnMut(EntityId, &DrawnState),
    ) {
        let Some(moment) = self.shown(now) else { return };
        let (settings, kinds) = (lent.settings, &lent.timeline.at(moment.tick).kinds);
        for other in &self.others {
            let mine = self.owned.iter().position(|o| o.entity == other.id);
            if mine.is_some_and(|place| self.mine[place].own.state().is_some()) {
                continue;
            }
            let plan = &kinds.plan(other.kind).blend;
            let drawn = if settings.interpolate {
                other.samples.at(plan, self.ticks.rate(), moment, settings.extrapolate_ms)
            } else {
                let newest = other.samples.newest();
                newest.map(|sample| DrawnState::of(plan, sample.state, (sample.tick, 0.0), Drawn::Newest))
            };
            if let Some(drawn) = drawn {
                each(other.id, &drawn);
            }
        }
    }
}
