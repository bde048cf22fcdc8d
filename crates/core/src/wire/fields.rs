//! A datagram field by field: what it says, and in how many bits.
//!
//! Beside [`Message::read`](super::Message::read), which gives what it means, for people who want to see what it costs. The bits
//! of all fields add up to what was written.

use super::account::Account;
use super::bits::BitReader;
use super::claim::{Claim, PullBack};
use super::datagram::{Header, KIND, VERSION};
use super::error::WireError;
use super::hello::Hello;
use super::inputs::Inputs;
use super::kind::MessageKind;
use super::message::Message;
use super::news::News;
use super::segment::Segment;
use super::snapshot::{EntityRecord, Snapshot, TELEPORT_BITS};
use super::welcome::Welcome;
use crate::data::{Input, State};
use crate::field::{InputKind, SeenBy, Shape, StateField};
use crate::ids::EntityId;
use crate::schema::Schema;
use crate::session::Layouts;
use crate::tick::WireTick;

/// How many fields are the envelope's: they come first.
pub const ENVELOPE: usize = 9;

/// What a field says.
#[derive(Clone, Debug, PartialEq)]
pub enum FieldValue {
    /// A number.
    Number(u64),
    /// A number that may be below zero, in quarters.
    Quarters(i8),
    /// Yes or no.
    Flag(bool),
    /// A measure in a unit.
    Real(f32, &'static str),
    /// A tick, as it travels.
    Tick(WireTick),
    /// An entity.
    Entity(EntityId),
    /// Something in words.
    Words(String),
    /// Nothing: the field is there, and stands for nothing.
    Nothing,
}

/// A field of a datagram.
#[derive(Clone, Debug, PartialEq)]
pub struct WireField {
    /// Its name.
    pub name: String,
    /// Bits it takes.
    pub bits: u32,
    /// What it says.
    pub value: FieldValue,
    /// The entity that it is of, where it is of one among several.
    pub of: Option<EntityId>,
}

/// Who a rounded state is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum For {
    /// Everybody: without what only its owner may know.
    Others,
    /// The server, who may know all of it.
    Server,
}

impl For {
    /// What of it is for them.
    fn fields(self, schema: &Schema) -> impl Iterator<Item = &StateField> {
        schema.state.iter().filter(move |f| self == Self::Server || f.seen_by == SeenBy::All)
    }
}

/// Gathers fields.
struct Fields<'a> {
    all: Vec<WireField>,
    of: Option<EntityId>,
    layouts: &'a Layouts<'a>,
}

/// The fields of a datagram, read in the layouts of the ticks it is about.
///
/// # Errors
/// Whatever is wrong with the bytes.
pub fn fields(bytes: &[u8], layouts: &Layouts<'_>) -> Result<Vec<WireField>, WireError> {
    let mut from = BitReader::new(bytes);
    let header = Header::read(&mut from)?;
    let after = from.left();
    let message = Message::read(&header, from, layouts)?;
    let mut fields = Fields { all: Vec::new(), of: None, layouts };
    fields.envelope(&header);
    fields.message(&header, &message, after);
    Ok(fields.all)
}

impl Fields<'_> {
    fn put(&mut self, name: impl Into<String>, bits: u32, value: FieldValue) {
        self.all.push(WireField { name: name.into(), bits, value, of: self.of });
    }

    fn number(&mut self, name: &str, bits: u32, value: impl Into<u64>) {
        self.put(name, bits, FieldValue::Number(value.into()));
    }

    fn tick(&mut self, name: &str, tick: WireTick) {
        self.put(name, 16, FieldValue::Tick(tick));
    }

    fn entity(&mut self, id: EntityId) {
        self.put("entity", super::entity::ENTITY_ID_BITS, FieldValue::Entity(id));
    }

    fn envelope(&mut self, header: &Header) {
        let version = super::PROTOCOL_VERSION;
        self.number("version", VERSION.bits(u32::from(version)), version);
        self.put("acknowledges", 1, FieldValue::Flag(header.ack.is_some()));
        self.put("kind", KIND.bits(header.kind as u32), FieldValue::Words(header.kind.name().to_owned()));
        self.number("connection's epoch", 8, header.epoch);
        self.number("sequence", 16, header.sequence);
        match header.ack {
            Some(ack) => {
                self.number("newest decoded", 16, ack.newest);
                let before = format!("{} of 32", ack.mask.count_ones());
                self.put("decoded before", 32, FieldValue::Words(before));
                self.put("it waited", 16, FieldValue::Real(f32::from(ack.hold) / 10.0, "ms"));
            }
            None => [("newest decoded", 16), ("decoded before", 32), ("it waited", 16)]
                .into_iter()
                .for_each(|(name, bits)| self.put(name, bits, FieldValue::Nothing)),
        }
        self.put("sender's clock", 32, FieldValue::Real(header.sent_us as f32 / 1e3, "ms"));
    }

    /// What follows the envelope, `left` bits with what pads it to a byte.
    fn message(&mut self, header: &Header, message: &Message, left: u32) {
        match message {
            Message::Inputs(m) => self.newest_inputs(m),
            Message::Account(m) => self.account(m),
            Message::Claim(m) => self.claim(m),
            Message::PullBack(m) => self.pull_back(m),
            Message::Snapshot(m) => self.snapshot(m),
            Message::Hello(m) => self.hello(m),
            Message::Challenge(m) => {
                self.put("clock of the hello", 32, FieldValue::Real(m.asked_us as f32 / 1e3, "ms"));
                self.number("cookie", 64, m.cookie);
            }
            Message::Welcome(m) => self.welcome(m),
            Message::Refusal(m) => {
                self.put("clock of the hello", 32, FieldValue::Real(m.asked_us as f32 / 1e3, "ms"));
                self.put("reason", left.saturating_sub(32), FieldValue::Words(m.why.denied().name().to_owned()));
            }
            Message::Ended(m) => {
                let rule = m.why.rule().map_or(String::new(), |rule| format!(" by {}", rule.name()));
                self.put("reason", left, FieldValue::Words(format!("{}{rule}", m.why.name())));
            }
            Message::Clock(m) => {
                self.tick("tick", m.tick);
                self.put("of a tick since", 8, FieldValue::Real(f32::from(m.part) / 2.56, "%"));
            }
            Message::StreamUp(m) | Message::StreamDown(m) => self.segment(header, m),
            Message::Goodbye => {}
        }
    }

    /// A piece of a stream: what stands before its message, and that.
    fn segment(&mut self, header: &Header, m: &Segment) {
        self.number("piece", 16, m.head.number);
        self.number("expects piece", 16, m.head.expects);
        self.put("carries", 7, FieldValue::Words(m.head.kind.map_or("nothing", MessageKind::name).to_owned()));
        self.put("sent before", 1, FieldValue::Flag(m.head.again));
        let Some(kind) = m.head.kind else { return };
        let (header, reader) = (Header { kind, ..*header }, BitReader::new(&m.body));
        let left = reader.left();
        match Message::read(&header, reader, self.layouts) {
            Ok(message) => self.message(&header, &message, left),
            Err(why) if left > 0 => self.put("it cannot be read", left, FieldValue::Words(why.to_string())),
            Err(_) => {}
        }
    }

    fn newest_inputs(&mut self, m: &Inputs) {
        self.tick("newest tick", m.newest);
        self.entity(m.entity);
        self.number("further ticks", 4, m.count as u64 - 1);
        self.inputs(m.entity, m.newest, &m.inputs[..m.count]);
    }

    fn account(&mut self, m: &Account) {
        self.tick("newest tick", m.newest);
        self.entity(m.entity);
        self.number("pull back's epoch", 8, m.epoch);
        self.tick("since tick", m.since);
        self.number("further ticks", 4, m.count as u64 - 1);
        self.inputs(m.entity, m.newest, &m.inputs[..=m.count]);
        if let Some(kind) = self.layouts.kind(m.entity) {
            self.exact(self.layouts.schema(kind, m.newest), &m.state);
        }
    }

    fn claim(&mut self, m: &Claim) {
        self.tick("newest tick", m.newest);
        self.entity(m.entity);
        self.number("pull back's epoch", 8, m.epoch);
        self.tick("since tick", m.since);
        self.number("positions before", 4, m.count as u64);
        if let Some(kind) = self.layouts.kind(m.entity) {
            let schema = self.layouts.schema(kind, m.newest);
            self.rounded(schema, &m.state, For::Server);
            let bits = schema.state[0].wire.bits() * 3;
            for (i, p) in m.trail[..m.count].iter().enumerate() {
                let words = format!("{:.3}, {:.3}, {:.3} m", p.x, p.y, p.z);
                self.put(format!("{} before", i + 1), bits, FieldValue::Words(words));
            }
        }
    }

    fn pull_back(&mut self, m: &PullBack) {
        self.tick("tick", m.tick);
        self.entity(m.entity);
        self.number("epoch", 8, m.epoch);
        self.put("reason", 2, FieldValue::Words(m.reason.name().to_owned()));
        if let Some(kind) = self.layouts.kind(m.entity) {
            self.exact(self.layouts.schema(kind, m.tick), &m.state);
        }
    }

    fn snapshot(&mut self, m: &Snapshot) {
        self.tick("tick", m.head.tick);
        if m.inputs.is_some() {
            self.number("inputs follow", 8, 0u8);
        }
        self.number("ticks to the next", 8, m.head.every);
        self.put("margin known", 1, FieldValue::Flag(m.head.margin.is_some()));
        self.put("least margin", 8, m.head.margin.map_or(FieldValue::Nothing, FieldValue::Quarters));
        self.number("entities", 8, m.entities.len() as u64);
        self.news(&m.head.news);
        m.entities.iter().for_each(|record| self.record(record, m.head.tick));
        let others = m.entities.iter().filter(|record| record.entity.own.is_none());
        for (record, input) in others.zip(m.inputs.iter().flatten()) {
            self.of = Some(record.entity.id);
            self.put("input known", 1, FieldValue::Flag(input.is_some()));
            if let Some(input) = input {
                let schema = self.layouts.schema(record.entity.kind, m.head.tick);
                self.input(schema, input);
            }
        }
        self.of = None;
    }

    fn hello(&mut self, m: &Hello) {
        self.number("player's token", 64, m.token.0);
        self.number("life", 64, m.life.0);
        self.number("cookie", 64, m.cookie);
        self.number("rules", 8, m.kinds.len() as u64);
        for (i, kind) in m.kinds.iter().enumerate() {
            let print = format!("layout {:08x}, rule {:08x}", kind.layout, kind.rule);
            self.put(format!("rule {i}"), 64, FieldValue::Words(print));
        }
    }

    fn welcome(&mut self, m: &Welcome) {
        self.put("clock of the hello", 32, FieldValue::Real(m.asked_us as f32 / 1e3, "ms"));
        self.number("place", 16, m.slot);
        self.number("base tick", 64, m.base);
        self.put("since the base", 64, FieldValue::Real(m.since_base_us as f32 / 1e3, "ms"));
        self.put("tick rate", 16, FieldValue::Real(f32::from(m.rate), "Hz"));
        self.number("snapshot every", 8, m.snapshot_every);
        self.put("server's frames", 32, FieldValue::Real(m.frame_us as f32 / 1e3, "ms"));
        self.put("gone after", 32, FieldValue::Real(m.gone_ms as f32, "ms"));
    }

    fn news(&mut self, news: &[News]) {
        self.number("news", 8, news.len() as u64);
        for one in news {
            let words = match one {
                News::Gone(_) => "is gone".to_owned(),
                News::Owned(_, owners) => format!("belongs to {owners:?}"),
            };
            self.of = Some(one.entity());
            self.put("news", one.bits(), FieldValue::Words(words));
        }
        self.of = None;
    }

    fn record(&mut self, record: &EntityRecord, tick: WireTick) {
        let it = record.entity;
        self.of = Some(it.id);
        self.entity(it.id);
        self.number("rule", 8, it.kind);
        self.number("teleports", TELEPORT_BITS, it.teleports);
        self.put("own", 1, FieldValue::Flag(it.own.is_some()));
        let schema = self.layouts.schema(it.kind, tick);
        match it.own {
            Some(used) => {
                self.tick("used tick", used.tick);
                self.number("of these made up", 8, used.made_up);
                self.put("shared", 1, FieldValue::Flag(used.shared));
                self.exact(schema, &record.state);
            }
            None => self.rounded(schema, &record.state, For::Others),
        }
    }

    /// Inputs of consecutive ticks, newest first.
    fn inputs(&mut self, entity: EntityId, newest: WireTick, inputs: &[Input]) {
        for (back, input) in inputs.iter().enumerate() {
            let tick = WireTick(newest.0.wrapping_sub(back as u16));
            let same = back > 0 && *input == inputs[back - 1];
            if back > 0 {
                self.put(format!("{back} before: the same"), 1, FieldValue::Flag(same));
            }
            if !same && let Some(kind) = self.layouts.kind(entity) {
                self.input(self.layouts.schema(kind, tick), input);
            }
        }
    }

    fn input(&mut self, schema: &Schema, input: &Input) {
        for f in &schema.input {
            if matches!(f.kind, InputKind::Point { .. }) {
                let given = input.flag(f.given_lane());
                self.put(format!("{} given", f.name), 1, FieldValue::Flag(given));
                if !given {
                    continue;
                }
            }
            match f.kind.quantiser() {
                Some(q) => {
                    let lanes = f.lane..f.lane + f.kind.real_lanes();
                    let values: Vec<String> = lanes.clone().map(|lane| format!("{:.3}", input.real(lane))).collect();
                    self.put(f.name, q.bits() * lanes.len() as u32, FieldValue::Words(values.join(", ")));
                }
                None if f.kind == InputKind::Held => self.put(f.name, 1, FieldValue::Flag(input.flag(f.lane))),
                None => self.number(f.name, f.kind.bits(), input.int(f.lane)),
            }
        }
    }

    fn rounded(&mut self, schema: &Schema, state: &State, whom: For) {
        for f in whom.fields(schema) {
            self.lanes((f.name, f.unit), f.shape, f.lane, f.wire.bits(), state);
        }
    }

    fn exact(&mut self, schema: &Schema, state: &State) {
        for f in &schema.state {
            self.lanes((f.name, f.unit), f.shape, f.lane, 32, state);
        }
    }

    fn lanes(&mut self, (name, unit): (&str, &str), shape: Shape, lane: usize, bits: u32, state: &State) {
        match shape {
            Shape::Flag => self.put(name, 1, FieldValue::Flag(state.flag(lane))),
            Shape::Counter => self.number(name, 32, state.int(lane)),
            _ => {
                let lanes = lane..lane + shape.lanes();
                let values: Vec<String> = lanes.clone().map(|lane| format!("{:.3}", state.real(lane))).collect();
                let unit = if unit == "1" { String::new() } else { format!(" {unit}") };
                self.put(name, bits * lanes.len() as u32, FieldValue::Words(values.join(", ") + &unit));
            }
        }
    }
}
