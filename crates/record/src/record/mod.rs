//! Everything that happened, in the order in which it happened.
//!
//! The record is append-only and never read by the simulation; its beginning may be forgotten. Screens, causes, metrics
//! and exports work from it alone: it knows its own [`Cast`]. Rows are kept by machine, datagrams by link. States are packed:
//! a track keeps only the lanes its schema uses. What a screen shows of others is not kept but [had again](Record::drawn).

mod again;
mod answer;
mod cast;
mod column;
mod derived;
mod drawn;
mod inputs;
mod layout;
mod learned;
mod machine;
mod packed;
mod recorder;
mod rows;
mod told;
mod track;

pub use cast::{Actor, Beginning, Cast, MachineInfo, Origin, OwnerRow, Player, There};
use column::Cut;
pub use column::{Column, Timed};
pub use derived::{Frame, Samples, Travelled};
pub use drawn::Gallery;
pub use inputs::{InputRow, InputRows};
pub use layout::Layout;
use learned::Learned;
pub use machine::{MachineRows, OwnRows};
pub use packed::{Old, Packed, Packer, Unpacker};
pub use recorder::Recorder;
pub use rows::{
    ClockRow, DrawnRow, FrameRow, JoinedRow, KnowsRow, Mark, MarkRow, MeasureRow, OtherwiseRow, OwnDrawnRow,
    PresenceRow, ReceivedRow, SeenRow, StateHead,
};
pub use track::StateTrack;

use std::collections::BTreeMap;
use std::sync::Arc;

use velocitas_core::{Presence, SolidId, Tick};

pub use crate::coder::{Coder, Pack};
use crate::ids::{ActorId, MachineId, Part, RecordTick};
use crate::known::{Change, Changed, Known};
use crate::time::LabTime;
use crate::watch::MessageRow;

/// How much of what is no longer kept stays for what looks back from the first moment kept.
pub const CONTEXT: LabTime = LabTime(15_000_000_000);

/// Links hold datagrams for less than this.
pub const HELD: LabTime = LabTime(4_000_000_000);

/// Datagrams by link: from, to.
type Messages = BTreeMap<(MachineId, MachineId), Packed<MessageRow>>;

/// The record of a run.
#[derive(Clone, Debug)]
pub struct Record {
    /// Who is who.
    pub cast: Cast,
    authority: Vec<StateTrack>,
    /// What others were sent instead, where that was another.
    echoes: Vec<StateTrack>,
    machines: Vec<MachineRows>,
    messages: Messages,
    /// Changes of the rules, in the order they were asked for.
    pub changes: Vec<Change>,
    /// What machines were told that were not let in, each time it was something else.
    refusals: Vec<(LabTime, MachineId, String)>,
    /// What machines knew.
    learned: Learned,
    /// What becomes of rows that are no longer new.
    old: Old,
    /// From when on it has everything; what was before may be forgotten.
    pub kept_from: LabTime,
    /// How far it goes.
    pub end: LabTime,
}

impl Record {
    /// An empty record.
    pub fn new(cast: Cast) -> Self {
        Self::keeping(cast, Old::Packed)
    }

    /// An empty record that is to hold the newest rows only, as rings: they stay as they are until they are forgotten, and all that is drawn
    /// is among them, whether it follows from what was received or not.
    pub fn rings(cast: Cast) -> Self {
        Self::keeping(cast, Old::LetGo)
    }

    fn keeping(cast: Cast, old: Old) -> Self {
        let mut record = Self {
            authority: Vec::new(),
            echoes: Vec::new(),
            machines: cast.machines().map(|_| MachineRows::of(old)).collect(),
            messages: Messages::new(),
            changes: Vec::new(),
            refusals: Vec::new(),
            learned: Learned::default(),
            old,
            kept_from: LabTime::ZERO,
            end: LabTime::ZERO,
            cast,
        };
        // Who is there from the beginning was started before it.
        for actor in record.cast.actors.clone() {
            let there = actor.came_with.map(|machine| (machine, Some(Presence::Joining)));
            there.into_iter().for_each(|(machine, joining)| record.note_presence(LabTime::ZERO, machine, joining));
        }
        record.authority = record.cast.actors().map(|actor| StateTrack::new(record.width(actor), old)).collect();
        record.echoes.clone_from(&record.authority);
        record
    }

    /// How many lanes of an entity's states are in use, as the newest rule has it.
    fn width(&self, actor: ActorId) -> usize {
        self.layout(actor, RecordTick(u32::MAX)).schema().state_lanes()
    }

    /// What the authority made of an entity, by tick.
    pub fn authority(&self, actor: ActorId) -> &StateTrack {
        &self.authority[actor.index()]
    }

    /// Where others were sent that an entity is, by tick, where that was not where the authority had it: its smooth echo.
    pub fn echo(&self, actor: ActorId) -> &StateTrack {
        &self.echoes[actor.index()]
    }

    /// What is kept of a machine.
    pub fn of(&self, machine: MachineId) -> &MachineRows {
        &self.machines[machine.index()]
    }

    /// Datagrams by link, in the order they left.
    pub fn links(&self) -> impl Iterator<Item = (MachineId, MachineId, &Packed<MessageRow>)> {
        self.messages.iter().map(|((from, to), column)| (*from, *to, column))
    }

    /// Datagrams from one machine to another, in the order they left.
    pub fn link(&self, from: MachineId, to: MachineId) -> Option<&Packed<MessageRow>> {
        self.messages.get(&(from, to))
    }

    /// Why a machine is not let in at a moment, in the words it was told; `None` where it is, or does not ask.
    pub fn refusal(&self, machine: MachineId, at: LabTime) -> Option<&str> {
        if self.of(machine).presence_at(at) != Presence::Refused {
            return None;
        }
        let newest = self.refusals.iter().rev().find(|(told, m, _)| *m == machine && *told <= at);
        newest.map(|(.., words)| words.as_str())
    }

    /// The datagrams of a machine's client between two moments, both included: what it sent, what was sent to it. What else a
    /// machine sends that decides as well is not among them.
    pub fn datagrams(&self, machine: MachineId, from: LabTime, to: LabTime) -> impl Iterator<Item = MessageRow> {
        self.links().filter(move |(a, b, _)| [*a, *b].contains(&machine)).flat_map(move |(a, b, rows)| {
            rows.span(from, to).filter(move |r| machine == if r.kind.is_up() { a } else { b })
        })
    }

    /// Whether a datagram is lost: the lab knows that at once. Elsewhere it is if it has not arrived after longer than links hold any,
    /// where there is word from whom it went to; else nobody can say.
    pub fn is_lost(&self, to: MachineId, row: &MessageRow) -> bool {
        row.lost || row.arrived.is_none() && self.heard(to).is_some_and(|heard| heard > row.at.plus(HELD))
    }

    /// When a machine told of something last, in which it could have told of a datagram.
    pub fn heard(&self, machine: MachineId) -> Option<LabTime> {
        let decides = (machine == MachineId::SERVER).then_some(&self.authority).into_iter().flatten();
        let made = decides.filter_map(|track| track.head(track.len().checked_sub(1)?)).map(|head| head.at).max();
        made.max(self.of(machine).frames.last().map(|frame| frame.at))
    }

    /// A tick as people count it.
    pub const fn shown(&self, tick: RecordTick) -> u64 {
        self.cast.shown(tick)
    }

    /// Forgets everything after `at`.
    pub fn truncate(&mut self, at: LabTime) {
        self.cast.truncate(at);
        let actors = self.cast.actors.len();
        self.authority.truncate(actors);
        self.echoes.truncate(actors);
        self.machines.iter_mut().for_each(|machine| machine.own.retain(|own| own.actor.index() < actors));
        self.authority.iter_mut().chain(&mut self.echoes).for_each(|track| track.truncate(at));
        self.machines.iter_mut().for_each(|machine| machine.truncate(at));
        self.messages.values_mut().for_each(|column| column.cut_after(at));
        self.changes.retain(|c| c.at <= at);
        self.learned.forget();
        self.refusals.retain(|(told, ..)| *told <= at);
        self.end = self.end.min(at);
    }

    /// Forgets what was before `kept_from`, in whole segments, but for a while before it: windows that end in what is kept
    /// are whole, and causes are found. Changes of the rules are few and stay.
    pub fn forget(&mut self, kept_from: LabTime) {
        let from = kept_from.minus(CONTEXT);
        self.authority.iter_mut().chain(&mut self.echoes).for_each(|track| track.forget(from));
        self.machines.iter_mut().for_each(|machine| machine.forget(from));
        self.messages.values_mut().for_each(|column| column.forget_before(from));
        self.kept_from = self.kept_from.max(kept_from);
    }

    /// Forgets what was drawn before a moment, where that is held as it is: there is much of it, and nothing looks back at it for long.
    pub fn forget_drawn(&mut self, before: LabTime) {
        self.machines.iter_mut().for_each(|machine| machine.forget_drawn(before));
    }

    /// As it was at a moment from which it is let go: who is there, and what changed, but no rows. What is recorded from then on is
    /// whole after a while.
    pub fn begin_anew(&mut self, at: LabTime) {
        self.truncate(at);
        self.kept_from = if at == LabTime::ZERO { at } else { at.plus(CONTEXT) };
        self.end = at;
    }

    /// Whether it holds the newest rows only.
    pub(super) fn is_of_rings(&self) -> bool {
        self.old == Old::LetGo
    }

    /// Whether steps of an entity's rule can be made.
    pub fn has_rule(&self, actor: ActorId) -> bool {
        self.cast.kinds().motion(self.cast.actors[actor.index()].kind).is_here()
    }

    /// What a part of a machine knew of the rules at a tick.
    pub fn known(&self, machine: MachineId, part: Part, tick: RecordTick) -> Arc<Known> {
        self.learned.of((&self.cast, &self.changes), machine, part, tick)
    }

    /// Whether a part of a machine knew a solid at a tick.
    pub fn knows(&self, machine: MachineId, part: Part, solid: SolidId, tick: RecordTick) -> bool {
        let changes = self.changes.iter().rev().filter(|c| c.tick <= tick && c.reach.covers(machine));
        let changed = changes.filter_map(|c| match c.what {
            Changed::Solid { solid: of, there } if of == solid => Some(there),
            _ => None,
        });
        changed.into_iter().next().unwrap_or_else(|| self.cast.rules(part).knows(solid))
    }

    /// The layout of an entity's states at a tick.
    pub fn layout(&self, actor: ActorId, tick: RecordTick) -> Layout {
        let kind = self.cast.actors[actor.index()].kind;
        let reloaded = self.changes.iter().rev().find_map(|c| match &c.what {
            // Who alone has another rule reads and writes the same bits, or is refused.
            Changed::Reloaded { kind: k, rule, .. }
                if *k == kind && c.tick <= tick && c.reach.covers(MachineId::SERVER) =>
            {
                Some(rule.clone())
            }
            _ => None,
        });
        Layout { kinds: self.cast.kinds().clone(), kind, reloaded }
    }

    /// Bytes it takes, roughly.
    pub fn bytes(&self) -> usize {
        self.authority.iter().chain(&self.echoes).map(StateTrack::bytes).sum::<usize>()
            + self.machines.iter().map(MachineRows::bytes).sum::<usize>()
            + self.messages.values().map(Packed::bytes).sum::<usize>()
    }

    fn tick(&self, tick: Tick) -> RecordTick {
        self.cast.tick(tick)
    }

    fn machine_mut(&mut self, machine: MachineId) -> &mut MachineRows {
        &mut self.machines[machine.index()]
    }

    fn note_presence(&mut self, at: LabTime, machine: MachineId, presence: Option<Presence>) {
        let row = presence.map(|presence| PresenceRow { at, presence });
        row.into_iter().for_each(|row| self.machine_mut(machine).presence.push(row));
    }
}
