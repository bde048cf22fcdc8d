//! How what is played is drawn: own entities where they are predicted, others where the view has them.

use super::{Lent, Playing};
use crate::client::others::{Returning, Seeing};
use crate::ease::EaseBy;
use crate::float::wrap_angle;
use crate::ids::EntityId;
use crate::remote::{Drawn, DrawnSpot, DrawnState, RemoteSettings, RemotesAt, Shown};
use crate::tick::HostNanos;

impl Playing {
    /// How far behind the smoothed arrivals remotes are drawn, in ns.
    pub(in crate::client) fn view_delay(&self) -> i64 {
        self.view.delay()
    }

    /// The moment at which remotes are drawn.
    pub(in crate::client) fn shown(&self, settings: &RemoteSettings, now: HostNanos) -> Option<Shown> {
        let past = self.past(now)?;
        Some(match settings.at {
            RemotesAt::Past => past,
            RemotesAt::Present => Shown { tick: self.ticks.newest().prev(), fraction: self.ticks.fraction(now) },
        })
    }

    /// The moment that lies the view delay behind what arrives.
    pub(super) fn past(&self, now: HostNanos) -> Option<Shown> {
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
            let (mut drawn, tick, fraction) = if lent.settings.own.between_ticks {
                let before = mine.own.state_before().unwrap_or(state);
                let fraction = self.ticks.fraction(now);
                (plan.blend(&before, &state, fraction, self.ticks.rate().dt()), newest.prev(), fraction)
            } else {
                (state, newest, 0.0)
            };
            drawn.set_vec3(0, drawn.vec3(0) + mine.ease.offset(now));
            let mut drawn = DrawnState::of(plan, drawn, (tick, fraction), Drawn::Predicted);
            let turn = mine.ease.turn(now);
            if turn != 0.0 {
                drawn.bearing = drawn.bearing.map(|bearing| wrap_angle(bearing + turn));
            }
            each(owned.entity, &drawn);
        }
    }

    /// What all others of a frame are drawn by.
    pub(super) fn seeing<'a>(&self, lent: &Lent<'a>, now: HostNanos) -> Option<Seeing<'a>> {
        let Lent { settings, timeline } = *lent;
        let moment = self.shown(&settings.remotes, now)?;
        let kinds = &timeline.at(moment.tick).kinds;
        Some(Seeing { now, moment, kinds, timeline, rate: self.ticks.rate(), settings: &settings.remotes })
    }

    /// What it takes to have those who ran on come back from there, where that is eased.
    pub(super) fn returning<'a>(&self, lent: &Lent<'a>, now: HostNanos) -> Option<Returning<'a>> {
        if lent.settings.remotes.back.by == EaseBy::None || !lent.settings.remotes.interpolate {
            return None;
        }
        Some(Returning { seeing: self.seeing(lent, now)?, snap: lent.settings.own.snap_m })
    }

    /// Whether an entity is an own one whose states are made here.
    fn is_made_here(&self, entity: EntityId) -> bool {
        self.owned.iter().zip(&self.mine).any(|(o, mine)| o.entity == entity && mine.own.state().is_some())
    }

    /// Calls back with where everybody else is drawn, and own entities that are waited for.
    pub(in crate::client) fn spot_others(
        &self,
        lent: &Lent<'_>,
        now: HostNanos,
        each: &mut impl FnMut(EntityId, &DrawnSpot),
    ) {
        if let Some(seeing) = self.seeing(lent, now) {
            self.others.spot(&seeing, |entity| self.is_made_here(entity), each);
        }
    }

    /// Calls back with everybody else, and with own entities that are waited for.
    pub(in crate::client) fn draw_others(
        &self,
        lent: &Lent<'_>,
        now: HostNanos,
        each: &mut impl FnMut(EntityId, &DrawnState),
    ) {
        if let Some(seeing) = self.seeing(lent, now) {
            self.others.draw(&seeing, |entity| self.is_made_here(entity), each);
        }
    }
}
