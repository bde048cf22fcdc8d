//! What a viewer drew.
//!
//! Its client tells it, frame by frame. What it drew of others is nearly always what [follows](super::derived) from what it had received, so
//! only what was otherwise is kept.

use std::collections::BTreeMap;

use velocitas_core::Vec3;

use super::Record;
use super::derived::{Following, Frame, Samples, Travelled};
use super::rows::{DrawnRow, OtherwiseRow};
use crate::ids::{ActorId, MachineId};
use crate::screen::{DrawnFact, Screen};
use crate::time::LabTime;

/// So much of what was drawn is kept as it was told: figures follow by less.
const LOOKED_AT: LabTime = LabTime(10_000_000_000);

impl Record {
    /// What a viewer drew of an entity in the newest frame at or before a moment; `None` where it drew nothing.
    pub fn drawn(&self, viewer: MachineId, actor: ActorId, at: LabTime) -> Option<DrawnRow> {
        let number = self.of(viewer).frames.until(at).checked_sub(1)?;
        self.drawn_in(viewer, actor, number)
    }

    /// What a viewer drew of an entity in a frame.
    pub fn drawn_in(&self, viewer: MachineId, actor: ActorId, number: usize) -> Option<DrawnRow> {
        let at = self.of(viewer).frames.get(number)?.at;
        let other = || match self.drawn_otherwise(viewer, actor, at) {
            Some(told) => told,
            None => self.derived(viewer, actor, &self.frame(viewer, number)?),
        };
        self.drawn_own(viewer, actor, at).or_else(other)
    }

    /// An own entity whose states the viewer makes, in the frame of this moment.
    pub fn drawn_own(&self, viewer: MachineId, actor: ActorId, at: LabTime) -> Option<DrawnRow> {
        let column = &self.of(viewer).own(actor)?.drawn;
        let row = column.get(column.before(at)).filter(|row| row.at == at)?;
        Some(row.drawn())
    }

    /// What a viewer drew of somebody else in the frame of this moment, where that does not follow from what it had received.
    fn drawn_otherwise(&self, viewer: MachineId, actor: ActorId, at: LabTime) -> Option<Option<DrawnRow>> {
        let rows = self.of(viewer);
        if self.is_of_rings() {
            let frame = rows.told.before(at);
            let mut all = rows.told.frame(frame).filter(|(_, row)| row.at == at);
            // What is not there was not drawn.
            return Some(all.find(|(of, _)| *of == actor).map(|(_, row)| row));
        }
        if rows.otherwise.is_empty() {
            return None;
        }
        rows.otherwise.span(at, at).find(|row| row.actor == actor).map(|row| row.drawn())
    }

    /// How far from where it should have been a viewer drew somebody else in the frame of this moment, as far as that is told.
    pub fn off(&self, viewer: MachineId, actor: ActorId, at: LabTime) -> Option<Vec3> {
        let drawn = self.drawn_otherwise(viewer, actor, at)??;
        let frame = self.frame(viewer, self.of(viewer).frames.before(at))?;
        Some(drawn.pos - self.derived(viewer, actor, &frame)?.pos)
    }

    /// Somebody else in a frame, where many frames are looked at one after the other; `frame` is `None` where the viewer does not know it.
    pub fn drawn_other(
        &self,
        (viewer, actor, at): (MachineId, ActorId, LabTime),
        frame: Option<&Frame>,
        samples: &mut Samples,
    ) -> Option<DrawnRow> {
        match self.drawn_otherwise(viewer, actor, at) {
            Some(told) => told,
            None => self.derived_of(viewer, actor, frame?, samples),
        }
    }

    /// Keeps what a viewer drew of others in its newest frame, as far as that does not follow from what it had received.
    pub(super) fn note_drawn(&mut self, check: &mut Check, viewer: MachineId, screen: &Screen) {
        let frames = &self.of(viewer).frames;
        let Some((number, row)) = frames.len().checked_sub(1).zip(frames.last()) else { return };
        let actor = |fact: &DrawnFact| self.cast.actor(fact.entity);
        let told = screen.others.iter().filter_map(|fact| Some((self.cast.actor(fact.entity)?, fact)));
        let is_of_rings = self.is_of_rings();
        let newest = &mut self.machines[viewer.index()].told;
        newest.push(row.at, told);
        if is_of_rings {
            return;
        }
        // The rest keeps what figures still look back at.
        if newest.at(0).is_some_and(|first| row.at.minus(first) > LOOKED_AT.plus(LabTime(2_000_000_000))) {
            newest.forget_before(row.at.minus(LOOKED_AT));
        }
        let own: Vec<ActorId> = screen.own.iter().filter_map(actor).collect();
        let told = screen.others.iter().filter_map(|fact| Some((actor(fact)?, DrawnRow::of(row.at, fact))));
        let mut told: Vec<(ActorId, DrawnRow)> = told.collect();
        let mut otherwise = Vec::new();
        let following = check.followings.entry(viewer).or_insert_with(|| Following::of(viewer));
        following.frame((self, &mut check.travelled), (number, row), &own, |actor, _, should| {
            match told.iter().position(|(other, _)| *other == actor) {
                Some(place) if told[place].1.is(&should) => {
                    told.swap_remove(place);
                }
                Some(_) => {}
                None => otherwise.push(OtherwiseRow::nothing(row.at, actor)),
            }
        });
        otherwise.extend(told.iter().map(|(actor, drawn)| OtherwiseRow::of(*actor, drawn)));
        otherwise.sort_by_key(|row| row.actor);
        let rows = &mut self.machines[viewer.index()].otherwise;
        otherwise.into_iter().for_each(|row| rows.push(row));
    }
}

/// Holds what is drawn against what should be, as it comes.
#[derive(Debug, Default)]
pub(super) struct Check {
    travelled: Travelled,
    followings: BTreeMap<MachineId, Following>,
}

impl Clone for Check {
    /// A copy begins anew.
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl Check {
    /// Rows lie elsewhere from now on.
    pub(super) fn moved(&mut self) {
        self.followings.clear();
    }
}

/// All that a viewer drew, frame by frame: what [`Record::drawn_in`] says, had at less cost where many frames are looked at one after the
/// other.
#[derive(Debug)]
pub struct Gallery<'a> {
    record: &'a Record,
    viewer: MachineId,
    travelled: &'a mut Travelled,
    following: Following,
    /// For each own entity whose states it makes, the place of the next frame.
    own: Vec<usize>,
    /// Own entities drawn in the frame at hand.
    drawn: Vec<ActorId>,
    /// What was drawn otherwise in the frame at hand, and the place of the next.
    otherwise: Vec<OtherwiseRow>,
    next: Option<usize>,
    /// The place of the next frame among those that are kept as they were told.
    shot: Option<usize>,
}

impl<'a> Gallery<'a> {
    /// What a viewer drew, to be looked at from some frame on.
    pub fn of(record: &'a Record, viewer: MachineId, travelled: &'a mut Travelled) -> Self {
        let following = Following::of(viewer);
        let (own, drawn, otherwise) = (Vec::new(), Vec::new(), Vec::new());
        Self { record, viewer, travelled, following, own, drawn, otherwise, next: None, shot: None }
    }

    /// Calls back with everything that was drawn in a frame: which, whether it was the viewer's own, where. Frames must be
    /// asked for in their order.
    pub fn frame(&mut self, number: usize, mut each: impl FnMut(ActorId, bool, DrawnRow)) {
        let (record, viewer) = (self.record, self.viewer);
        let here = record.of(viewer);
        let Some(row) = here.frames.get(number) else { return };
        self.drawn_own(row.at, &mut each);
        let owns = |actor| record.cast.owns(viewer, actor, row.at);
        let told = &here.told;
        if record.is_of_rings() || told.at(0).is_some_and(|first| first <= row.at) {
            let next = self.shot.get_or_insert_with(|| told.before(row.at));
            while told.at(*next).is_some_and(|at| at < row.at) {
                *next += 1;
            }
            if told.at(*next) == Some(row.at) {
                told.frame(*next).for_each(|(actor, drawn)| each(actor, owns(actor), drawn));
            }
            return;
        }
        let mut otherwise = std::mem::take(&mut self.otherwise);
        otherwise.clear();
        self.told(row.at, |row| otherwise.push(*row));
        for row in &otherwise {
            row.drawn().into_iter().for_each(|drawn| each(row.actor, owns(row.actor), drawn));
        }
        self.following.frame((record, self.travelled), (number, row), &self.drawn, |actor, owned, should| {
            if otherwise.is_empty() || otherwise.iter().all(|row| row.actor != actor) {
                each(actor, owned && owns(actor), should);
            }
        });
        self.otherwise = otherwise;
    }

    /// Calls back with what was told of a frame besides own entities.
    fn told(&mut self, at: LabTime, mut each: impl FnMut(&OtherwiseRow)) {
        let rows = &self.record.of(self.viewer).otherwise;
        if rows.is_empty() {
            return;
        }
        let next = self.next.get_or_insert_with(|| rows.before(at));
        while let Some(row) = rows.get(*next).filter(|row| row.at <= at) {
            *next += 1;
            if row.at == at {
                each(&row);
            }
        }
    }

    fn drawn_own(&mut self, at: LabTime, each: &mut impl FnMut(ActorId, bool, DrawnRow)) {
        self.drawn.clear();
        for (place, rows) in self.record.of(self.viewer).own.iter().enumerate() {
            if self.own.len() == place {
                self.own.push(rows.drawn.before(at));
            }
            let next = &mut self.own[place];
            while rows.drawn.get(*next).is_some_and(|row| row.at < at) {
                *next += 1;
            }
            if let Some(row) = rows.drawn.get(*next).filter(|row| row.at == at) {
                self.drawn.push(rows.actor);
                each(rows.actor, true, row.drawn());
            }
        }
    }
}
