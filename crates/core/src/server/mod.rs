//! The machine that decides.
//!
//! A [`Server`] takes one input for each player and tick from a short buffer, runs the rule, judges the claims of
//! owners who move themselves, and sends everybody a snapshot every n-th tick.
//!
//! The loop around it, once a frame:
//!
//! 1. [`handle_datagram`](Server::handle_datagram) for each datagram that came in,
//! 2. [`handle_time`](Server::handle_time): runs the ticks due,
//! 3. [`poll_transmit`](Server::poll_transmit) until it is empty.

mod guard;
mod input_buffer;
mod peer;

pub use guard::{Answer, Rule, Verdict};
pub use peer::PeerConfig;

use std::collections::VecDeque;
use std::sync::Arc;

use thiserror::Error;

use guard::Ruling;
use peer::{Control, Peer};

use crate::client::Arrangement;
use crate::data::State;
use crate::event::{Event, Sink, tell};
use crate::frame::Frame;
use crate::motion::{Contacts, checked_step};
use crate::session::{Ingredients, Kinds, Layouts, Timeline};
use crate::tick::{HostNanos, Rate, Tick};
use crate::tick_loop::TickLoop;
use crate::vec3::Vec3;
use crate::wire::{
    BitReader, BitWriter, EntityRef, Header, MAX_DATAGRAM, Message, MessageKind, PullBack, TELEPORT_BITS, Welcome,
    WireError, snapshot_bytes, write_snapshot,
};

/// A connection at the server, by number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct PeerId(pub u16);

/// What a server is made with.
#[derive(Clone, Debug)]
pub struct ServerConfig {
    /// Ticks a second.
    pub rate: Rate,
    /// The number of the tick that counts as run when the clock reads `start`.
    pub base: Tick,
    /// When the session starts, on the server's clock.
    pub start: HostNanos,
    /// What it knows of the world.
    pub ingredients: Ingredients,
}

/// Why an entity cannot be added.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum SpawnError {
    /// A snapshot of everybody would not fit a datagram any more.
    #[error("a snapshot of {entities} entities takes {bytes} bytes; a datagram holds {MAX_DATAGRAM}")]
    SnapshotTooLong {
        /// Entities there would be.
        entities: usize,
        /// Bytes it would take.
        bytes: usize,
    },
    /// No rule has this number.
    #[error("entity kind {0} is not part of this session")]
    Kind(u8),
}

/// One entity as the server has it.
#[derive(Clone, Debug)]
struct Entity {
    id: u16,
    kind: u8,
    generation: u8,
    teleports: u8,
    state: State,
    /// Pushes to apply before the next step, in metres a second.
    push: Vec3,
}

/// States of all entities at one tick, by id.
type Moment = (Tick, Arc<[State]>);

/// The machine that decides. See the [module](self) for how to drive it.
#[derive(Clone, Debug)]
pub struct Server {
    ticks: TickLoop,
    timeline: Timeline,
    entities: Vec<Entity>,
    peers: Vec<Peer>,
    history: VecDeque<Moment>,
    outbox: VecDeque<(PeerId, Vec<u8>)>,
    frame: Frame,
    refused: u64,
}

impl Server {
    /// A server without anybody.
    pub fn new(config: ServerConfig) -> Self {
        Self {
            ticks: TickLoop::new(config.rate, config.base, config.start, config.start),
            timeline: Timeline::new(config.ingredients),
            entities: Vec::new(),
            peers: Vec::new(),
            history: VecDeque::new(),
            outbox: VecDeque::new(),
            frame: Frame::default(),
            refused: 0,
        }
    }

    /// Adds an entity and returns its id.
    ///
    /// # Errors
    /// When a snapshot of everybody would no longer fit a datagram, or the kind does not exist.
    pub fn spawn(&mut self, kind: u8, state: State) -> Result<u16, SpawnError> {
        if self.kinds().get(kind).is_none() {
            return Err(SpawnError::Kind(kind));
        }
        let id = self.entities.len() as u16;
        self.entities.push(Entity { id, kind, generation: 0, teleports: 0, state, push: Vec3::ZERO });
        let bytes = self.longest_snapshot(self.kinds());
        if bytes > MAX_DATAGRAM || self.entities.len() > 255 {
            self.entities.pop();
            return Err(SpawnError::SnapshotTooLong { entities: self.entities.len() + 1, bytes });
        }
        Ok(id)
    }

    /// The rules that hold last.
    fn kinds(&self) -> &Kinds {
        &self.timeline.latest().kinds
    }

    /// Whether everybody would still fit a snapshot with these rules.
    ///
    /// # Errors
    /// When not; says by how much.
    pub fn fits(&self, kinds: &Kinds) -> Result<(), SpawnError> {
        let bytes = self.longest_snapshot(kinds);
        if bytes > MAX_DATAGRAM {
            return Err(SpawnError::SnapshotTooLong { entities: self.entities.len(), bytes });
        }
        Ok(())
    }

    fn longest_snapshot(&self, kinds: &Kinds) -> usize {
        snapshot_bytes(self.entities.iter().map(|e| kinds.motion(e.kind).schema()))
    }

    /// Bytes it takes in memory, roughly: what grows with play and peers.
    pub fn bytes(&self) -> usize {
        let moment = self.entities.len() * size_of::<State>() + size_of::<Moment>();
        size_of::<Self>() + self.history.len() * moment + self.peers.iter().map(Peer::bytes).sum::<usize>()
    }

    /// Lets a client in; from its hello on it receives snapshots.
    pub fn admit(&mut self, config: PeerConfig) -> PeerId {
        let id = PeerId(self.peers.len() as u16);
        let state = self.entities[usize::from(config.entity)].state;
        let rate = self.ticks.rate();
        self.peers.push(Peer::new(config, rate, state));
        id
    }

    /// Takes a datagram from a peer.
    ///
    /// # Errors
    /// When it is none of ours; it is counted, dropped and nothing changes.
    pub fn handle_datagram<S: Sink>(
        &mut self,
        now: HostNanos,
        from: PeerId,
        bytes: &[u8],
        sink: &mut S,
    ) -> Result<(), WireError> {
        let done = self.datagram(now, from, bytes, sink);
        if done.is_err() {
            self.refused += 1;
        }
        done
    }

    fn datagram<S: Sink>(&mut self, now: HostNanos, from: PeerId, bytes: &[u8], sink: &mut S) -> Result<(), WireError> {
        let Some(peer) = self.peers.get_mut(usize::from(from.0)) else { return Ok(()) };
        let mut reader = BitReader::new(bytes);
        let header = Header::read(&mut reader)?;
        if header.epoch != peer.epoch || self.ticks.is_stale(now) {
            return Ok(());
        }
        let kind = self.entities[usize::from(peer.entity)].kind;
        // The clock, not the last tick run, says which ticks can be meant.
        let expected = self.ticks.tick_at(now);
        let layouts = Layouts::new(&self.timeline, Some(expected), kind);
        let message = Message::read(&header, reader, &layouts)?;
        let arrival = peer::Arrival { now, expected, ticks: &self.ticks, peer: from, layouts };
        match message {
            Message::Inputs(inputs) => {
                let newest = inputs.newest.unwrap_near(expected)?;
                if peer.acks.decoded(header.sequence, now) {
                    peer.inputs_arrived(&arrival, newest, &inputs, sink);
                }
            }
            Message::Claim(claim) => {
                let newest = claim.newest.unwrap_near(expected)?;
                let since = claim.since.unwrap_near(newest)?;
                if peer.acks.decoded(header.sequence, now) {
                    peer.claim_arrived(&arrival, newest, since, &claim, sink);
                }
            }
            Message::Hello => {
                if peer.acks.decoded(header.sequence, now) {
                    peer.joined = true;
                    let welcome = Welcome {
                        base: self.ticks.base().0,
                        since_base_us: (now.since(self.ticks.due(self.ticks.base())).max(0) / 1000) as u64,
                        rate: self.ticks.rate().hz() as u16,
                        snapshot_every: peer.snapshot_every,
                        frame_us: (self.frame.mean() / 1000).clamp(0, 1_000_000) as u32,
                        entity: peer.entity,
                        kind,
                    };
                    let mut out = BitWriter::new();
                    peer.acks.header(MessageKind::Welcome, peer.epoch, now).write(&mut out);
                    welcome.write(&mut out);
                    self.outbox.push_back((from, out.finish()));
                }
            }
            Message::Welcome(_) | Message::Snapshot(_) | Message::PullBack(_) => {}
        }
        Ok(())
    }

    /// Runs the ticks due at `now` and queues what they send.
    pub fn handle_time<S: Sink>(&mut self, now: HostNanos, sink: &mut S) {
        self.frame.passed(now);
        let due = self.ticks.advance(now);
        if due.dropped > 0 {
            let first = due.first.offset(-(due.dropped as i64));
            tell(sink, Event::ServerDropped { first, count: due.dropped });
            for peer in &mut self.peers {
                if let Control::Claims(guard) = &mut peer.control {
                    guard.sleep(due.dropped);
                }
            }
        }
        for tick in due.ticks() {
            self.tick(tick, sink);
            for index in 0..self.peers.len() {
                self.send_snapshot(now, tick, index);
            }
        }
    }

    fn tick<S: Sink>(&mut self, tick: Tick, sink: &mut S) {
        let rate = self.ticks.rate();
        for index in 0..self.entities.len() {
            let entity = &mut self.entities[index];
            let known = self.timeline.at(tick);
            let motion = known.kinds.motion(entity.kind);
            let scene = known.scene(tick, rate.dt(), entity.kind);
            let owner = self.peers.iter_mut().enumerate().find(|(_, p)| p.entity == entity.id);
            let mut contacts = Contacts::default();
            let mut teleported = false;
            if let Some((_, peer)) = owner.as_ref()
                && peer.arrangement() == Arrangement::OwnerClaims
            {
                // Its owner moves it; see `guard`.
                let Some((number, peer)) = owner else { continue };
                teleported = Self::judge(&scene, entity, motion, peer, PeerId(number as u16), rate, sink);
            } else {
                let input = match owner {
                    Some((number, peer)) => peer.input_for(tick, motion.schema(), PeerId(number as u16), sink),
                    None => Default::default(),
                };
                let mut before = entity.state;
                if let Some(lane) = motion.schema().velocity_lane().filter(|_| entity.push != Vec3::ZERO) {
                    let pushed = before.vec3(lane) + entity.push;
                    before.set_vec3(lane, pushed);
                }
                entity.push = Vec3::ZERO;
                match checked_step(motion, &scene, &before, &input) {
                    Ok(step) => {
                        entity.state = step.state;
                        contacts = step.contacts;
                        teleported = step.teleported;
                    }
                    Err(field) => tell(sink, Event::StepFault { entity: entity.id, tick, field }),
                }
            }
            if teleported {
                entity.teleports = (entity.teleports + 1) % (1 << TELEPORT_BITS);
            }
            let (id, state) = (entity.id, &entity.state);
            tell(sink, Event::Authority { entity: id, tick, state, contacts: &contacts, teleported });
        }
        self.history.push_back((tick, self.entities.iter().map(|e| e.state).collect()));
        if self.history.len() > rate.hz() as usize {
            self.history.pop_front();
        }
    }

    /// Lets the guard judge what an owner claims. Says whether the entity was put elsewhere.
    fn judge<S: Sink>(
        scene: &crate::motion::Scene<'_>,
        entity: &mut Entity,
        motion: &dyn crate::motion::Motion,
        peer: &mut Peer,
        id: PeerId,
        rate: Rate,
        sink: &mut S,
    ) -> bool {
        let tick = scene.tick;
        let Control::Claims(guard) = &mut peer.control else { return false };
        let before = entity.state;
        let (ruling, provenance) = guard.judge(scene, motion, rate, &mut entity.state);
        if guard.has_begun(tick) {
            tell(sink, Event::InputUsed { peer: id, tick, provenance });
        }
        match ruling {
            Ruling::Lawful => false,
            Ruling::Resync => {
                tell(sink, Event::Resync { peer: id, tick });
                false
            }
            Ruling::Guilty(mut verdict) => {
                verdict.peer = id;
                tell(sink, Event::Verdict(&verdict));
                before.vec3(0).distance(entity.state.vec3(0)) > 0.5
            }
        }
    }

    fn send_snapshot(&mut self, now: HostNanos, tick: Tick, index: usize) {
        let peer = &mut self.peers[index];
        if !peer.joined || !tick.since(self.ticks.base()).unsigned_abs().is_multiple_of(u64::from(peer.snapshot_every))
        {
            return;
        }
        let mut out = BitWriter::new();
        peer.acks.header(MessageKind::Snapshot, peer.epoch, now).write(&mut out);
        let own = peer.entity;
        let every = peer.snapshot_every;
        let report = peer.report(tick);
        let entities = self.entities.iter().map(|e| {
            let (id, kind, generation, teleports) = (e.id, e.kind, e.generation, e.teleports);
            (EntityRef { id, generation, kind, teleports, own: id == own }, &e.state)
        });
        let kinds = &self.timeline.at(tick).kinds;
        write_snapshot(&mut out, tick.wire(), every, report, kinds, entities);
        self.outbox.push_back((PeerId(index as u16), out.finish()));

        if let Control::Claims(guard) = &peer.control
            && let Some((epoch, state)) = guard.unanswered_pull()
        {
            let mut out = BitWriter::new();
            peer.acks.header(MessageKind::PullBack, peer.epoch, now).write(&mut out);
            let kind = self.entities[usize::from(own)].kind;
            PullBack { epoch, tick: tick.wire(), state }.write(&mut out, kinds.motion(kind).schema());
            self.outbox.push_back((PeerId(index as u16), out.finish()));
        }
    }

    /// The next datagram to send and to whom, if any.
    pub fn poll_transmit(&mut self) -> Option<(PeerId, Vec<u8>)> {
        self.outbox.pop_front()
    }

    /// When the next tick is due.
    pub fn deadline(&self) -> HostNanos {
        self.ticks.deadline()
    }

    /// The newest tick run.
    pub fn newest_tick(&self) -> Tick {
        self.ticks.newest()
    }

    /// An entity's state now.
    pub fn state(&self, entity: u16) -> Option<&State> {
        self.entities.get(usize::from(entity)).map(|e| &e.state)
    }

    /// An entity's state at a tick of the last second.
    pub fn state_at(&self, entity: u16, tick: Tick) -> Option<&State> {
        let moment = self.history.iter().rev().find(|(at, _)| *at == tick)?;
        moment.1.get(usize::from(entity))
    }

    /// Adds to an entity's velocity before its next step, in metres a second. Owners who claim are not moved by it.
    pub fn push(&mut self, entity: u16, velocity: Vec3) {
        if let Some(e) = self.entities.get_mut(usize::from(entity))
            && velocity.is_finite()
        {
            e.push += velocity;
        }
    }

    /// From the next tick on, the server knows the world so; not before a change already agreed on. Returns that tick.
    pub fn set_ingredients(&mut self, ingredients: Ingredients) -> Tick {
        let from = self.ticks.newest().next().max(self.timeline.last_change());
        self.timeline.change(from, ingredients);
        from
    }

    /// From `tick` on, or the next if that has passed, the server knows the world so. Returns that tick.
    pub fn set_ingredients_at(&mut self, tick: Tick, ingredients: Ingredients) -> Tick {
        let from = tick.max(self.ticks.newest().next());
        self.timeline.change(from, ingredients);
        from
    }

    /// What it knows of the world now.
    pub fn ingredients(&self) -> &Ingredients {
        self.timeline.latest()
    }

    /// Sends a peer a snapshot every `ticks`-th tick, 1 to 255.
    pub fn set_snapshot_every(&mut self, peer: PeerId, ticks: u8) {
        if let Some(peer) = self.peers.get_mut(usize::from(peer.0)) {
            peer.snapshot_every = ticks.max(1);
        }
    }

    /// Datagrams refused so far.
    pub const fn refused(&self) -> u64 {
        self.refused
    }
}
