//! What a receiver has of a tick: known to who reads as it was read, and to who writes once that is acknowledged.

use std::collections::VecDeque;
use std::sync::Arc;

use super::moment::{Moment, Told, ToldOwn};
use crate::ids::EntityId;
use crate::tick::Tick;
use crate::wire::{KEPT, Newest, OfTick};

/// What a snapshot told.
#[derive(Clone, Debug)]
pub(crate) struct Has {
    /// Everybody, as others get it.
    pub(super) moment: Arc<Moment>,
    /// Its receiver's own, which it got exactly and not as others do.
    pub(super) own: Vec<ToldOwn>,
}

impl Has {
    pub(crate) const fn new(moment: Arc<Moment>, own: Vec<ToldOwn>) -> Self {
        Self { moment, own }
    }

    /// What it has of somebody else in a slot; see [`Moment::in_slot`].
    pub(super) fn other(&self, index: u16, place: &mut usize) -> Option<(&Told, &[i32])> {
        self.moment.in_slot(index, place).filter(|(told, _)| self.own.iter().all(|own| own.id != told.id))
    }

    /// What it has of an own one.
    pub(super) fn own(&self, id: EntityId) -> Option<&ToldOwn> {
        self.own.iter().find(|own| own.id == id)
    }

    /// Bytes it takes, roughly; of what is shared its part.
    pub(crate) fn bytes(&self) -> usize {
        let shared = self.moment.bytes() / Arc::strong_count(&self.moment).max(1);
        size_of::<Self>() + shared + self.own.iter().map(ToldOwn::bytes).sum::<usize>()
    }
}

/// What a reader has: the newest snapshots that it has read.
pub(crate) type Had = Newest<Has>;

impl OfTick for Has {
    fn tick(&self) -> Tick {
        self.moment.tick
    }
}

/// What a writer knows of its reader: of snapshots, or of an owner's words.
#[derive(Clone, Debug)]
pub(crate) struct Baselines<T> {
    /// How many it has sent.
    sent: u64,
    /// Those on their way, the oldest first, with their numbers.
    under_way: VecDeque<(u64, T)>,
    /// The newest that has come.
    known: Option<(u64, T)>,
}

impl<T> Default for Baselines<T> {
    fn default() -> Self {
        Self { sent: 0, under_way: VecDeque::new(), known: None }
    }
}

impl<T: OfTick> Baselines<T> {
    /// What the next is told against; `None` where nothing is known, or only what may be forgotten there.
    pub(crate) fn newest(&self) -> Option<&T> {
        self.known.as_ref().filter(|(number, _)| self.sent - number < KEPT as u64).map(|(_, has)| has)
    }

    /// What is known, or on its way, of a tick.
    pub(crate) fn of(&self, tick: Tick) -> Option<&T> {
        self.known.iter().chain(&self.under_way).map(|(_, has)| has).find(|has| has.tick() == tick)
    }

    /// One leaves that tells this.
    pub(crate) fn sent(&mut self, has: T) {
        self.under_way.push_back((self.sent, has));
        self.sent += 1;
        if self.under_way.len() >= KEPT {
            self.under_way.pop_front();
        }
    }

    /// What was told of a tick has come.
    pub(crate) fn arrived(&mut self, tick: Tick) {
        let Some(at) = self.under_way.iter().position(|(_, has)| has.tick() == tick) else { return };
        // What was sent before it need not be known any more.
        self.known = self.under_way.drain(..=at).next_back();
    }

    /// Its reader lacks what it was told against: from here on nothing is known of it.
    pub(crate) fn forget(&mut self) {
        self.under_way.clear();
        self.known = None;
    }

    /// All that is kept.
    pub(crate) fn iter(&self) -> impl Iterator<Item = &T> {
        self.under_way.iter().chain(&self.known).map(|(_, has)| has)
    }
}
