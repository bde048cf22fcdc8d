//! What a receiver was told at a tick: the whole numbers that travelled, by entity. Later snapshots are told against it.

use crate::data::State;
use crate::ids::EntityId;
use crate::plan::Plan;
use crate::session::Kinds;
use crate::tick::Tick;

/// An entity at that tick.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Told {
    pub(crate) id: EntityId,
    pub(crate) kind: u8,
    pub(crate) teleports: u8,
    /// Where its codes begin, and how many there are.
    at: u32,
    lanes: u8,
}

/// An own entity at that tick, exactly.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ToldOwn {
    pub(crate) id: EntityId,
    pub(crate) kind: u8,
    pub(crate) teleports: u8,
    /// The lanes that travel, in their order.
    lanes: Box<[u32]>,
}

impl ToldOwn {
    /// Of what travels of an entity.
    pub(crate) fn new((id, kind, teleports): (EntityId, u8, u8), state: &State, plan: &Plan) -> Self {
        let lanes = plan.exact.iter().map(|lane| state.int(usize::from(lane.lane))).collect();
        Self { id, kind, teleports, lanes }
    }

    /// Its state, of the same layout.
    pub(crate) fn state(&self, plan: &Plan) -> State {
        let mut state = State::default();
        plan.exact.iter().zip(&self.lanes).for_each(|(lane, bits)| state.set_int(usize::from(lane.lane), *bits));
        state
    }

    /// Bytes it takes.
    pub(crate) fn bytes(&self) -> usize {
        size_of::<Self>() + self.lanes.len() * size_of::<u32>()
    }
}

/// A tick as it was told: entities as others see them, in the order of their slots.
#[derive(Clone, Debug)]
pub(crate) struct Moment {
    pub(crate) tick: Tick,
    /// The rules in force at it.
    pub(crate) kinds: Kinds,
    told: Vec<Told>,
    codes: Vec<i32>,
}

impl Moment {
    /// One of which nothing is told yet.
    pub(crate) const fn new(tick: Tick, kinds: Kinds) -> Self {
        Self { tick, kinds, told: Vec::new(), codes: Vec::new() }
    }

    /// Adds an entity behind those there are.
    pub(crate) fn tell(&mut self, (id, kind, teleports): (EntityId, u8, u8), codes: &[i32]) {
        debug_assert!(self.told.last().is_none_or(|last| last.id.index < id.index), "in the order of their slots");
        let (at, lanes) = (self.codes.len() as u32, codes.len() as u8);
        self.codes.extend_from_slice(codes);
        self.told.push(Told { id, kind, teleports, at, lanes });
    }

    /// Adds an entity with a state, as it travels.
    pub(crate) fn tell_state(&mut self, (id, kind, teleports): (EntityId, u8, u8), state: &State) {
        let at = self.codes.len() as u32;
        let seen = &self.kinds.plan(kind).seen;
        self.codes.extend(seen.lanes.iter().map(|lane| lane.code(state)));
        self.told.push(Told { id, kind, teleports, at, lanes: seen.lanes.len() as u8 });
    }

    /// All of them, with their codes.
    pub(crate) fn iter(&self) -> impl Iterator<Item = (&Told, &[i32])> + Clone {
        self.told.iter().map(|told| (told, self.codes_of(told)))
    }

    /// The entity in a slot; `place` is where the one before was found, or nought, and becomes where this one is.
    pub(crate) fn in_slot(&self, index: u16, place: &mut usize) -> Option<(&Told, &[i32])> {
        // Nearly always it is the next one.
        let next = self.told.get(*place..).and_then(|rest| rest.iter().take(2).position(|told| told.id.index == index));
        *place = match next {
            Some(next) => *place + next,
            None => self.told.partition_point(|told| told.id.index < index),
        };
        let told = self.told.get(*place).filter(|told| told.id.index == index)?;
        Some((told, self.codes_of(told)))
    }

    fn codes_of(&self, told: &Told) -> &[i32] {
        &self.codes[told.at as usize..][..usize::from(told.lanes)]
    }

    /// Whether an entity of this kind travels at a tick with these rules as it did at this one.
    pub(crate) fn is_laid_out_as(&self, kind: u8, kinds: &Kinds) -> bool {
        let layout = |kinds: &Kinds| kinds.prints().get(usize::from(kind)).map(|print| print.layout);
        layout(&self.kinds).is_some() && layout(&self.kinds) == layout(kinds)
    }

    /// Bytes it takes, roughly.
    pub(crate) fn bytes(&self) -> usize {
        size_of::<Self>() + self.told.len() * size_of::<Told>() + self.codes.len() * size_of::<i32>()
    }
}
