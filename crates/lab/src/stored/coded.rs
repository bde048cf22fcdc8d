//! What a block of facts is made of: entries, each a row of a machine, as bytes and back.

use std::collections::BTreeMap;

use velocitas_core::{
    Contacts, EntityId, Evidence, INPUT_LANES, Input, InputFact, InputFate, Made, Measure, PeerId, Provenance, RULES,
    STATE_LANES, SolidId, State, StateEvent, Tick,
};

use velocitas_record::ids::RecordTick;
use velocitas_record::record::{
    ClockRow, Coder, FrameRow, OtherwiseRow, OwnDrawnRow, Pack, Packer, ReceivedRow, SeenRow, Unpacker,
};
use velocitas_record::time::LabTime;
use velocitas_record::watch::MessageRow;

/// What an entry is, by the byte that it begins with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub(super) enum Tag {
    State = 1,
    Input,
    Measure,
    Message,
    Unread,
    Frame,
    Own,
    Otherwise,
    Seen,
    Clock,
    Received,
    Seldom,
}

const TAGS: [Tag; 12] = [
    Tag::State,
    Tag::Input,
    Tag::Measure,
    Tag::Message,
    Tag::Unread,
    Tag::Frame,
    Tag::Own,
    Tag::Otherwise,
    Tag::Seen,
    Tag::Clock,
    Tag::Received,
    Tag::Seldom,
];

impl Tag {
    pub(super) fn from_number(number: u64) -> Option<Self> {
        TAGS.iter().find(|tag| **tag as u64 == number).copied()
    }

    /// How many numbers say of what an entry is: of which machine, and of what there.
    pub(super) const fn keys(self) -> usize {
        match self {
            Self::State | Self::Input => 3,
            Self::Message | Self::Unread | Self::Own => 2,
            Self::Measure | Self::Frame | Self::Otherwise | Self::Seen | Self::Clock | Self::Received => 1,
            Self::Seldom => 0,
        }
    }
}

/// Of what a row is: see [`Tag::keys`].
pub(super) type Key = [u32; 3];

/// An entity as a number.
pub(super) fn of_entity(id: EntityId) -> u32 {
    u32::from(id.index) << 8 | u32::from(id.generation)
}

/// The entity of a number.
pub(super) const fn entity(number: u32) -> EntityId {
    EntityId { index: (number >> 8) as u16, generation: number as u8 }
}

/// A state that was made.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct StateNote {
    pub(super) at: LabTime,
    tick: RecordTick,
    /// The newest of its owner's ticks that it includes, after one more; 0 for none.
    used: u32,
    /// Solids touched, each after one more; 0 for none.
    touched: [u16; 2],
    teleported: u8,
    /// So many lanes are told; the rest are zero.
    used_lanes: u8,
    lanes: State,
}

impl StateNote {
    pub(super) fn of(at: LabTime, first: Tick, event: &StateEvent<'_>) -> Self {
        let tick = |tick| RecordTick::of(first, tick);
        // The floor is not worth a place.
        let mut touched = event.contacts.iter().filter(|id| *id != SolidId::FLOOR);
        let mut next = || touched.next().map_or(0, |id| id.0.wrapping_add(1));
        Self {
            at,
            tick: tick(event.tick),
            used: event.used.map_or(0, |used| tick(used).0.saturating_add(1)),
            touched: [next(), next()],
            teleported: event.teleported.into(),
            used_lanes: event.state.bits().iter().rposition(|lane| *lane != 0).map_or(0, |last| last as u8 + 1),
            lanes: *event.state,
        }
    }

    /// Calls with the state as it was told.
    pub(super) fn tell<R>(
        &self,
        first: Tick,
        entity: EntityId,
        made: Made,
        told: impl FnOnce(&StateEvent<'_>) -> R,
    ) -> R {
        let mut contacts = Contacts::default();
        self.touched.iter().filter(|id| **id > 0).for_each(|id| contacts.add(SolidId(id - 1)));
        told(&StateEvent {
            entity,
            tick: self.tick.tick(first),
            used: self.used.checked_sub(1).map(|used| RecordTick(used).tick(first)),
            made,
            state: &self.lanes,
            input: None,
            contacts: &contacts,
            teleported: self.teleported != 0,
        })
    }
}

impl Pack for StateNote {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        coder.small(&mut self.tick.0, before.tick.0.wrapping_add(1));
        coder.small(&mut self.used, before.used.wrapping_add(1));
        self.touched.iter_mut().zip(before.touched).for_each(|(id, before)| coder.small(id, before));
        coder.small(&mut self.teleported, 0);
        coder.small(&mut self.used_lanes, before.used_lanes);
        for lane in 0..usize::from(self.used_lanes).min(STATE_LANES) {
            let mut bits = self.lanes.int(lane);
            coder.bits(&mut bits, before.lanes.int(lane));
            self.lanes.set_int(lane, bits);
        }
    }
}

/// How states come about, by number.
pub(super) const MADE: [Made; 4] = [Made::Authority, Made::Predicted, Made::Rewritten, Made::Echo];

/// Something that became of an input.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct InputNote {
    pub(super) at: LabTime,
    tick: RecordTick,
    peer: (u16, u8),
    /// What, by number.
    fate: u8,
    margin: u16,
    /// Whether a value goes along; where none does it stays what it was.
    valued: u8,
    value: Input,
}

const USED: [Provenance; 4] = [Provenance::Fresh, Provenance::Repeated, Provenance::Rested, Provenance::Unchanged];

impl InputNote {
    pub(super) fn of((at, first): (LabTime, Tick), fact: &InputFact, value: Option<&Input>, before: &Self) -> Self {
        let (fate, margin) = match fact.fate {
            InputFate::Sampled => (0, before.margin),
            InputFate::Arrived(margin) => (1, margin as u16),
            InputFate::Dropped => (2, before.margin),
            InputFate::Outdated => (3, before.margin),
            InputFate::Used(provenance) => (4 + provenance as u8, before.margin),
        };
        Self {
            at,
            tick: RecordTick::of(first, fact.tick),
            peer: (fact.peer.slot, fact.peer.epoch),
            fate,
            margin,
            valued: value.is_some().into(),
            value: value.copied().unwrap_or(before.value),
        }
    }

    /// As it was told; `None` where no fate has that number.
    pub(super) fn fact(&self, first: Tick, entity: EntityId) -> Option<(InputFact, Option<&Input>)> {
        let fate = match self.fate {
            0 => InputFate::Sampled,
            1 => InputFate::Arrived(self.margin as i16),
            2 => InputFate::Dropped,
            3 => InputFate::Outdated,
            used => InputFate::Used(*USED.get(usize::from(used - 4))?),
        };
        let peer = PeerId { slot: self.peer.0, epoch: self.peer.1 };
        let fact = InputFact { peer, entity, tick: self.tick.tick(first), fate };
        Some((fact, (self.valued != 0).then_some(&self.value)))
    }
}

impl Pack for InputNote {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        coder.small(&mut self.tick.0, before.tick.0);
        coder.small(&mut self.peer.0, before.peer.0);
        coder.small(&mut self.peer.1, before.peer.1);
        coder.small(&mut self.fate, before.fate);
        coder.small(&mut self.margin, before.margin);
        coder.small(&mut self.valued, before.valued);
        for lane in 0..INPUT_LANES {
            let mut bits = self.value.int(lane);
            coder.bits(&mut bits, before.value.int(lane));
            self.value.set_int(lane, bits);
        }
    }
}

/// What the guard measured.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct MeasureNote {
    pub(super) at: LabTime,
    peer: (u16, u8),
    entity: u32,
    rule: u8,
    ticks: [RecordTick; 2],
    measured: f32,
    limit: f32,
}

impl MeasureNote {
    pub(super) fn of(at: LabTime, first: Tick, measure: &Measure) -> Self {
        let Measure { peer, entity, evidence } = measure;
        Self {
            at,
            peer: (peer.slot, peer.epoch),
            entity: of_entity(*entity),
            rule: evidence.rule as u8,
            ticks: [evidence.from, evidence.to].map(|tick| RecordTick::of(first, tick)),
            measured: evidence.measured,
            limit: evidence.limit,
        }
    }

    /// As it was told, as far as records hold it; `None` where no rule has that number.
    pub(super) fn measure(&self, first: Tick) -> Option<Measure> {
        let rule = RULES.get(usize::from(self.rule))?.rule;
        let [from, to] = self.ticks.map(|tick| tick.tick(first));
        let peer = PeerId { slot: self.peer.0, epoch: self.peer.1 };
        let evidence = Evidence::plain(rule, (from, to), self.measured, self.limit);
        Some(Measure { peer, entity: entity(self.entity), evidence })
    }
}

impl Pack for MeasureNote {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        coder.small(&mut self.peer.0, before.peer.0);
        coder.small(&mut self.peer.1, before.peer.1);
        coder.small(&mut self.entity, before.entity);
        coder.small(&mut self.rule, before.rule);
        let [from, to] = &mut self.ticks;
        coder.small(&mut from.0, before.ticks[0].0);
        coder.small(&mut to.0, before.ticks[1].0);
        coder.real(&mut self.measured, before.measured);
        coder.real(&mut self.limit, before.limit);
    }
}

/// The rows before, each by what it is of.
pub(super) type Before<R> = BTreeMap<Key, R>;

/// What the entries of a block let one expect.
#[derive(Default)]
pub(super) struct Expected {
    pub(super) states: Before<StateNote>,
    pub(super) inputs: Before<InputNote>,
    pub(super) measures: Before<MeasureNote>,
    pub(super) messages: Before<MessageRow>,
    pub(super) frames: Before<FrameRow>,
    pub(super) own: Before<OwnDrawnRow>,
    pub(super) otherwise: Before<OtherwiseRow>,
    pub(super) seen: Before<SeenRow>,
    pub(super) clocks: Before<ClockRow>,
    pub(super) received: Before<ReceivedRow>,
}

/// Writes an entry with a row.
pub(super) fn put<R: Pack>(packer: &mut Packer, before: &mut Before<R>, tag: Tag, key: Key, row: R) {
    begin(packer, tag, key);
    let before = before.entry(key).or_default();
    let mut coded = row;
    coded.code(before, packer);
    packer.end();
    *before = row;
}

/// Begins an entry.
pub(super) fn begin(packer: &mut Packer, tag: Tag, key: Key) {
    packer.put(tag as u64);
    key[..tag.keys()].iter().for_each(|part| packer.put(u64::from(*part)));
}

/// Reads the row of an entry.
pub(super) fn take<R: Pack>(unpacker: &mut Unpacker<'_>, before: &mut Before<R>, key: Key) -> R {
    let before = before.entry(key).or_default();
    let mut row = R::default();
    unpacker.begin();
    row.code(before, unpacker);
    *before = row;
    row
}
