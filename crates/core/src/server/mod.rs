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

mod claims;
mod control;
mod guard;
mod input_buffer;
mod peer;
mod peers;

pub use peer::PeerConfig;

use std::cmp::Reverse;
use std::collections::VecDeque;

use thiserror::Error;

use control::{Arrival, Made as Moved, Turn, stepped};
use peer::Peer;
use peers::Peers;

use crate::data::{Input, State};
use crate::event::{Fact, Made, Sink, StateEvent, show, tell};
use crate::frame::Frame;
use crate::ids::{EntityId, PeerId, Token};
use crate::session::{Ingredients, Kinds, Layouts, Owned, Timeline};
use crate::tick::{HostNanos, Rate, Tick};
use crate::tick_loop::TickLoop;
use crate::vec3::Vec3;
use crate::wire::{
    BitReader, BitWriter, EntityRef, Header, MAX_DATAGRAM, Message, MessageKind, PullBack, TELEPORT_BITS, Used,
    Welcome, WireError, snapshot_bytes, write_snapshot,
};
use crate::world::{Entity, World};

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
    /// It is not there, or no longer.
    #[error("there is no entity {0}")]
    Gone(EntityId),
}

/// The machine that decides. See the [module](self) for how to drive it.
#[derive(Clone, Debug)]
pub struct Server {
    ticks: TickLoop,
    timeline: Timeline,
    world: World,
    peers: Peers,
    outbox: VecDeque<(PeerId, Vec<u8>)>,
    frame: Frame,
    heard: u64,
    refused: u64,
}

impl Server {
    /// A server without anybody.
    pub fn new(config: ServerConfig) -> Self {
        Self {
            ticks: TickLoop::new(config.rate, config.base, config.start, config.start),
            timeline: Timeline::new(config.ingredients),
            world: World::default(),
            peers: Peers::default(),
            outbox: VecDeque::new(),
            frame: Frame::default(),
            heard: 0,
            refused: 0,
        }
    }

    /// Adds an entity that nobody owns.
    ///
    /// # Errors
    /// When a snapshot of everybody would no longer fit a datagram, or the kind does not exist.
    pub fn spawn(&mut self, kind: u8, state: State) -> Result<EntityId, SpawnError> {
        if self.kinds().get(kind).is_none() {
            return Err(SpawnError::Kind(kind));
        }
        let entities = self.world.len() + 1;
        let Some(id) = self.world.spawn(kind, state).filter(|_| entities <= 255) else {
            return Err(SpawnError::SnapshotTooLong { entities, bytes: self.longest_snapshot(self.kinds()) });
        };
        if let Err(why) = self.fits(self.kinds()) {
            self.world.remove(id);
            return Err(why);
        }
        Ok(id)
    }

    /// Takes an entity out of the world.
    pub fn remove(&mut self, entity: EntityId) -> bool {
        self.peers.iter_mut().for_each(|peer| peer.give_up(entity));
        self.world.remove(entity).is_some()
    }

    /// Says which players give an entity orders: none, one, or several. Of several the one who last said something new is
    /// obeyed.
    ///
    /// # Errors
    /// When it is not there, or a snapshot for one of them would no longer fit a datagram.
    pub fn set_owners(&mut self, entity: EntityId, owners: &[Token]) -> Result<(), SpawnError> {
        let Some(found) = self.world.get(entity) else { return Err(SpawnError::Gone(entity)) };
        let (before, kind, state) = (found.owners().to_vec(), found.kind(), *found.state());
        self.world.set_owners(entity, owners);
        if let Err(why) = self.fits(self.kinds()) {
            self.world.set_owners(entity, &before);
            return Err(why);
        }
        let rate = self.ticks.rate();
        for peer in self.peers.iter_mut() {
            if owners.contains(&peer.token) {
                peer.take_over(Owned { entity, kind }, rate, state);
            } else {
                peer.give_up(entity);
            }
        }
        Ok(())
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
            return Err(SpawnError::SnapshotTooLong { entities: self.world.len(), bytes });
        }
        Ok(())
    }

    /// Bytes of the longest snapshot that anybody can get; what nobody owns yet, somebody may.
    fn longest_snapshot(&self, kinds: &Kinds) -> usize {
        let bytes = |own: &dyn Fn(&Entity) -> bool| {
            snapshot_bytes(self.world.iter().map(|e| (kinds.motion(e.kind()).schema(), own(e))))
        };
        let longest = self.world.iter().map(|e| match e.owners() {
            [] => bytes(&|other| other.id() == e.id()),
            owners => owners.iter().map(|o| bytes(&|other| other.owners().contains(o))).max().unwrap_or(0),
        });
        longest.max().unwrap_or(0)
    }

    /// Bytes it takes in memory, roughly: what grows with play and peers.
    pub fn bytes(&self) -> usize {
        size_of::<Self>() + self.world.bytes() + self.peers.iter().map(Peer::bytes).sum::<usize>()
    }

    /// Lets a player in, by a new connection with the epoch that the server issues for it; an earlier one of the same player
    /// ends. From its hello on it receives snapshots. `None` when there is no place left.
    pub fn admit(&mut self, config: PeerConfig) -> Option<PeerId> {
        let id = self.peers.admit(config)?;
        let rate = self.ticks.rate();
        if let Some(peer) = self.peers.get_mut(id) {
            for e in self.world.iter().filter(|e| e.owners().contains(&config.token)) {
                peer.take_over(Owned { entity: e.id(), kind: e.kind() }, rate, *e.state());
            }
        }
        Some(id)
    }

    /// Ends a connection. What its player owned stays that player's.
    pub fn dismiss(&mut self, peer: PeerId) -> bool {
        self.peers.dismiss(peer)
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
        self.heard += 1;
        let done = self.datagram(now, from, bytes, sink);
        if done.is_err() {
            self.refused += 1;
        }
        done
    }

    fn datagram<S: Sink>(&mut self, now: HostNanos, from: PeerId, bytes: &[u8], sink: &mut S) -> Result<(), WireError> {
        let Some(peer) = self.peers.get_mut(from) else { return Ok(()) };
        let mut reader = BitReader::new(bytes);
        let header = Header::read(&mut reader)?;
        // Who says hello does not know its epoch yet.
        let ours = header.epoch == from.epoch || header.kind == MessageKind::Hello;
        if !ours || self.ticks.is_stale(now) {
            return Ok(());
        }
        // The clock, not the last tick run, says which ticks can be meant.
        let expected = self.ticks.tick_at(now);
        let message = Message::read(&header, reader, &Layouts::new(&self.timeline, Some(expected), peer.owned()))?;
        let layouts = Layouts::new(&self.timeline, Some(expected), &[]);
        let arrival = Arrival { now, expected, ticks: &self.ticks, heard: self.heard, peer: from, layouts };
        match message {
            Message::Inputs(inputs) => {
                let newest = inputs.newest.unwrap_near(expected)?;
                if peer.acks.decoded(header.sequence, now) {
                    peer.inputs(&arrival, newest, &inputs, sink);
                }
            }
            Message::Claim(claim) => {
                let newest = claim.newest.unwrap_near(expected)?;
                let since = claim.since.unwrap_near(newest)?;
                if peer.acks.decoded(header.sequence, now) {
                    peer.claim(&arrival, (newest, since), &claim, sink);
                }
            }
            Message::Hello(hello) => {
                if hello.token == peer.token && peer.acks.decoded(header.sequence, now) {
                    self.welcome(now, from, &header);
                }
            }
            Message::Welcome(_) | Message::Snapshot(_) | Message::PullBack(_) => {}
        }
        Ok(())
    }

    fn welcome(&mut self, now: HostNanos, to: PeerId, asked: &Header) {
        let Some(peer) = self.peers.get_mut(to) else { return };
        peer.joined = true;
        let welcome = Welcome {
            asked_us: asked.sent_us,
            slot: to.slot,
            base: self.ticks.base().0,
            since_base_us: (now.since(self.ticks.due(self.ticks.base())).max(0) / 1000) as u64,
            rate: self.ticks.rate().hz() as u16,
            snapshot_every: peer.snapshot_every,
            frame_us: (self.frame.mean() / 1000).clamp(0, 1_000_000) as u32,
            owned: peer.owned().to_vec(),
        };
        let mut out = BitWriter::new();
        peer.acks.header(MessageKind::Welcome, to.epoch, now).write(&mut out);
        welcome.write(&mut out);
        self.outbox.push_back((to, out.finish()));
    }

    /// Runs the ticks due at `now` and queues what they send.
    pub fn handle_time<S: Sink>(&mut self, now: HostNanos, sink: &mut S) {
        self.frame.passed(now);
        let due = self.ticks.advance(now);
        if due.dropped > 0 {
            let first = due.first.offset(-(due.dropped as i64));
            tell(sink, Fact::Dropped { first, count: due.dropped });
            self.peers.iter_mut().flat_map(Peer::controls_mut).for_each(|control| control.sleep(due.dropped));
        }
        for tick in due.ticks() {
            self.tick(tick, sink);
            self.send_snapshots(now, tick);
        }
    }

    fn tick<S: Sink>(&mut self, tick: Tick, sink: &mut S) {
        let rate = self.ticks.rate();
        let known = self.timeline.at(tick);
        for entity in self.world.iter_mut() {
            let (id, kind) = (entity.id(), entity.kind());
            let turn = Turn { scene: known.scene(tick, rate.dt(), kind), motion: known.kinds.motion(kind), rate };
            let Moved { contacts, teleported } = obeyed(&mut self.peers, entity, &turn, sink);
            if teleported {
                entity.teleports = (entity.teleports + 1) % (1 << TELEPORT_BITS);
            }
            let state = &entity.state;
            let owner = self.peers.iter().find_map(|p| p.control(id));
            let used = owner.and_then(|control| control.includes(tick).newest);
            let (made, contacts) = (Made::Authority, &contacts);
            show(sink, StateEvent { entity: id, tick, used, made, state, input: None, contacts, teleported });
        }
        self.world.remember(tick, rate.hz() as usize);
    }

    fn send_snapshots(&mut self, now: HostNanos, tick: Tick) {
        let passed = tick.since(self.ticks.base()).unsigned_abs();
        let kinds = &self.timeline.at(tick).kinds;
        for peer in self.peers.iter_mut() {
            if peer.joined && passed.is_multiple_of(u64::from(peer.snapshot_every)) {
                self.outbox.push_back((peer.id, snapshot(peer, &self.world, kinds, now, tick)));
                pull_backs(peer, kinds, now, tick, &mut self.outbox);
            }
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

    /// What there is.
    pub const fn world(&self) -> &World {
        &self.world
    }

    /// An entity's state now.
    pub fn state(&self, entity: EntityId) -> Option<&State> {
        self.world.get(entity).map(Entity::state)
    }

    /// Adds to an entity's velocity before its next step, in metres a second. Owners who decide are not moved by it.
    pub fn push(&mut self, entity: EntityId, velocity: Vec3) {
        self.world.push(entity, velocity);
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
        if let Some(peer) = self.peers.get_mut(peer) {
            peer.snapshot_every = ticks.max(1);
        }
    }

    /// Datagrams refused so far.
    pub const fn refused(&self) -> u64 {
        self.refused
    }
}

/// Makes a tick of an entity by the word of its owner; of several the one who last said something new.
fn obeyed<S: Sink>(peers: &mut Peers, entity: &mut Entity, turn: &Turn<'_>, sink: &mut S) -> Moved {
    let id = entity.id();
    if entity.owners().is_empty() {
        return stepped(turn, entity, &Input::default(), sink);
    }
    let spoke = |p: &Peer| p.control(id).map(|control| (control.spoke(), Reverse(p.id)));
    let obeyed = peers.iter().filter_map(spoke).max().map(|(_, Reverse(peer))| peer);
    let mut moved = None;
    for peer in peers.iter_mut() {
        let number = peer.id;
        match peer.control_mut(id) {
            Some(control) if Some(number) == obeyed => moved = Some(control.advance(number, turn, entity, sink)),
            Some(control) => control.stand_by(turn),
            None => {}
        }
    }
    moved.unwrap_or_else(|| stepped(turn, entity, &Input::default(), sink))
}

/// A snapshot for a peer.
fn snapshot(peer: &mut Peer, world: &World, kinds: &Kinds, now: HostNanos, tick: Tick) -> Vec<u8> {
    let mut out = BitWriter::new();
    peer.acks.header(MessageKind::Snapshot, peer.id.epoch, now).write(&mut out);
    let (every, margin) = (peer.snapshot_every, peer.margins.take());
    let peer = &*peer;
    let entities = world.iter().map(|e| {
        let own = peer.control(e.id()).map(|control| {
            let includes = control.includes(tick);
            Used { tick: includes.newest.unwrap_or(tick).wire(), made_up: includes.made_up }
        });
        (EntityRef { id: e.id(), kind: e.kind(), teleports: e.teleports, own }, e.state())
    });
    write_snapshot(&mut out, tick.wire(), every, margin, kinds, entities);
    out.finish()
}

/// Pull backs that a peer has not answered yet.
fn pull_backs(peer: &mut Peer, kinds: &Kinds, now: HostNanos, tick: Tick, outbox: &mut VecDeque<(PeerId, Vec<u8>)>) {
    let unanswered: Vec<(Owned, u8, State)> = peer
        .controls()
        .filter_map(|(owned, control)| control.unanswered_pull().map(|(epoch, state)| (*owned, epoch, state)))
        .collect();
    for (Owned { entity, kind }, epoch, state) in unanswered {
        let mut out = BitWriter::new();
        peer.acks.header(MessageKind::PullBack, peer.id.epoch, now).write(&mut out);
        PullBack { entity, epoch, tick: tick.wire(), state }.write(&mut out, kinds.motion(kind).schema());
        outbox.push_back((peer.id, out.finish()));
    }
}
