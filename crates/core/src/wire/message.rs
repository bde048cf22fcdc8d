//! The messages: their fields, how they are written and how they are read, side by side.
//!
//! | kind | goes | carries |
//! |---|---|---|
//! | hello | up | nothing: the envelope asks to join |
//! | welcome | down | the session's ticks and who you are |
//! | inputs | up | the last inputs, newest first, one for each tick |
//! | snapshot | down | a tick, what became of your inputs, every entity's state |
//! | claim | up | the newest state and the last positions of an owner who decides them |
//! | pull back | down | where the guard wants you, with an epoch |

use super::bits::{BitReader, BitWriter};
use super::datagram::Header;
use super::{MAX_DATAGRAM, WireError};
use crate::data::{Input, State};
use crate::schema::{InputKind, Schema, SeenBy, Shape};
use crate::session::{Kinds, Layouts};
use crate::tick::WireTick;
use crate::vec3::{Vec3, vec3};

/// The most ticks an input or claim message covers.
pub const MAX_REPEATS: usize = 16;

/// Teleports are counted modulo 2^3.
pub const TELEPORT_BITS: u32 = 3;

/// The number that names a message in the envelope.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MessageKind {
    /// Asks to join.
    Hello = 0,
    /// Lets somebody join.
    Welcome = 1,
    /// Inputs going up.
    Inputs = 2,
    /// A snapshot coming down.
    Snapshot = 3,
    /// Positions going up.
    Claim = 4,
    /// The guard's answer.
    PullBack = 5,
}

impl MessageKind {
    /// All kinds, in the order of their numbers.
    pub const ALL: [Self; 6] = [Self::Hello, Self::Welcome, Self::Inputs, Self::Snapshot, Self::Claim, Self::PullBack];

    pub(super) fn from_number(number: u8) -> Result<Self, WireError> {
        Self::ALL.get(usize::from(number)).copied().ok_or(WireError::Kind(number))
    }
}

/// What a newcomer must know.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Welcome {
    /// Tick from which due times are counted.
    pub base: u64,
    /// Server time since that tick, in microseconds, when this was sent.
    pub since_base_us: u64,
    /// Ticks a second.
    pub rate: u16,
    /// Ticks from snapshot to snapshot.
    pub snapshot_every: u8,
    /// How far apart the server's frames are, in microseconds: inputs wait for the next one.
    pub frame_us: u32,
    /// The entity you own.
    pub entity: u16,
    /// Its kind.
    pub kind: u8,
}

/// Inputs of consecutive ticks. Press lanes hold running counters, not presses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Inputs {
    /// Tick of the first.
    pub newest: WireTick,
    /// How many, 1 to [`MAX_REPEATS`].
    pub count: usize,
    /// Newest first.
    pub inputs: [Input; MAX_REPEATS],
}

/// How the server came by the input of a tick.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Provenance {
    /// As it was sent.
    Fresh = 0,
    /// Made up: the last one's keys held on.
    #[default]
    Repeated = 1,
    /// Made up, and the true one came afterwards.
    Late = 2,
}

/// What became of the receiver's inputs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct InputReport {
    /// Newest input tick that the state includes.
    pub used: WireTick,
    /// How that one came about.
    pub provenance: Provenance,
    /// Least margin of inputs that arrived since the last report, in quarter ticks; `None` if none did.
    pub margin: Option<i8>,
}

/// One entity in a snapshot.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EntityRef {
    /// Which.
    pub id: u16,
    /// Which of those that had this id.
    pub generation: u8,
    /// Index into the session's kinds.
    pub kind: u8,
    /// Counts teleports, modulo 2^3.
    pub teleports: u8,
    /// Whether the receiver owns it: lanes are then exact.
    pub own: bool,
}

/// One entity's state as received.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EntityRecord {
    /// Which entity.
    pub entity: EntityRef,
    /// Its state; what may not be seen is zero.
    pub state: State,
}

/// Everybody at one tick.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Snapshot {
    /// The tick shown.
    pub tick: WireTick,
    /// Ticks until the next one.
    pub every: u8,
    /// About the receiver's inputs.
    pub report: Option<InputReport>,
    /// All entities.
    pub entities: Vec<EntityRecord>,
}

/// Where an owner says it is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Claim {
    /// Tick of the newest.
    pub newest: WireTick,
    /// The pull back this continues from.
    pub epoch: u8,
    /// First tick of this epoch: nothing older is claimed.
    pub since: WireTick,
    /// The state at the newest tick, rounded as for others.
    pub state: State,
    /// How many positions before it, 0 to [`MAX_REPEATS`] − 1.
    pub count: usize,
    /// Those positions, newest first.
    pub trail: [Vec3; MAX_REPEATS],
}

/// Where the guard wants an owner.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PullBack {
    /// Claims must carry this from now on.
    pub epoch: u8,
    /// The server's tick when it was written: it names the layout of the state.
    pub tick: WireTick,
    /// Continue from this, exactly.
    pub state: State,
}

/// Any message.
#[expect(clippy::large_enum_variant, reason = "it lives for one call, on the stack; a box would allocate per packet")]
#[derive(Clone, Debug, PartialEq)]
pub enum Message {
    /// See [`MessageKind::Hello`].
    Hello,
    /// See [`Welcome`].
    Welcome(Welcome),
    /// See [`Inputs`].
    Inputs(Inputs),
    /// See [`Snapshot`].
    Snapshot(Snapshot),
    /// See [`Claim`].
    Claim(Claim),
    /// See [`PullBack`].
    PullBack(PullBack),
}

impl Message {
    /// Reads the message behind `header`, in the layouts of the ticks it is about.
    ///
    /// # Errors
    /// Whatever is wrong with the bytes; see [`WireError`].
    pub fn read(header: &Header, mut from: BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        if from.left() > MAX_DATAGRAM as u32 * 8 {
            return Err(WireError::Long((from.left() / 8) as usize));
        }
        let from = &mut from;
        let message = match header.kind {
            MessageKind::Hello => Self::Hello,
            MessageKind::Welcome => Self::Welcome(Welcome::read(from)?),
            MessageKind::Inputs => Self::Inputs(Inputs::read_for(from, layouts)?),
            MessageKind::Snapshot => Self::Snapshot(Snapshot::read(from, layouts)?),
            MessageKind::Claim => Self::Claim(Claim::read(from, layouts)?),
            MessageKind::PullBack => Self::PullBack(PullBack::read(from, layouts)?),
        };
        if from.is_finished() { Ok(message) } else { Err(WireError::LeftOver { kind: header.kind, bits: from.left() }) }
    }
}

impl Welcome {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter) {
        out.long(self.base);
        out.long(self.since_base_us);
        out.put(u32::from(self.rate), 16);
        out.put(u32::from(self.snapshot_every), 8);
        out.put(self.frame_us, 32);
        out.put(u32::from(self.entity), 16);
        out.put(u32::from(self.kind), 8);
    }

    fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        let welcome = Self {
            base: from.long()?,
            since_base_us: from.long()?,
            rate: from.take(16)? as u16,
            snapshot_every: from.take(8)? as u8,
            frame_us: from.take(32)?,
            entity: from.take(16)? as u16,
            kind: from.take(8)? as u8,
        };
        ranged("tick rate", u32::from(welcome.rate), 1, 1000)?;
        ranged("snapshot interval", u32::from(welcome.snapshot_every), 1, 255)?;
        // Beyond a century of microseconds, sums of times would overflow.
        ranged("high half of the server time", (welcome.since_base_us >> 32) as u32, 0, 1 << 19)?;
        ranged("high half of the base tick", (welcome.base >> 32) as u32, 0, 1 << 19)?;
        Ok(welcome)
    }
}

fn ranged(what: &'static str, found: u32, least: u32, most: u32) -> Result<u32, WireError> {
    if (least..=most).contains(&found) { Ok(found) } else { Err(WireError::Count { what, found, least, most }) }
}

impl Inputs {
    /// Appends the message: the newest whole, each older one as "the same" or whole, in the layout of its own tick.
    pub fn write(&self, out: &mut BitWriter, layouts: &Layouts<'_>) {
        out.put(u32::from(self.newest.0), 16);
        out.put(self.count as u32 - 1, 4);
        write_input(out, layouts.own(self.newest), &self.inputs[0]);
        for (i, pair) in self.inputs[..self.count].windows(2).enumerate() {
            out.flag(pair[0] == pair[1]);
            if pair[0] != pair[1] {
                write_input(out, layouts.own(self.tick(i + 1)), &pair[1]);
            }
        }
    }

    /// The tick of one of the inputs.
    const fn tick(&self, back: usize) -> WireTick {
        WireTick(self.newest.0.wrapping_sub(back as u16))
    }

    /// Reads the message behind its envelope.
    ///
    /// # Errors
    /// [`WireError::Short`] when the bytes end early.
    pub fn read_for(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let newest = WireTick(from.take(16)? as u16);
        let count = from.take(4)? as usize + 1;
        let mut read = Self { newest, count, inputs: [Input::default(); MAX_REPEATS] };
        for i in 0..count {
            let same = i > 0 && from.flag()?;
            read.inputs[i] = if same { read.inputs[i - 1] } else { read_input(from, layouts.own(read.tick(i)))? };
        }
        Ok(read)
    }
}

fn write_input(out: &mut BitWriter, schema: &Schema, input: &Input) {
    for f in &schema.input {
        match f.kind.quantiser() {
            Some(q) => (f.lane..f.lane + f.kind.lanes()).for_each(|lane| out.put(q.encode(input.real(lane)), q.bits())),
            None if f.kind == InputKind::Held => out.flag(input.flag(f.lane)),
            None => out.put(input.int(f.lane), f.kind.bits()),
        }
    }
}

fn read_input(from: &mut BitReader<'_>, schema: &Schema) -> Result<Input, WireError> {
    let mut input = Input::default();
    for f in &schema.input {
        match f.kind.quantiser() {
            Some(q) => {
                for lane in f.lane..f.lane + f.kind.lanes() {
                    input.set_real(lane, q.decode(from.take(q.bits())?));
                }
            }
            None if f.kind == InputKind::Held => input.set_flag(f.lane, from.flag()?),
            None => input.set_int(f.lane, from.take(f.kind.bits())?),
        }
    }
    Ok(input)
}

/// Writes what others may know, rounded.
fn write_seen(out: &mut BitWriter, schema: &Schema, state: &State) {
    for f in schema.state.iter().filter(|f| f.seen_by == SeenBy::All) {
        for lane in f.lane..f.lane + f.shape.lanes() {
            match f.shape {
                Shape::Flag => out.flag(state.flag(lane)),
                Shape::Counter => out.put(state.int(lane), f.lane_bits()),
                _ => out.put(f.wire.encode(state.real(lane)), f.lane_bits()),
            }
        }
    }
}

fn read_seen(from: &mut BitReader<'_>, schema: &Schema) -> Result<State, WireError> {
    let mut state = State::default();
    for f in schema.state.iter().filter(|f| f.seen_by == SeenBy::All) {
        for lane in f.lane..f.lane + f.shape.lanes() {
            match f.shape {
                Shape::Flag => state.set_flag(lane, from.flag()?),
                Shape::Counter => state.set_int(lane, from.take(f.lane_bits())?),
                _ => state.set_real(lane, f.wire.decode(from.take(f.lane_bits())?)),
            }
        }
    }
    Ok(state)
}

/// Writes every lane as it is.
fn write_exact(out: &mut BitWriter, schema: &Schema, state: &State) {
    for f in &schema.state {
        for lane in f.lane..f.lane + f.shape.lanes() {
            if f.shape == Shape::Flag { out.flag(state.flag(lane)) } else { out.put(state.int(lane), 32) }
        }
    }
}

fn read_exact(from: &mut BitReader<'_>, schema: &Schema) -> Result<State, WireError> {
    let mut state = State::default();
    for f in &schema.state {
        for lane in f.lane..f.lane + f.shape.lanes() {
            match f.shape {
                Shape::Flag => state.set_flag(lane, from.flag()?),
                Shape::Counter => state.set_int(lane, from.take(32)?),
                _ => {
                    let value = f32::from_bits(from.take(32)?);
                    if !value.is_finite() {
                        return Err(WireError::NotFinite(f.name));
                    }
                    state.set_real(lane, value);
                }
            }
        }
    }
    Ok(state)
}

/// Bits of a snapshot without its entities, with its envelope and a report.
const SNAPSHOT_BITS: u32 = Header::BITS + 16 + 8 + 1 + (16 + 2 + 1 + 8) + 8;
/// Bits of an entity in a snapshot without its state.
const ENTITY_BITS: u32 = 16 + 8 + 8 + TELEPORT_BITS + 1;

/// Bytes of the longest snapshot that any owner of one of these entities gets: its own exactly, the others rounded.
pub fn snapshot_bytes<'a>(entities: impl Iterator<Item = &'a Schema>) -> usize {
    let (mut bits, mut own) = (SNAPSHOT_BITS, 0);
    for schema in entities {
        bits += ENTITY_BITS + schema.seen_bits();
        own = own.max(schema.exact_bits().saturating_sub(schema.seen_bits()));
    }
    (bits + own).div_ceil(8) as usize
}

/// Appends a snapshot of `entities`, whose number must be at most 255.
pub fn write_snapshot<'a>(
    out: &mut BitWriter,
    tick: WireTick,
    every: u8,
    report: Option<InputReport>,
    kinds: &Kinds,
    entities: impl ExactSizeIterator<Item = (EntityRef, &'a State)>,
) {
    out.put(u32::from(tick.0), 16);
    out.put(u32::from(every), 8);
    out.flag(report.is_some());
    if let Some(report) = report {
        out.put(u32::from(report.used.0), 16);
        out.put(report.provenance as u32, 2);
        out.flag(report.margin.is_some());
        out.put(u32::from(report.margin.unwrap_or(0) as u8), 8);
    }
    out.put(entities.len() as u32, 8);
    for (entity, state) in entities {
        out.put(u32::from(entity.id), 16);
        out.put(u32::from(entity.generation), 8);
        out.put(u32::from(entity.kind), 8);
        out.put(u32::from(entity.teleports), TELEPORT_BITS);
        out.flag(entity.own);
        let schema = kinds.motion(entity.kind).schema();
        if entity.own { write_exact(out, schema, state) } else { write_seen(out, schema, state) }
    }
}

impl Snapshot {
    fn read(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let tick = WireTick(from.take(16)? as u16);
        let kinds = layouts.kinds(tick);
        let every = ranged("snapshot interval", from.take(8)?, 1, 255)? as u8;
        let report = if from.flag()? {
            let used = WireTick(from.take(16)? as u16);
            let provenance = match ranged("input provenance", from.take(2)?, 0, 2)? {
                0 => Provenance::Fresh,
                1 => Provenance::Repeated,
                _ => Provenance::Late,
            };
            let known = from.flag()?;
            let margin = from.take(8)? as u8 as i8;
            Some(InputReport { used, provenance, margin: known.then_some(margin) })
        } else {
            None
        };
        let count = from.take(8)?;
        // An entity takes at least 36 bits: what is reserved is bounded by what arrived.
        let mut entities = Vec::with_capacity((count.min(from.left() / 36)) as usize);
        for _ in 0..count {
            let entity = EntityRef {
                id: from.take(16)? as u16,
                generation: from.take(8)? as u8,
                kind: from.take(8)? as u8,
                teleports: from.take(TELEPORT_BITS)? as u8,
                own: from.flag()?,
            };
            let schema = kinds.get(entity.kind).ok_or(WireError::EntityKind(entity.kind))?.schema();
            let state = if entity.own { read_exact(from, schema)? } else { read_seen(from, schema)? };
            entities.push(EntityRecord { entity, state });
        }
        Ok(Self { tick, every, report, entities })
    }
}

impl Claim {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter, schema: &Schema) {
        out.put(u32::from(self.newest.0), 16);
        out.put(u32::from(self.epoch), 8);
        out.put(u32::from(self.since.0), 16);
        write_seen(out, schema, &self.state);
        out.put(self.count as u32, 4);
        let q = schema.state[0].wire;
        for p in &self.trail[..self.count] {
            for x in [p.x, p.y, p.z] {
                out.put(q.encode(x), q.bits());
            }
        }
    }

    fn read(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let newest = WireTick(from.take(16)? as u16);
        let schema = layouts.own(newest);
        let epoch = from.take(8)? as u8;
        let since = WireTick(from.take(16)? as u16);
        let state = read_seen(from, schema)?;
        let count = from.take(4)? as usize;
        let q = schema.state[0].wire;
        let mut trail = [Vec3::ZERO; MAX_REPEATS];
        for p in &mut trail[..count] {
            let mut next = || from.take(q.bits()).map(|code| q.decode(code));
            *p = vec3(next()?, next()?, next()?);
        }
        Ok(Self { newest, epoch, since, state, count, trail })
    }
}

impl PullBack {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter, schema: &Schema) {
        out.put(u32::from(self.epoch), 8);
        out.put(u32::from(self.tick.0), 16);
        write_exact(out, schema, &self.state);
    }

    fn read(from: &mut BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let (epoch, tick) = (from.take(8)? as u8, WireTick(from.take(16)? as u16));
        Ok(Self { epoch, tick, state: read_exact(from, layouts.own(tick))? })
    }
}
