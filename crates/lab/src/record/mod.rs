//! Everything that happened, in the order in which it happened.
//!
//! The record is append-only and never read by the simulation; its beginning may be forgotten. Screens, causes, metrics
//! and exports work from it alone: it knows its own [`Cast`]. Rows are kept by machine, datagrams by link. States are packed:
//! a track keeps only the lanes its schema uses. What a screen shows of others is not kept but [had again](Record::drawn).

mod again;
mod cast;
mod column;
mod derived;
mod drawn;
mod inputs;
mod layout;
mod learned;
mod machine;
mod packed;
mod rows;
mod track;

pub use cast::{Actor, Beginning, Cast, MachineInfo, Origin, OwnerRow, Player, There};
use column::Cut;
pub use column::{Column, Timed};
pub(crate) use derived::Samples;
pub use derived::{Frame, Travelled};
use drawn::Check;
pub use drawn::{DrawnRow, Gallery};
pub use inputs::{InputRow, InputRows};
pub use layout::Layout;
use learned::Learned;
pub use machine::{MachineRows, OwnRows};
pub use packed::{Coder, Old, Pack, Packed};
pub(crate) use packed::{Packer, Unpacker};
pub use rows::{
    ClockRow, FrameRow, JoinedRow, KnowsRow, Mark, MarkRow, MeasureRow, OtherwiseRow, OwnDrawnRow, PresenceRow,
    ReceivedRow, SeenRow, StateHead,
};
pub use track::Track;

use std::collections::BTreeMap;
use std::sync::Arc;

use velocitas_core::{
    Correction, EndedBy, Event, Fact, Input, InputFact, InputFate, Made, Measure, Presence, Provenance, Restored,
    SolidId, StateEvent, Tick,
};

use crate::cause::{Finding, Findings};
use crate::ids::{ActorId, MachineId, Part, RecordTick};
use crate::known::{Change, Changed, Known};
use crate::machine::machine_at;
use crate::screen::Screen;
use crate::time::LabTime;
use crate::watch::{Happening, HappeningRow, MessageRow, Watch};

/// How much of what is no longer kept stays for what looks back from the first moment kept.
pub(crate) const CONTEXT: LabTime = LabTime(15_000_000_000);

/// Datagrams by link: from, to.
type Messages = BTreeMap<(MachineId, MachineId), Packed<MessageRow>>;

/// The record of a run.
#[derive(Clone, Debug)]
pub struct Record {
    /// Who is who.
    pub cast: Cast,
    authority: Vec<Track>,
    machines: Vec<MachineRows>,
    messages: Messages,
    /// Changes of the rules, in the order they were asked for.
    pub changes: Vec<Change>,
    /// What machines were told that were not let in, each time it was something else.
    refusals: Vec<(LabTime, MachineId, String)>,
    /// What was found behind corrections.
    findings: Findings,
    /// What machines knew.
    learned: Learned,
    /// Holds what is drawn against what follows from what was received.
    check: Check,
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
            machines: cast.machines().map(|_| MachineRows::of(old)).collect(),
            messages: Messages::new(),
            changes: Vec::new(),
            refusals: Vec::new(),
            findings: Findings::default(),
            learned: Learned::default(),
            check: Check::default(),
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
        record.authority = record.cast.actors().map(|actor| Track::new(record.width(actor), old)).collect();
        record
    }

    /// How many lanes of an entity's states are in use, as the newest rule has it.
    fn width(&self, actor: ActorId) -> usize {
        self.layout(actor, RecordTick(u32::MAX)).schema().state_lanes()
    }

    /// What the authority made of an entity, by tick.
    pub fn authority(&self, actor: ActorId) -> &Track {
        &self.authority[actor.index()]
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

    /// A tick as people count it.
    pub const fn shown(&self, tick: RecordTick) -> u64 {
        self.cast.shown(tick)
    }

    /// Forgets everything after `at`.
    pub fn truncate(&mut self, at: LabTime) {
        self.cast.truncate(at);
        let actors = self.cast.actors.len();
        self.authority.truncate(actors);
        self.machines.iter_mut().for_each(|machine| machine.own.retain(|own| own.actor.index() < actors));
        self.authority.iter_mut().for_each(|track| track.truncate(at));
        self.machines.iter_mut().for_each(|machine| machine.truncate(at));
        self.messages.values_mut().for_each(|column| column.cut_after(at));
        self.changes.retain(|c| c.at <= at);
        self.learned.forget();
        self.check = Check::default();
        self.refusals.retain(|(told, ..)| *told <= at);
        self.findings.truncate(at);
        self.end = self.end.min(at);
    }

    /// Forgets what was before `kept_from`, in whole segments, but for a while before it: windows that end in what is kept
    /// are whole, and causes are found. Changes of the rules are few and stay.
    pub(crate) fn forget(&mut self, kept_from: LabTime) {
        let from = kept_from.minus(CONTEXT);
        self.authority.iter_mut().for_each(|track| track.forget(from));
        self.machines.iter_mut().for_each(|machine| machine.forget(from));
        self.messages.values_mut().for_each(|column| column.forget_before(from));
        self.findings.forget(from);
        self.check.moved();
        self.kept_from = self.kept_from.max(kept_from);
    }

    /// Forgets what was drawn before a moment, where that is held as it is: there is much of it, and nothing looks back at it for long.
    pub(crate) fn forget_drawn(&mut self, before: LabTime) {
        self.machines.iter_mut().for_each(|machine| machine.forget_drawn(before));
    }

    /// As it was at a moment from which it is let go: who is there, and what changed, but no rows. What is recorded from then on is
    /// whole after a while.
    pub(crate) fn begin_anew(&mut self, at: LabTime) {
        self.truncate(at);
        self.kept_from = if at == LabTime::ZERO { at } else { at.plus(CONTEXT) };
        self.end = at;
    }

    /// Whether it holds the newest rows only.
    pub(super) fn is_of_rings(&self) -> bool {
        self.old == Old::LetGo
    }

    /// What lies behind a correction that a machine made at a moment, found by trying. It is looked for once.
    pub fn finding(&self, machine: MachineId, at: LabTime, correction: &Correction) -> Arc<Finding> {
        self.findings.of(self, machine, at, correction)
    }

    /// What a part of a machine knew of the rules at a tick.
    pub fn known(&self, machine: MachineId, part: Part, tick: RecordTick) -> Arc<Known> {
        self.learned.of(self, machine, part, tick)
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
        self.authority.iter().map(Track::bytes).sum::<usize>()
            + self.machines.iter().map(MachineRows::bytes).sum::<usize>()
            + self.messages.values().map(Packed::bytes).sum::<usize>()
    }

    fn tick(&self, tick: Tick) -> RecordTick {
        self.cast.tick(tick)
    }

    fn machine_mut(&mut self, machine: MachineId) -> &mut MachineRows {
        &mut self.machines[machine.index()]
    }

    fn state(&mut self, at: LabTime, machine: MachineId, event: &StateEvent<'_>) {
        let Some(actor) = self.cast.actor(event.entity) else { return };
        // The floor is not worth a place.
        let touched = event.contacts.iter().filter(|&id| id != SolidId::FLOOR);
        let used = event.used.map(|used| self.tick(used));
        let head = StateHead::new(at, self.tick(event.tick), used, touched, event.teleported);
        let width = self.authority[actor.index()].width();
        let track = match event.made {
            Made::Authority => &mut self.authority[actor.index()],
            Made::Predicted => &mut self.machine_mut(machine).own_mut(actor, width).predicted,
            Made::Rewritten => &mut self.machine_mut(machine).own_mut(actor, width).rewritten,
        };
        track.push(head, event.state);
    }

    /// Who came, went, or changed hands: as the server tells it, and as clients learn of it.
    fn coming_or_going(&mut self, at: LabTime, machine: MachineId, fact: &Fact) {
        let presence = match fact {
            Fact::Joined { .. } => Some(Presence::Playing),
            Fact::Denied(_) => Some(Presence::Refused),
            Fact::Unheard => Some(Presence::Joining),
            Fact::Out(_) => Some(Presence::Left),
            _ => None,
        };
        self.note_presence(at, machine, presence);
        match *fact {
            Fact::Born { entity, kind, with, tick } => {
                let tick = self.tick(tick);
                if self.cast.born(at, tick, (entity, kind, with)) {
                    let width = self.cast.actors().next_back().map_or(0, |actor| self.width(actor));
                    self.authority.push(Track::new(width, self.old));
                }
            }
            Fact::Gone { entity, tick } => self.cast.gone(at, self.cast.tick(tick), entity),
            Fact::Owner { entity, tick, player, owns } => {
                self.cast.owned(at, self.cast.tick(tick), (entity, player, owns));
            }
            Fact::Connected { peer, from, .. } => self.cast.connected(peer, from),
            Fact::Joined { .. } => self.machine_mut(machine).begin(at),
            Fact::Entered { entity, .. } | Fact::Left { entity, .. } => {
                if let Some(actor) = self.cast.actor(entity) {
                    self.machine_mut(machine).learn(at, actor, matches!(fact, Fact::Entered { .. }));
                }
            }
            _ => {}
        }
    }

    fn note_presence(&mut self, at: LabTime, machine: MachineId, presence: Option<Presence>) {
        let row = presence.map(|presence| PresenceRow { at, presence });
        row.into_iter().for_each(|row| self.machine_mut(machine).presence.push(row));
    }

    /// What a client draws for the first time.
    fn first_seen(&mut self, at: LabTime, viewer: MachineId, screen: &Screen) {
        let unseen = &self.machines[viewer.index()].unseen;
        if unseen.is_empty() {
            return;
        }
        let drawn = screen.own.iter().chain(&screen.others).filter_map(|drawn| self.cast.actor(drawn.entity));
        let seen: Vec<_> = drawn.filter(|actor| unseen.contains(actor)).collect();
        let rows = &mut self.machines[viewer.index()];
        seen.into_iter().for_each(|actor| rows.see(at, actor));
    }

    fn input(&mut self, at: LabTime, machine: MachineId, fact: InputFact, value: Option<&Input>) {
        let InputFact { peer, entity, tick, fate } = fact;
        // What a server says of a peer is kept with that peer's machine.
        let machine = self.cast.machine_of(peer).unwrap_or(machine);
        let Some(actor) = self.cast.actor(entity) else { return };
        let (tick, width) = (self.tick(tick), self.authority[actor.index()].width());
        let rows = self.machine_mut(machine);
        rows.own_mut(actor, width).inputs.note(at, (peer, tick), fate, value);
        match fate {
            InputFate::Used(Provenance::Repeated | Provenance::Rested) => rows.mark(at, Some(tick), Mark::MadeUp),
            InputFate::Arrived(margin) if margin < 0 => rows.mark(at, Some(tick), Mark::Late),
            _ => {}
        }
    }

    fn measure(&mut self, at: LabTime, measure: &Measure) {
        let (cast, evidence) = (&self.cast, &measure.evidence);
        let Some((machine, actor)) = cast.machine_of(measure.peer).zip(cast.actor(measure.entity)) else { return };
        let row = MeasureRow::new(at, (actor, self.tick(evidence.to)), evidence);
        self.machine_mut(machine).measures.push(row);
    }

    fn fact(&mut self, at: LabTime, machine: MachineId, part: Part, fact: Fact) {
        self.coming_or_going(at, machine, &fact);
        // What a server says of a peer is kept with that peer's machine.
        let spoken_of = match fact {
            Fact::Refused { from, .. } => machine_at(from, self.machines.len()),
            _ => fact.peer().and_then(|peer| self.cast.machine_of(peer)),
        };
        let machine = spoken_of.unwrap_or(machine);
        let tick = fact.tick().map(|tick| self.tick(tick));
        match fact {
            Fact::Clock(fact) => return self.machine_mut(machine).clocks.push(ClockRow { at, fact }),
            Fact::Received { .. } => {
                let row = tick.map(|tick| ReceivedRow { at, tick });
                return row.into_iter().for_each(|row| self.machine_mut(machine).received.push(row));
            }
            Fact::Agreed { .. } => return,
            Fact::Verdict(_) => self.machine_mut(machine).mark(at, tick, Mark::Verdict),
            Fact::Joined { .. } => self.machine_mut(machine).mark(at, tick, Mark::Came),
            Fact::Ended { why: EndedBy::Silence, .. } => self.machine_mut(machine).mark(at, tick, Mark::Went),
            Fact::Corrected(c) if c.why != Restored::Settled => {
                self.machine_mut(machine).mark(at, tick, Mark::Corrected);
            }
            _ => {}
        }
        // What a server says of a peer happens to that peer's client.
        let part = if spoken_of.is_some() { Part::Client } else { part };
        self.machine_mut(machine).happenings.push(HappeningRow { at, part, tick, what: Happening::Fact(fact) });
    }
}

impl Watch for Record {
    const LOOKS: bool = true;

    fn event(&mut self, at: LabTime, machine: MachineId, part: Part, event: &Event<'_>) {
        self.end = at;
        match event {
            Event::State(state) => self.state(at, machine, state),
            Event::Input(fact, value) => self.input(at, machine, *fact, *value),
            Event::Measure(measure) => self.measure(at, measure),
            Event::Fact(fact) => self.fact(at, machine, part, *fact),
        }
    }

    fn message(&mut self, from: MachineId, to: MachineId, row: MessageRow) {
        self.messages.entry((from, to)).or_insert_with(|| Packed::of(self.old)).push(row);
        if row.arrived.is_none() {
            // Of the client whose it is, not of the server that is in the middle of them all.
            let whose = if row.kind.is_up() { from } else { to };
            self.machine_mut(whose).mark(row.at, row.tick, Mark::Lost);
        }
    }

    fn unread(&mut self, from: MachineId, to: MachineId, number: u64) {
        if let Some(rows) = self.messages.get_mut(&(from, to))
            && let Some(place) = number.checked_sub(rows.forgotten() as u64)
        {
            rows.update(place as usize, |row| row.unread = true);
        }
    }

    fn frame(&mut self, at: LabTime, viewer: MachineId, screen: &Screen) {
        if let Some(words) = &screen.refused {
            let before = self.refusals.iter().rev().find(|(_, machine, _)| *machine == viewer);
            if before.is_none_or(|(.., before)| before != words) {
                self.note_refusal(at, viewer, words.clone());
            }
        }
        if !screen.plays {
            return;
        }
        let (tick, fraction) = screen.moment.unwrap_or_default();
        let (limit_ms, blends, sees) = (screen.limit_ms, screen.blends, screen.moment.is_some());
        self.note_frame(viewer, FrameRow { at, tick, fraction, limit_ms, blends, sees });
        for drawn in &screen.own {
            let Some(actor) = self.cast.actor(drawn.entity) else { continue };
            let width = self.authority[actor.index()].width();
            let row = OwnDrawnRow::of(at, drawn);
            self.machines[viewer.index()].own_mut(actor, width).drawn.push(row);
        }
        self.note_drawn(viewer, screen);
        self.first_seen(at, viewer, screen);
    }

    fn happening(&mut self, machine: MachineId, row: HappeningRow) {
        self.end = row.at;
        let presence = match row.what {
            Happening::Started => Some(Presence::Joining),
            Happening::Crashed => Some(Presence::Left),
            Happening::Leaves => Some(Presence::Leaving),
            _ => None,
        };
        self.note_presence(row.at, machine, presence);
        if matches!(row.what, Happening::Crashed | Happening::Leaves) {
            self.machine_mut(machine).mark(row.at, row.tick, Mark::Went);
        }
        self.machine_mut(machine).happenings.push(row);
    }

    fn changed(&mut self, change: Change) {
        if let Changed::Reloaded { kind, rule, .. } = &change.what
            && change.reach.covers(MachineId::SERVER)
        {
            let width = rule.schema().state_lanes();
            for actor in self.cast.actors().filter(|actor| self.cast.actors[actor.index()].kind == *kind) {
                self.authority[actor.index()].widen(width);
                let own = self.machines.iter_mut().flat_map(|machine| &mut machine.own);
                for own in own.filter(|own| own.actor == actor) {
                    own.predicted.widen(width);
                    own.rewritten.widen(width);
                }
            }
        }
        self.changes.push(change);
    }
}
