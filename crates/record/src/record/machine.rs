//! What is kept of one machine.

use velocitas_core::Presence;

use super::column::{Column, Cut};
use super::inputs::InputRows;
use super::packed::{Old, Packed};
use super::rows::{
    ClockRow, FrameRow, JoinedRow, KnowsRow, Mark, MarkRow, MeasureRow, OtherwiseRow, OwnDrawnRow, PresenceRow,
    ReceivedRow, SeenRow,
};
use super::told::Told;
use super::track::StateTrack;
use crate::ids::{ActorId, RecordTick};
use crate::time::LabTime;
use crate::watch::HappeningRow;

/// What a machine made of an entity of its own.
#[derive(Clone, Debug)]
pub struct OwnRows {
    /// Which.
    pub actor: ActorId,
    /// Its first prediction, by tick.
    pub predicted: StateTrack,
    /// What it predicted again.
    pub rewritten: StateTrack,
    /// How it was drawn, by frame.
    pub drawn: Packed<OwnDrawnRow>,
    /// What the hands did with it, and what became of that.
    pub inputs: InputRows,
}

/// What is kept of one machine.
#[derive(Clone, Debug, Default)]
pub struct MachineRows {
    /// Of each entity of its own.
    pub own: Vec<OwnRows>,
    /// The moments at which it drew all others.
    pub frames: Packed<FrameRow>,
    /// What of others it drew otherwise than follows from what it took in.
    pub otherwise: Packed<OtherwiseRow>,
    /// All that it drew of others, where rows are let go.
    pub(super) told: Told,
    /// The snapshots it took in.
    pub received: Packed<ReceivedRow>,
    /// Whom it learnt of, and of whose end.
    pub knows: Column<KnowsRow>,
    /// How far it was in or out; without a row it has not been started.
    pub presence: Column<PresenceRow>,
    /// When it began to play, each time.
    pub joined: Column<JoinedRow>,
    /// Whom it drew for the first time since.
    pub seen: Column<SeenRow>,
    /// Whom it knows and has not drawn yet.
    pub(super) unseen: Vec<ActorId>,
    /// What it knows of its clock and link.
    pub clocks: Packed<ClockRow>,
    /// How near to its limits the guard found it: of whoever says where it is.
    pub measures: Packed<MeasureRow>,
    /// What happens seldom.
    pub happenings: Column<HappeningRow>,
    /// What the rail shows.
    pub marks: Column<MarkRow>,
    /// What becomes of rows that are no longer new.
    old: Old,
}

impl MachineRows {
    /// Nothing yet.
    pub(super) fn of(old: Old) -> Self {
        Self {
            frames: Packed::of(old),
            otherwise: Packed::of(old),
            received: Packed::of(old),
            clocks: Packed::of(old),
            measures: Packed::of(old),
            old,
            ..Self::default()
        }
    }

    /// What it made of an entity, if that is its own.
    pub fn own(&self, actor: ActorId) -> Option<&OwnRows> {
        self.own.iter().find(|own| own.actor == actor)
    }

    /// The same, to be written to; `width` lanes of its states are in use.
    pub(super) fn own_mut(&mut self, actor: ActorId, width: usize) -> &mut OwnRows {
        let old = self.old;
        if let Some(place) = self.own.iter().position(|own| own.actor == actor) {
            return &mut self.own[place];
        }
        let (predicted, rewritten) = (StateTrack::new(width, old), StateTrack::new(width, old));
        let (drawn, inputs) = (Packed::of(old), InputRows::of(old));
        self.own.push(OwnRows { actor, predicted, rewritten, drawn, inputs });
        self.own.last_mut().expect("it was just put there")
    }

    /// Whether it knows of an entity in a frame at this moment.
    pub fn knows(&self, actor: ActorId, at: LabTime) -> bool {
        let since = self.joined_by(at);
        let rows = self.knows.range(0, self.knows.until(at)).rev();
        rows.take_while(|row| row.at >= since).find(|row| row.actor == actor).is_some_and(|row| row.there)
    }

    /// Learns of an entity, or that it is no more.
    pub(super) fn learn(&mut self, at: LabTime, actor: ActorId, there: bool) {
        self.knows.push(KnowsRow { at, actor, there });
        self.unseen.retain(|unseen| *unseen != actor);
        self.unseen.extend(there.then_some(actor));
    }

    /// Begins to play, and knows nobody.
    pub(super) fn begin(&mut self, at: LabTime) {
        self.joined.push(JoinedRow { at });
        self.unseen.clear();
    }

    /// Draws an entity for the first time.
    pub(super) fn see(&mut self, at: LabTime, actor: ActorId) {
        self.seen.push(SeenRow { at, actor });
        self.unseen.retain(|unseen| *unseen != actor);
    }

    /// Whom it knew and had not drawn at a moment.
    fn unseen_at(&self, at: LabTime) -> Vec<ActorId> {
        let since = self.joined_by(at);
        let mut unseen: Vec<ActorId> = self.knows.span(since, at).map(|row| row.actor).collect();
        unseen.retain(|actor| self.knows(*actor, at));
        unseen.retain(|actor| !self.seen.span(since, at).any(|row| row.actor == *actor));
        unseen.sort_unstable();
        unseen.dedup();
        unseen
    }

    /// How far it is in or out at a moment: out before it was started and after it has ended.
    pub fn presence_at(&self, at: LabTime) -> Presence {
        let row = self.presence.until(at).checked_sub(1).and_then(|i| self.presence.get(i));
        row.map_or(Presence::Left, |row| row.presence)
    }

    /// When it last began to play, at this moment.
    pub fn joined_by(&self, at: LabTime) -> LabTime {
        let row = self.joined.until(at).checked_sub(1).and_then(|i| self.joined.get(i));
        row.map_or(LabTime::ZERO, |row| row.at)
    }

    pub(super) fn mark(&mut self, at: LabTime, tick: Option<RecordTick>, mark: Mark) {
        self.marks.put(MarkRow { at, tick, mark });
    }

    /// Every column but the tracks and what is few and never forgotten: whom it knows.
    fn columns(&mut self) -> impl Iterator<Item = &mut dyn Cut> {
        let all: [&mut dyn Cut; 7] = [
            &mut self.frames,
            &mut self.otherwise,
            &mut self.received,
            &mut self.clocks,
            &mut self.measures,
            &mut self.happenings,
            &mut self.marks,
        ];
        all.into_iter().chain(self.own.iter_mut().map(|own| -> &mut dyn Cut { &mut own.drawn }))
    }

    pub(super) fn truncate(&mut self, at: LabTime) {
        self.columns().for_each(|column| column.cut_after(at));
        let few: [&mut dyn Cut; 4] = [&mut self.knows, &mut self.presence, &mut self.joined, &mut self.seen];
        few.into_iter().for_each(|column| column.cut_after(at));
        self.told.cut_after(at);
        self.unseen = self.unseen_at(at);
        for own in &mut self.own {
            own.predicted.truncate(at);
            own.rewritten.truncate(at);
            own.inputs.truncate(at);
        }
    }

    pub(super) fn forget_drawn(&mut self, before: LabTime) {
        self.told.forget_before(before);
    }

    pub(super) fn forget(&mut self, from: LabTime) {
        self.columns().for_each(|column| column.forget_before(from));
        for own in &mut self.own {
            own.predicted.forget(from);
            own.rewritten.forget(from);
            own.inputs.forget(from);
        }
    }

    pub(super) fn bytes(&self) -> usize {
        let of = |o: &OwnRows| o.predicted.bytes() + o.rewritten.bytes() + o.drawn.bytes() + o.inputs.bytes();
        let own = self.own.iter().map(of);
        own.sum::<usize>()
            + self.frames.bytes()
            + self.otherwise.bytes()
            + self.told.bytes()
            + self.received.bytes()
            + self.knows.bytes()
            + self.presence.bytes()
            + self.joined.bytes()
            + self.seen.bytes()
            + self.clocks.bytes()
            + self.measures.bytes()
            + self.happenings.bytes()
            + self.marks.bytes()
    }
}
