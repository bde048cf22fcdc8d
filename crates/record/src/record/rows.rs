//! What one row of each table of the record says. Every row has its lab time; whose it is, the table says.

use velocitas_core::{
    Blending, CameraOn, ClockFact, Drawn, EntityId, Evidence, LookBy, MessageKind, Presence, RULES, Rule, SolidId,
    Vec3, canonical_bits,
};

use super::column::Timed;
use crate::coder::{Coder, Pack};
use crate::ids::{ActorId, RecordTick};
use crate::screen::DrawnFact;
use crate::time::LabTime;
use crate::watch::{HappeningRow, MessageRow};

/// Every row has a field of that name.
macro_rules! timed {
    ($($row:ty),*) => {
        $(impl Timed for $row {
            fn at(&self) -> LabTime {
                self.at
            }
        })*
    };
}

timed!(
    FrameRow,
    OwnDrawnRow,
    ReceivedRow,
    KnowsRow,
    JoinedRow,
    PresenceRow,
    SeenRow,
    ClockRow,
    MarkRow,
    MeasureRow,
    HappeningRow,
    MessageRow,
    OtherwiseRow
);

/// An entity as a viewer drew it.
#[derive(Clone, Copy, Debug)]
pub struct DrawnRow {
    /// The frame.
    pub at: LabTime,
    /// The tick shown …
    pub tick: RecordTick,
    /// … and how far on towards the next, 0 to 1.
    pub fraction: f32,
    /// How it came about.
    pub how: Drawn,
    /// Where.
    pub pos: Vec3,
    /// Looking where, in radians; 0 where that is not known.
    pub bearing: f32,
}

impl DrawnRow {
    /// As its client told it.
    pub(super) fn of(at: LabTime, told: &DrawnFact) -> Self {
        let [x, y, z] = told.pos;
        let DrawnFact { tick, fraction, how, bearing, .. } = *told;
        Self { at, tick, fraction, how, pos: Vec3 { x, y, z }, bearing }
    }

    /// Whether it is the same, bit for bit.
    pub(super) fn is(&self, other: &Self) -> bool {
        let bits = |row: &Self| [row.pos.x, row.pos.y, row.pos.z, row.bearing, row.fraction].map(canonical_bits);
        (self.tick, self.how, bits(self)) == (other.tick, other.how, bits(other))
    }
}

/// The head of a state in a track.
#[derive(Clone, Copy, Debug, Default)]
pub struct StateHead {
    /// When it was made.
    pub at: LabTime,
    /// For which tick.
    pub tick: RecordTick,
    /// The newest of its owner's ticks that it includes, counted back from its own; `i16::MIN` for none.
    used_back: i16,
    /// Solids touched; `u16::MAX - 2` for none.
    contacts: [u16; 2],
    /// Whether it was put there otherwise than by its rule.
    pub teleported: bool,
}

/// No solid.
const NO_CONTACT: u16 = u16::MAX - 2;
/// No tick of an owner.
const NOT_USED: i16 = i16::MIN;

impl StateHead {
    /// A state of `tick`, which includes its owner's ticks up to `used`. Of the solids touched two are kept.
    pub fn new(
        at: LabTime,
        tick: RecordTick,
        used: Option<RecordTick>,
        mut touched: impl Iterator<Item = SolidId>,
        teleported: bool,
    ) -> Self {
        let back = |used: RecordTick| i64::from(tick.0) - i64::from(used.0);
        let used_back =
            used.map_or(NOT_USED, |used| back(used).clamp(-i64::from(i16::MAX), i64::from(i16::MAX)) as i16);
        let mut next = || touched.next().map_or(NO_CONTACT, |id| id.0);
        Self { at, tick, used_back, contacts: [next(), next()], teleported }
    }

    /// The solids touched.
    pub fn touched(&self) -> impl Iterator<Item = SolidId> {
        self.contacts.into_iter().filter(|&id| id != NO_CONTACT).map(SolidId)
    }

    /// The newest of its owner's ticks that the state includes; `None` where nobody owns it or nothing was heard yet.
    pub fn used(&self) -> Option<RecordTick> {
        let used = i64::from(self.tick.0) - i64::from(self.used_back);
        (self.used_back != NOT_USED).then_some(RecordTick(used.clamp(0, i64::from(u32::MAX)) as u32))
    }
}

impl Pack for StateHead {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        coder.small(&mut self.tick.0, before.tick.0.wrapping_add(1));
        let mut back = self.used_back as u16;
        coder.small(&mut back, before.used_back as u16);
        self.used_back = back as i16;
        let teleported = u16::from(self.teleported);
        let mut rest = [self.contacts[0], self.contacts[1], teleported];
        let before = [before.contacts[0], before.contacts[1], 0];
        rest.iter_mut().zip(before).for_each(|(value, before)| coder.small(value, before));
        (self.contacts, self.teleported) = ([rest[0], rest[1]], rest[2] != 0);
    }
}

/// A frame of a viewer: the one moment at which it draws all others.
#[derive(Clone, Copy, Debug, Default)]
pub struct FrameRow {
    /// The frame.
    pub at: LabTime,
    /// The tick shown …
    pub tick: RecordTick,
    /// … and how far on towards the next, 0 to 1.
    pub fraction: f32,
    /// Milliseconds a remote may run on past its newest state.
    pub limit_ms: u16,
    /// Whether remotes are blended at that moment; otherwise they are where they were last heard of.
    pub blends: bool,
    /// In which way.
    pub blending: Blending,
    /// How it has what others look to be doing.
    pub looks: LookBy,
    /// When its camera is moved.
    pub camera: CameraOn,
    /// Whether there is a moment yet: before the first snapshot nobody else is drawn.
    pub sees: bool,
}

impl Pack for FrameRow {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        coder.small(&mut self.tick.0, before.tick.0);
        coder.real(&mut self.fraction, before.fraction);
        coder.small(&mut self.limit_ms, before.limit_ms);
        let flags = |row: &Self| {
            let ways = (row.blending as u8) << 2 | (row.looks as u8) << 4 | (row.camera as u8) << 5;
            u8::from(row.blends) | u8::from(row.sees) << 1 | ways
        };
        let mut now = flags(self);
        coder.small(&mut now, flags(before));
        (self.blends, self.sees) = (now & 1 != 0, now & 2 != 0);
        self.blending = Blending::from_number(now >> 2 & 3);
        self.looks = LookBy::from_number(now >> 4 & 1);
        self.camera = CameraOn::from_number(now >> 5 & 1);
    }
}

/// An own entity whose states its owner makes, in a frame.
#[derive(Clone, Copy, Debug, Default)]
pub struct OwnDrawnRow {
    /// The frame.
    pub at: LabTime,
    /// The tick shown …
    pub tick: RecordTick,
    /// … and how far on towards the next, in 65,536ths.
    pub fraction: u16,
    /// Where, with what is left of corrections.
    pub pos: [f32; 3],
    /// Looking where.
    pub bearing: f32,
}

impl OwnDrawnRow {
    /// As it was drawn in a frame.
    pub fn of(at: LabTime, drawn: &DrawnFact) -> Self {
        let fraction = (drawn.fraction.clamp(0.0, 0.99999) * 65_536.0) as u16;
        Self { at, tick: drawn.tick, fraction, pos: drawn.pos, bearing: drawn.bearing }
    }

    /// The same as a drawn entity.
    pub(super) fn drawn(&self) -> DrawnRow {
        let Self { at, tick, pos: [x, y, z], bearing, .. } = *self;
        let fraction = f32::from(self.fraction) / 65_536.0;
        DrawnRow { at, tick, fraction, how: Drawn::Predicted, pos: Vec3 { x, y, z }, bearing }
    }
}

impl Pack for OwnDrawnRow {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        coder.small(&mut self.tick.0, before.tick.0);
        coder.small(&mut self.fraction, before.fraction);
        self.pos.iter_mut().zip(before.pos).for_each(|(x, before)| coder.real(x, before));
        coder.real(&mut self.bearing, before.bearing);
    }
}

/// What a viewer drew of somebody else in a frame, where that does not follow from what it had received.
#[derive(Clone, Copy, Debug, Default)]
pub struct OtherwiseRow {
    /// The frame.
    pub at: LabTime,
    /// Whom.
    pub actor: ActorId,
    /// How it came about, by its number; [`NOT_DRAWN`] where it was not drawn, and should have been.
    how: u8,
    tick: RecordTick,
    fraction: f32,
    pos: [f32; 3],
    bearing: f32,
}

/// Stands for how something came about that was not drawn.
const NOT_DRAWN: u8 = u8::MAX;

impl OtherwiseRow {
    /// As it was drawn.
    pub fn of(actor: ActorId, drawn: &DrawnRow) -> Self {
        let DrawnRow { at, tick, fraction, how, pos, bearing } = *drawn;
        Self { at, actor, how: how as u8, tick, fraction, pos: [pos.x, pos.y, pos.z], bearing }
    }

    /// It was not drawn.
    pub fn nothing(at: LabTime, actor: ActorId) -> Self {
        Self { at, actor, how: NOT_DRAWN, ..Self::default() }
    }

    /// How it was drawn; `None` where it was not.
    pub fn drawn(&self) -> Option<DrawnRow> {
        let how = Drawn::from_number(self.how)?;
        let Self { at, tick, fraction, pos: [x, y, z], bearing, .. } = *self;
        Some(DrawnRow { at, tick, fraction, how, pos: Vec3 { x, y, z }, bearing })
    }
}

impl Pack for OtherwiseRow {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        self.actor.code(before.actor, coder);
        coder.small(&mut self.how, before.how);
        coder.small(&mut self.tick.0, before.tick.0);
        coder.real(&mut self.fraction, before.fraction);
        self.pos.iter_mut().zip(before.pos).for_each(|(x, before)| coder.real(x, before));
        coder.real(&mut self.bearing, before.bearing);
    }
}

/// A snapshot as a client took it in.
#[derive(Clone, Copy, Debug, Default)]
pub struct ReceivedRow {
    /// When.
    pub at: LabTime,
    /// The tick it shows.
    pub tick: RecordTick,
}

impl Pack for ReceivedRow {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        coder.small(&mut self.tick.0, before.tick.0);
    }
}

/// A client learns of an entity, or that it is no more.
#[derive(Clone, Copy, Debug)]
pub struct KnowsRow {
    /// When.
    pub at: LabTime,
    /// Which.
    pub actor: ActorId,
    /// Which of the two.
    pub there: bool,
}

/// A machine's program comes or goes.
#[derive(Clone, Copy, Debug)]
pub struct PresenceRow {
    /// When.
    pub at: LabTime,
    /// How far it is in or out from then on.
    pub presence: Presence,
}

/// A client begins to play, and knows nobody.
#[derive(Clone, Copy, Debug)]
pub struct JoinedRow {
    /// When.
    pub at: LabTime,
}

/// A client draws an entity for the first time since it began to play.
#[derive(Clone, Copy, Debug, Default)]
pub struct SeenRow {
    /// When.
    pub at: LabTime,
    /// Which.
    pub actor: ActorId,
}

impl Pack for SeenRow {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        self.actor.code(before.actor, coder);
    }
}

/// What a client knows of its clock and link.
#[derive(Clone, Copy, Debug)]
pub struct ClockRow {
    /// When.
    pub at: LabTime,
    /// What.
    pub fact: ClockFact,
}

impl Default for ClockRow {
    fn default() -> Self {
        let fact = ClockFact { behind: 0, rtt_us: 0, rtt_sigma_us: 0, margin: None, view_delay_us: 0, server_us: None };
        Self { at: LabTime::ZERO, fact }
    }
}

/// Beside a margin: there is none, and the server's time is known.
const NO_MARGIN: u32 = 1 << 8;
const KNOWN: u32 = 1 << 9;

impl Pack for ClockRow {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        let parts = |fact: &ClockFact| {
            let margin = fact.margin.map_or(NO_MARGIN, |margin| u32::from(margin as u8));
            let margin = if fact.server_us.is_some() { margin | KNOWN } else { margin };
            [fact.behind as u32, fact.rtt_us, fact.rtt_sigma_us, margin, fact.view_delay_us]
        };
        let mut now = parts(&self.fact);
        now.iter_mut().zip(parts(&before.fact)).for_each(|(value, before)| coder.small(value, before));
        let [behind, rtt_us, rtt_sigma_us, margin, view_delay_us] = now;
        // Before it was told there were no margins beyond these.
        let server_us = (margin != u32::MAX && margin & KNOWN != 0).then(|| {
            let passed = self.at.minus(before.at).0 / 1000;
            let mut server = self.fact.server_us.unwrap_or_default();
            coder.number(&mut server, before.fact.server_us.unwrap_or_default().wrapping_add(passed));
            server
        });
        let margin = (margin & NO_MARGIN == 0).then_some(margin as u8 as i8);
        self.fact = ClockFact { behind: behind as i32, rtt_us, rtt_sigma_us, margin, view_delay_us, server_us };
    }
}

/// What a rule of the guard measured of a claim.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct MeasureRow {
    /// When it was judged.
    pub at: LabTime,
    /// The newest tick that was looked at …
    pub tick: RecordTick,
    /// … and how many before it.
    pub before: u16,
    /// Whose place or inputs were measured.
    pub actor: ActorId,
    /// The rule, by its number.
    rule: u8,
    /// What was measured.
    pub measured: f32,
    /// What is allowed.
    pub limit: f32,
}

impl MeasureRow {
    /// Of evidence for `tick`.
    pub fn new(at: LabTime, (actor, tick): (ActorId, RecordTick), evidence: &Evidence) -> Self {
        let before = evidence.to.since(evidence.from).clamp(0, i64::from(u16::MAX)) as u16;
        let rule = evidence.rule as u8;
        Self { at, tick, before, actor, rule, measured: evidence.measured, limit: evidence.limit }
    }

    /// By which rule.
    pub fn rule(&self) -> Rule {
        RULES[usize::from(self.rule) % RULES.len()].rule
    }

    /// What was measured as a share of what is allowed: above 1 it is refused.
    pub fn share(&self) -> f32 {
        velocitas_core::share(self.measured, self.limit)
    }
}

impl Pack for MeasureRow {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        coder.small(&mut self.tick.0, before.tick.0);
        coder.small(&mut self.before, before.before);
        self.actor.code(before.actor, coder);
        coder.small(&mut self.rule, before.rule);
        coder.real(&mut self.measured, before.measured);
        coder.real(&mut self.limit, before.limit);
    }
}

/// A slice of the rail shows the worst of these, in this order of priority.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Mark {
    /// A datagram was lost.
    Lost,
    /// An input was made up.
    MadeUp,
    /// An input came late.
    Late,
    /// A correction.
    Corrected,
    /// Somebody came.
    Came,
    /// Somebody went, or was missed.
    Went,
    /// A verdict.
    Verdict,
}

/// Never; a run ends before that.
const NEVER: u64 = u64::MAX;
/// Stands for nothing where something small may be.
const NOTHING: u32 = u32::MAX;

impl Default for MessageRow {
    fn default() -> Self {
        Self {
            at: LabTime::ZERO,
            arrived: None,
            again: None,
            lost: false,
            unread: false,
            kind: MessageKind::ALL[0],
            bytes: 0,
            tick: None,
            ticks: 0,
            entity: None,
            entities: 0,
            epoch: None,
            piece: None,
        }
    }
}

impl Pack for MessageRow {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        // What arrives does so soon after it left.
        let mut arrived = self.arrived.map_or(NEVER, |at| at.0);
        coder.number(&mut arrived, self.at.0);
        let mut again = self.again.map_or(NEVER, |at| at.0);
        coder.number(&mut again, NEVER);
        let time = |ns: u64| (ns != NEVER).then_some(LabTime(ns));
        (self.arrived, self.again) = (time(arrived), time(again));
        let whose = |row: &Self| row.entity.map_or(NOTHING, |id| u32::from(id.index) << 8 | u32::from(id.generation));
        let parts = |row: &Self| {
            [
                row.tick.map_or(NOTHING, |tick| tick.0),
                whose(row),
                u32::from(row.bytes),
                u32::from(row.ticks)
                    | u32::from(row.entities) << 8
                    | u32::from(row.unread) << 16
                    | u32::from(row.lost) << 17,
                u32::from(row.kind as u8),
                number_and_piece(row),
            ]
        };
        let mut now = parts(self);
        now.iter_mut().zip(parts(before)).for_each(|(value, before)| coder.small(value, before));
        let [tick, entity, bytes, counts, kind, epoch] = now;
        self.tick = (tick != NOTHING).then_some(RecordTick(tick));
        let id = EntityId { index: (entity >> 8) as u16, generation: entity as u8 };
        self.entity = (entity != NOTHING).then_some(id);
        self.bytes = bytes as u16;
        (self.ticks, self.entities) = (counts as u8, (counts >> 8) as u8);
        (self.unread, self.lost) = (counts >> 16 & 1 != 0, counts >> 17 & 1 != 0);
        self.kind = MessageKind::from_number(kind as u16).unwrap_or(MessageKind::ALL[0]);
        (self.epoch, self.piece) = (None, None);
        if epoch != NOTHING {
            let is_piece = epoch & PIECE != 0;
            self.epoch = (!is_piece || epoch & HAS_EPOCH != 0).then_some(epoch as u8);
            self.piece = is_piece.then_some(((epoch >> 8) as u16, epoch & AGAIN != 0));
        }
    }
}

/// Beside an epoch in the low byte: a piece of a stream, its number in the next two; and whether it was sent before, and there is an epoch at all.
const PIECE: u32 = 1 << 24;
const AGAIN: u32 = 1 << 25;
const HAS_EPOCH: u32 = 1 << 26;

/// What a row has of its kind, seldom both.
fn number_and_piece(row: &MessageRow) -> u32 {
    let Some((number, again)) = row.piece else { return row.epoch.map_or(NOTHING, u32::from) };
    let epoch = row.epoch.map_or(0, |epoch| HAS_EPOCH | u32::from(epoch));
    PIECE | u32::from(number) << 8 | if again { AGAIN } else { 0 } | epoch
}

/// Something for the rail.
#[derive(Clone, Copy, Debug)]
pub struct MarkRow {
    /// When.
    pub at: LabTime,
    /// In which tick, if in one.
    pub tick: Option<RecordTick>,
    /// What.
    pub mark: Mark,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_head_knows_what_its_state_includes_and_touched() {
        let head = |tick, used: Option<u32>| {
            let touched = [SolidId(3), SolidId(7), SolidId(9)].into_iter();
            StateHead::new(LabTime::ZERO, RecordTick(tick), used.map(RecordTick), touched, false)
        };
        for used in [None, Some(0), Some(95), Some(100), Some(107)] {
            assert_eq!(head(100, used).used(), used.map(RecordTick));
        }
        assert_eq!(head(1, None).touched().collect::<Vec<_>>(), [SolidId(3), SolidId(7)]);
        assert_eq!(head(100_000, Some(0)).used(), Some(RecordTick(100_000 - 32_767)), "as far back as is told");
    }
}
