//! What a viewer drew of others, all of it, frame by frame, for as long as figures look back at it: in little room.
//!
//! Most of what is drawn in a frame lies at one moment; that is kept once.

use std::collections::VecDeque;

use velocitas_core::{Drawn, Vec3};

use super::rows::DrawnRow;
use crate::ids::{ActorId, RecordTick};
use crate::screen::DrawnFact;
use crate::time::LabTime;

/// A frame in which others were drawn.
#[derive(Clone, Copy, Debug)]
struct Shot {
    at: LabTime,
    /// The moment at which most are drawn.
    moment: (RecordTick, f32),
    /// How many sights there were before its own, and how many of them at moments of their own.
    sights: usize,
    apart: usize,
}

/// Somebody in a frame.
#[derive(Clone, Copy, Debug)]
struct Sight {
    pos: [f32; 3],
    bearing: f32,
    actor: ActorId,
    how: Drawn,
    /// Whether it is drawn at a moment of its own.
    is_apart: bool,
}

/// What was drawn of others, the newest frames of it.
#[derive(Clone, Debug, Default)]
pub struct Told {
    shots: VecDeque<Shot>,
    sights: VecDeque<Sight>,
    /// Moments of those that have their own, in the same order.
    apart: VecDeque<(RecordTick, f32)>,
    /// How many sights, and moments, were forgotten.
    forgotten: (usize, usize),
}

impl Told {
    /// Adds a frame.
    pub(super) fn push<'a>(&mut self, at: LabTime, all: impl Iterator<Item = (ActorId, &'a DrawnFact)>) {
        let (sights, apart) = (self.forgotten.0 + self.sights.len(), self.forgotten.1 + self.apart.len());
        let mut moment = None;
        for (actor, fact) in all {
            let DrawnFact { tick, fraction, how, pos, bearing, .. } = *fact;
            let common = *moment.get_or_insert((tick, fraction));
            let is_apart = (tick, fraction.to_bits()) != (common.0, common.1.to_bits());
            if is_apart {
                self.apart.push_back((tick, fraction));
            }
            self.sights.push_back(Sight { pos, bearing, actor, how, is_apart });
        }
        if let Some(moment) = moment {
            self.shots.push_back(Shot { at, moment, sights, apart });
        }
    }

    /// How many frames lie before a moment.
    pub(super) fn before(&self, at: LabTime) -> usize {
        self.shots.partition_point(|shot| shot.at < at)
    }

    /// When a frame was drawn.
    pub(super) fn at(&self, frame: usize) -> Option<LabTime> {
        self.shots.get(frame).map(|shot| shot.at)
    }

    /// Everybody in a frame.
    pub(super) fn frame(&self, frame: usize) -> impl Iterator<Item = (ActorId, DrawnRow)> + '_ {
        let shot = self.shots.get(frame);
        let end = self.shots.get(frame + 1).map_or(self.sights.len(), |next| next.sights - self.forgotten.0);
        let from = shot.map_or(end, |shot| shot.sights - self.forgotten.0);
        let mut apart = shot.map_or(0, |shot| shot.apart - self.forgotten.1);
        let (at, moment) = shot.map_or_else(Default::default, |shot| (shot.at, shot.moment));
        self.sights.range(from..end).map(move |sight| {
            let (tick, fraction) = if sight.is_apart { self.apart[apart] } else { moment };
            apart += usize::from(sight.is_apart);
            let [x, y, z] = sight.pos;
            let row = DrawnRow { at, tick, fraction, how: sight.how, pos: Vec3 { x, y, z }, bearing: sight.bearing };
            (sight.actor, row)
        })
    }

    /// Forgets frames from before a moment.
    pub(super) fn forget_before(&mut self, at: LabTime) {
        self.shots.drain(..self.before(at));
        let all = || (self.forgotten.0 + self.sights.len(), self.forgotten.1 + self.apart.len());
        let (sights, apart) = self.shots.front().map_or_else(all, |first| (first.sights, first.apart));
        self.sights.drain(..sights - self.forgotten.0);
        self.apart.drain(..apart - self.forgotten.1);
        self.forgotten = (sights, apart);
    }

    /// Forgets frames after a moment.
    pub(super) fn cut_after(&mut self, at: LabTime) {
        let kept = self.shots.partition_point(|shot| shot.at <= at);
        if let Some(cut) = self.shots.get(kept) {
            self.sights.truncate(cut.sights - self.forgotten.0);
            self.apart.truncate(cut.apart - self.forgotten.1);
            self.shots.truncate(kept);
        }
    }

    /// Bytes it takes.
    pub(super) fn bytes(&self) -> usize {
        self.shots.capacity() * size_of::<Shot>()
            + self.sights.capacity() * size_of::<Sight>()
            + self.apart.capacity() * size_of::<(RecordTick, f32)>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use velocitas_core::EntityId;

    proptest! {
        #[test]
        fn it_gives_back_what_was_put_in_as_far_as_that_is_kept(
            frames in prop::collection::vec(prop::collection::vec((0usize..9, 0u32..3, 0u8..6), 0..5), 0..40),
            from in 0u64..40, to in 0u64..40,
        ) {
            let (mut told, mut plain) = (Told::default(), Vec::new());
            for (at, frame) in (0..).zip(&frames) {
                let fact = |&(_, tick, how): &(usize, u32, u8)| DrawnFact {
                    entity: EntityId { index: 0, generation: 0 },
                    tick: RecordTick(tick),
                    fraction: tick as f32 * 0.25,
                    how: Drawn::from_number(how).expect("one of six"),
                    pos: [at as f32, f32::from(how), 0.5],
                    bearing: 1.5,
                };
                let facts: Vec<DrawnFact> = frame.iter().map(fact).collect();
                let actor = |place: usize| ActorId::at(place, 9).expect("one of nine");
                told.push(LabTime(at), frame.iter().map(|sight| actor(sight.0)).zip(&facts));
                let rows = frame.iter().map(|sight| actor(sight.0)).zip(facts.iter().map(|fact| DrawnRow::of(LabTime(at), fact)));
                plain.extend(rows.map(|row| format!("{row:?}")).map(|row| (at, row)));
            }
            told.cut_after(LabTime(to));
            told.forget_before(LabTime(from));
            plain.retain(|(at, _)| (from..=to).contains(at));
            let kept = (0..told.shots.len()).flat_map(|frame| told.frame(frame)).map(|row| format!("{row:?}"));
            prop_assert!(kept.eq(plain.iter().map(|(_, row)| row.clone())));
            prop_assert_eq!(told.sights.len(), plain.len());
            prop_assert!(told.frame(told.shots.len()).next().is_none());
        }
    }
}
