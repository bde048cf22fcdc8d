//! Everything that happened, in the order in which it happened.
//!
//! The record is append-only and never read by the simulation; its beginning may be forgotten. Screens, causes, metrics
//! and exports work from it alone. States are packed: a track keeps only the lanes its schema uses.

mod column;
mod rows;
mod track;

pub use column::Column;
pub use rows::{
    ClockRow, DrawnRow, Happening, HappeningRow, InputFate, InputRow, Machine, Mark, MarkRow, MessageRow, StateHead,
};
pub use track::Track;

use std::sync::Arc;

use velocitas_core::{Correction, Drawn, DrawnState, Event, Kinds, Motion, Restored, Schema, Tick, Verdict};

use crate::course::{Course, KnownTo};
use crate::known::{Change, Changed, Known};
use crate::time::LabTime;

/// How much of what is no longer kept stays for what looks back from the first moment kept.
const CONTEXT: LabTime = LabTime(15_000_000_000);

/// The record of a run.
#[derive(Clone, Debug)]
pub struct Record {
    course: Arc<Course>,
    base: u64,
    /// For each member its authority echo by tick.
    pub authority: Vec<Track>,
    /// For each member its first prediction by tick.
    pub predicted: Vec<Track>,
    /// For each member what it predicted again.
    pub rewritten: Vec<Track>,
    /// For each viewer, for each entity, what was drawn by frame.
    pub drawn: Vec<Vec<Column<DrawnRow>>>,
    /// Datagrams in the order they left.
    pub messages: Column<MessageRow>,
    /// Inputs.
    pub inputs: Column<InputRow>,
    /// Clocks.
    pub clocks: Column<ClockRow>,
    /// What happens seldom.
    pub happenings: Column<HappeningRow>,
    /// What the rail shows.
    pub marks: Column<MarkRow>,
    /// Changes of the rules, in the order they were asked for.
    pub changes: Vec<Change>,
    /// From when on it has everything; what was before may be forgotten.
    pub kept_from: LabTime,
    /// How far it goes.
    pub end: LabTime,
}

/// Told everything, in order. A [`Record`] keeps it; [`Unrecorded`] lets it go.
pub trait Watch {
    /// Something happened inside a client or the server.
    fn event(&mut self, at: LabTime, machine: Machine, event: &Event<'_>);
    /// A datagram was put on a link.
    fn message(&mut self, row: MessageRow);
    /// A viewer drew an entity.
    fn drawn(&mut self, at: LabTime, viewer: usize, entity: usize, drawn: &DrawnState, bearing: Option<usize>);
    /// Something the lab itself did.
    fn happening(&mut self, row: HappeningRow);
    /// Machines will know something else of the rules.
    fn changed(&mut self, change: Change);
}

/// Nobody keeps anything.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unrecorded;

impl Watch for Unrecorded {
    fn event(&mut self, _: LabTime, _: Machine, _: &Event<'_>) {}
    fn message(&mut self, _: MessageRow) {}
    fn drawn(&mut self, _: LabTime, _: usize, _: usize, _: &DrawnState, _: Option<usize>) {}
    fn happening(&mut self, _: HappeningRow) {}
    fn changed(&mut self, _: Change) {}
}

impl Record {
    /// An empty record.
    pub fn new(course: Arc<Course>) -> Self {
        let tracks =
            || course.cast.iter().map(|m| Track::new(course.kinds.motion(m.kind).schema().state_lanes())).collect();
        let count = course.cast.len();
        Self {
            base: course.first_tick,
            authority: tracks(),
            predicted: tracks(),
            rewritten: tracks(),
            drawn: vec![vec![Column::default(); count]; count],
            messages: Column::default(),
            inputs: Column::default(),
            clocks: Column::default(),
            happenings: Column::default(),
            marks: Column::default(),
            changes: Vec::new(),
            kept_from: LabTime::ZERO,
            end: LabTime::ZERO,
            course,
        }
    }

    /// What was run.
    pub const fn course(&self) -> &Arc<Course> {
        &self.course
    }

    /// A tick as rows count it.
    fn tick(&self, tick: Tick) -> u32 {
        tick.0.saturating_sub(self.base) as u32
    }

    /// A tick as people count it.
    pub const fn shown(&self, tick: u32) -> u64 {
        self.base + tick as u64
    }

    /// Forgets everything after `at`.
    pub fn truncate(&mut self, at: LabTime) {
        for track in self.authority.iter_mut().chain(&mut self.predicted).chain(&mut self.rewritten) {
            track.truncate(at);
        }
        for column in self.drawn.iter_mut().flatten() {
            column.truncate(column.partition(|r| r.at <= at));
        }
        self.messages.truncate(self.messages.partition(|r| r.at <= at));
        self.inputs.truncate(self.inputs.partition(|r| r.at <= at));
        self.clocks.truncate(self.clocks.partition(|r| r.at <= at));
        self.happenings.truncate(self.happenings.partition(|r| r.at <= at));
        self.marks.truncate(self.marks.partition(|r| r.at <= at));
        self.changes.retain(|c| c.at <= at);
        self.end = self.end.min(at);
    }

    /// Forgets what was before `kept_from`, in whole segments, but for a while before it: windows that end in what is kept
    /// are whole, and causes are found. Changes of the rules are few and stay.
    pub(crate) fn forget(&mut self, kept_from: LabTime) {
        let from = kept_from.minus(CONTEXT);
        for track in self.authority.iter_mut().chain(&mut self.predicted).chain(&mut self.rewritten) {
            track.forget(from);
        }
        for column in self.drawn.iter_mut().flatten() {
            column.forget(|r| r.at < from);
        }
        self.messages.forget(|r| r.at < from);
        self.inputs.forget(|r| r.at < from);
        self.clocks.forget(|r| r.at < from);
        self.happenings.forget(|r| r.at < from);
        self.marks.forget(|r| r.at < from);
        self.kept_from = self.kept_from.max(kept_from);
    }

    /// What a machine knew of the rules at a tick, from the base.
    pub fn known(&self, machine: Machine, tick: u32) -> Known {
        let side = if machine == Machine::Server { KnownTo::Server } else { KnownTo::Clients };
        let mut known = Known::of(&self.course, side);
        for change in self.changes.iter().filter(|c| c.tick <= tick && c.reach.covers(machine)) {
            known.take(&change.what);
        }
        known
    }

    /// The layout of an entity's states at a tick, from the base.
    pub fn layout(&self, entity: usize, tick: u32) -> Layout {
        let kind = self.course.cast[entity].kind;
        let reloaded = self.changes.iter().rev().find_map(|c| match &c.what {
            Changed::Reloaded { kind: k, rule, .. } if *k == kind && c.tick <= tick => Some(rule.clone()),
            _ => None,
        });
        Layout { kinds: self.course.kinds.clone(), kind, reloaded }
    }

    /// Bytes it takes, roughly.
    pub fn bytes(&self) -> usize {
        let tracks = self.authority.iter().chain(&self.predicted).chain(&self.rewritten);
        tracks.map(Track::bytes).sum::<usize>()
            + self.drawn.iter().flatten().map(Column::bytes).sum::<usize>()
            + self.messages.bytes()
            + self.inputs.bytes()
            + self.clocks.bytes()
            + self.happenings.bytes()
            + self.marks.bytes()
    }

    fn mark(&mut self, at: LabTime, member: usize, tick: u32, mark: Mark) {
        self.marks.push(MarkRow { at, member: member as u16, tick, mark });
    }

    fn input(&mut self, at: LabTime, member: usize, tick: Tick, fate: InputFate) {
        let tick = self.tick(tick);
        self.inputs.push(InputRow { at, member: member as u16, tick, fate });
        match fate {
            InputFate::Used(provenance) if provenance != velocitas_core::Provenance::Fresh => {
                self.mark(at, member, tick, Mark::MadeUp);
            }
            InputFate::Arrived(margin) if margin < 0 => self.mark(at, member, tick, Mark::Late),
            _ => {}
        }
    }

    fn happened(&mut self, at: LabTime, machine: Machine, tick: Option<Tick>, what: Happening) {
        let tick = tick.map(|t| self.tick(t));
        self.happenings.push(HappeningRow { at, machine, tick, what });
    }

    /// Ticks inside a correction counted from the base.
    fn correction(&self, c: &Correction) -> Correction {
        let from_base = |t: Tick| Tick(u64::from(self.tick(t)));
        Correction { tick: from_base(c.tick), agreed: from_base(c.agreed), newest: from_base(c.newest), ..*c }
    }

    fn verdict(&self, v: &Verdict) -> Verdict {
        let from_base = |t: Tick| Tick(u64::from(self.tick(t)));
        Verdict { tick: from_base(v.tick), from: from_base(v.from), to: from_base(v.to), ..*v }
    }
}

impl Watch for Record {
    fn event(&mut self, at: LabTime, machine: Machine, event: &Event<'_>) {
        self.end = at;
        let member = match machine {
            Machine::Server => 0,
            Machine::Member(i) => i,
        };
        match *event {
            Event::Authority { entity, tick, state, contacts, teleported } => {
                let tick = self.tick(tick);
                self.authority[usize::from(entity)].push(at, tick, contacts, teleported, state);
            }
            Event::Predicted { tick, state, contacts, .. } => {
                let tick = self.tick(tick);
                self.predicted[member].push(at, tick, contacts, false, state);
            }
            Event::Rewritten { tick, state } => {
                let tick = self.tick(tick);
                self.rewritten[member].push(at, tick, &Default::default(), false, state);
            }
            Event::InputSampled { tick } => self.input(at, member, tick, InputFate::Sampled),
            Event::InputArrived { peer, tick, margin } => {
                self.input(at, usize::from(peer.0), tick, InputFate::Arrived(margin as i16));
            }
            Event::InputUsed { peer, tick, provenance } => {
                self.input(at, usize::from(peer.0), tick, InputFate::Used(provenance));
            }
            Event::ServerDropped { first, count } | Event::ClientDropped { first, count } => {
                self.happened(at, machine, Some(first), Happening::Dropped(count));
            }
            Event::Verdict(verdict) => {
                let verdict = self.verdict(verdict);
                let accused = usize::from(verdict.peer.0);
                self.mark(at, accused, verdict.tick.0 as u32, Mark::Verdict);
                let row = HappeningRow {
                    at,
                    machine: Machine::Member(accused),
                    tick: Some(verdict.tick.0 as u32),
                    what: Happening::Verdict(verdict),
                };
                self.happenings.push(row);
            }
            Event::Resync { peer, tick } => {
                self.happened(at, Machine::Member(usize::from(peer.0)), Some(tick), Happening::Resync);
            }
            Event::StepFault { tick, field, .. } => {
                self.happened(at, machine, Some(tick), Happening::StepFault(field));
            }
            Event::Agreed { .. } => {}
            Event::Corrected(correction) => {
                let correction = self.correction(correction);
                if correction.why != Restored::Settled {
                    self.mark(at, member, correction.tick.0 as u32, Mark::Corrected);
                }
                let what = Happening::Corrected(correction);
                self.happenings.push(HappeningRow { at, machine, tick: Some(correction.tick.0 as u32), what });
            }
            Event::Clock { behind, rtt, rtt_sigma, margin, view_delay } => {
                let micros = |ns: i64| (ns / 1000).clamp(0, i64::from(u32::MAX)) as u32;
                self.clocks.push(ClockRow {
                    at,
                    member: member as u16,
                    behind: behind as i32,
                    rtt_us: micros(rtt),
                    rtt_sigma_us: micros(rtt_sigma),
                    margin,
                    view_delay_us: micros(view_delay),
                });
            }
            Event::ClockSet { shift } => self.happened(at, machine, None, Happening::ClockSet(shift)),
            Event::Joined { tick } => self.happened(at, machine, Some(tick), Happening::Joined),
        }
    }

    fn message(&mut self, row: MessageRow) {
        self.messages.push(row);
        if row.arrived.is_none() {
            self.mark(row.at, usize::from(row.member), row.tick.unwrap_or(0), Mark::Lost);
        }
    }

    fn drawn(&mut self, at: LabTime, viewer: usize, entity: usize, drawn: &DrawnState, bearing: Option<usize>) {
        self.end = at;
        let pos = drawn.state.vec3(0);
        let tick = self.tick(drawn.tick);
        self.drawn[viewer][entity].push(DrawnRow {
            at,
            tick,
            fraction: (drawn.fraction.clamp(0.0, 0.99999) * 65_536.0) as u16,
            how: drawn.how as u8,
            pos: [pos.x, pos.y, pos.z],
            bearing: bearing.map_or(0.0, |lane| drawn.state.real(lane)),
        });
    }

    fn happening(&mut self, row: HappeningRow) {
        self.end = row.at;
        self.happenings.push(row);
    }

    fn changed(&mut self, change: Change) {
        if let Changed::Reloaded { kind, rule, .. } = &change.what {
            let width = rule.schema().state_lanes();
            for (i, _) in self.course.cast.iter().enumerate().filter(|(_, m)| m.kind == *kind) {
                for tracks in [&mut self.authority, &mut self.predicted, &mut self.rewritten] {
                    tracks[i].widen(width);
                }
            }
        }
        self.changes.push(change);
    }
}

/// The layout in force at some tick.
#[derive(Clone)]
pub struct Layout {
    kinds: Kinds,
    kind: u8,
    reloaded: Option<Arc<dyn Motion>>,
}

impl Layout {
    /// The rule itself.
    pub fn motion(&self) -> &dyn Motion {
        self.reloaded.as_ref().map_or_else(|| self.kinds.motion(self.kind), |rule| &**rule)
    }

    /// What the lanes mean.
    pub fn schema(&self) -> &Schema {
        self.motion().schema()
    }
}

/// A drawn row's way of coming about, by name.
pub const fn drawn_name(how: u8) -> &'static str {
    const PREDICTED: u8 = Drawn::Predicted as u8;
    const BLENDED: u8 = Drawn::Blended as u8;
    const NEWEST: u8 = Drawn::Newest as u8;
    const EXTRAPOLATED: u8 = Drawn::Extrapolated as u8;
    match how {
        PREDICTED => "predicted",
        BLENDED => "blended",
        NEWEST => "newest",
        EXTRAPOLATED => "extrapolated",
        _ => "held",
    }
}
