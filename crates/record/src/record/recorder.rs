//! Makes a record of what is watched.

use std::collections::BTreeMap;

use velocitas_core::{
    EndedBy, Event, Fact, Input, InputFact, InputFate, Made, Measure, Presence, Provenance, Restored, SolidId,
    StateEvent,
};

use super::drawn::Check;
use super::rows::{ClockRow, FrameRow, Mark, MeasureRow, OwnDrawnRow, ReceivedRow, StateHead};
use super::{Cast, Packed, Record, StateTrack};
use crate::addresses::machine_at;
use crate::ids::{MachineId, Part};
use crate::known::{Change, Changed};
use crate::screen::Screen;
use crate::time::LabTime;
use crate::watch::{Happening, HappeningRow, MessageRow, Watch};

/// A record in the making. It holds what is drawn against what follows from what was received.
#[derive(Clone, Debug)]
pub struct Recorder {
    record: Record,
    check: Check,
    /// Datagrams whose arrival was told of before their leaving: from, to, and which; when they came, and came again.
    early: BTreeMap<(MachineId, MachineId, u64), Arrival>,
}

/// When a datagram came, and came again.
type Arrival = (LabTime, Option<LabTime>);

/// So many arrivals are held whose leaving nobody has told of: who sent them may never tell.
const MOST_EARLY: usize = 1 << 14;

impl Recorder {
    /// From nothing on.
    pub fn new(cast: Cast) -> Self {
        Self::of(Record::new(cast))
    }

    /// From nothing on, to hold the newest rows only, as [rings](Record::rings).
    pub fn rings(cast: Cast) -> Self {
        Self::of(Record::rings(cast))
    }

    /// Goes on with a record.
    pub fn of(record: Record) -> Self {
        Self { record, check: Check::default(), early: BTreeMap::new() }
    }

    /// What was recorded so far.
    pub const fn record(&self) -> &Record {
        &self.record
    }

    /// The same, to be changed.
    pub const fn record_mut(&mut self) -> &mut Record {
        &mut self.record
    }

    /// What was recorded.
    pub fn into_record(self) -> Record {
        self.record
    }

    /// Forgets everything after `at`.
    pub fn truncate(&mut self, at: LabTime) {
        self.record.truncate(at);
        self.check = Check::default();
        self.early.clear();
    }

    /// Forgets what was before `kept_from`: see [`Record::forget`].
    pub fn forget(&mut self, kept_from: LabTime) {
        self.record.forget(kept_from);
        self.check.moved();
    }

    /// As it was at a moment from which it is let go: see [`Record::begin_anew`].
    pub fn begin_anew(&mut self, at: LabTime) {
        self.record.begin_anew(at);
        self.check = Check::default();
    }
}

impl Record {
    fn state(&mut self, at: LabTime, machine: MachineId, event: &StateEvent<'_>) {
        let Some(actor) = self.cast.actor(event.entity) else { return };
        // The floor is not worth a place.
        let touched = event.contacts.iter().filter(|&id| id != SolidId::FLOOR);
        let used = event.used.map(|used| self.tick(used));
        let head = StateHead::new(at, self.tick(event.tick), used, touched, event.teleported);
        let width = self.authority[actor.index()].width();
        let track = match event.made {
            Made::Authority => &mut self.authority[actor.index()],
            Made::Echo => &mut self.echoes[actor.index()],
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
                    self.authority.push(StateTrack::new(width, self.old));
                    self.echoes.push(StateTrack::new(width, self.old));
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
        self.machine_mut(machine).happenings.put(HappeningRow { at, part, tick, what: Happening::Fact(fact) });
    }
}

impl Watch for Recorder {
    const LOOKS: bool = true;

    fn event(&mut self, at: LabTime, machine: MachineId, part: Part, event: &Event<'_>) {
        let record = &mut self.record;
        record.end = at;
        match event {
            Event::State(state) => record.state(at, machine, state),
            Event::Input(fact, value) => record.input(at, machine, *fact, *value),
            Event::Measure(measure) => record.measure(at, measure),
            Event::Fact(fact) => record.fact(at, machine, part, *fact),
        }
    }

    fn message(&mut self, from: MachineId, to: MachineId, mut row: MessageRow) {
        let record = &mut self.record;
        let rows = record.messages.entry((from, to)).or_insert_with(|| Packed::of(record.old));
        let number = (rows.forgotten() + rows.len()) as u64;
        if let Some((arrived, again)) = self.early.remove(&(from, to, number)) {
            (row.arrived, row.again) = (Some(arrived), again);
        }
        rows.push(row);
        if row.lost {
            // Of the client whose it is, not of the server that is in the middle of them all.
            let whose = if row.kind.is_up() { from } else { to };
            record.machine_mut(whose).mark(row.at, row.tick, Mark::Lost);
        }
    }

    fn arrived(&mut self, at: LabTime, from: MachineId, to: MachineId, number: u64) {
        let rows = self.record.messages.get_mut(&(from, to));
        let place = rows.as_ref().and_then(|rows| number.checked_sub(rows.forgotten() as u64));
        match rows.zip(place) {
            Some((rows, place)) if place < rows.len() as u64 => {
                // What the lab knew when it left is so.
                let place = place as usize;
                let told = rows.get(place).is_some_and(|row| row.arrived == Some(at) || row.again.is_some());
                if !told {
                    rows.update(place, |row| match row.arrived {
                        None => row.arrived = Some(at),
                        Some(_) => row.again = Some(at),
                    });
                }
            }
            _ => {
                self.early.entry((from, to, number)).and_modify(|(_, again)| *again = Some(at)).or_insert((at, None));
                if self.early.len() > MOST_EARLY {
                    self.early.pop_first();
                }
            }
        }
    }

    fn unread(&mut self, from: MachineId, to: MachineId, number: u64) {
        if let Some(rows) = self.record.messages.get_mut(&(from, to))
            && let Some(place) = number.checked_sub(rows.forgotten() as u64)
        {
            rows.update(place as usize, |row| row.unread = true);
        }
    }

    fn frame(&mut self, at: LabTime, viewer: MachineId, screen: &Screen) {
        let record = &mut self.record;
        if let Some(words) = &screen.refused
            && record.newest_refusal(viewer).is_none_or(|(_, before)| before != words)
        {
            record.note_refusal(at, viewer, words.clone());
        }
        if !screen.plays {
            return;
        }
        let (tick, fraction) = screen.moment.unwrap_or_default();
        let Screen { limit_ms, blends, blending, looks, camera, .. } = *screen;
        let sees = screen.moment.is_some();
        record.note_frame(viewer, FrameRow { at, tick, fraction, limit_ms, blends, blending, looks, camera, sees });
        for drawn in &screen.own {
            let Some(actor) = record.cast.actor(drawn.entity) else { continue };
            let width = record.authority[actor.index()].width();
            let row = OwnDrawnRow::of(at, drawn);
            record.machines[viewer.index()].own_mut(actor, width).drawn.push(row);
        }
        record.note_drawn(&mut self.check, viewer, screen);
        record.first_seen(at, viewer, screen);
    }

    fn happening(&mut self, machine: MachineId, row: HappeningRow) {
        let record = &mut self.record;
        record.end = row.at;
        let presence = match row.what {
            Happening::Started => Some(Presence::Joining),
            Happening::Crashed => Some(Presence::Left),
            Happening::Leaves => Some(Presence::Leaving),
            _ => None,
        };
        record.note_presence(row.at, machine, presence);
        if matches!(row.what, Happening::Crashed | Happening::Leaves) {
            record.machine_mut(machine).mark(row.at, row.tick, Mark::Went);
        }
        record.machine_mut(machine).happenings.put(row);
    }

    fn changed(&mut self, change: Change) {
        let record = &mut self.record;
        if let Changed::Reloaded { kind, rule, .. } = &change.what
            && change.reach.covers(MachineId::SERVER)
        {
            let width = rule.schema().state_lanes();
            for actor in record.cast.actors().filter(|actor| record.cast.actors[actor.index()].kind == *kind) {
                record.authority[actor.index()].widen(width);
                record.echoes[actor.index()].widen(width);
                let own = record.machines.iter_mut().flat_map(|machine| &mut machine.own);
                for own in own.filter(|own| own.actor == actor) {
                    own.predicted.widen(width);
                    own.rewritten.widen(width);
                }
            }
        }
        record.changes.push(change);
    }
}
