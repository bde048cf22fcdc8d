//! The machine that decides.
//!
//! A [`Server`] takes one input for each player and tick from a short buffer, runs the rule, judges the claims of
//! owners who move themselves, and sends everybody a snapshot every n-th tick.
//!
//! The loop around it stands on the front page of this crate.
//!
//! Players are [invited](Server::invite) by token and come by themselves; see `joining.rs` for how they are let in,
//! `leaving.rs` for how they go.

mod claims;
mod config;
mod control;
mod door;
mod echo;
pub(crate) mod guard;
mod guests;
mod input_buffer;
mod joining;
mod leaving;
mod missing;
mod peer;
mod peers;
mod settings;
mod spawning;
mod talk;
mod telling;

pub use config::{Patience, ServerConfig, SpawnError};
pub use guard::{Around, Carry, Check, ClaimCase, Finding, Footing, Going, checks};
pub use guests::Guest;
pub use missing::{Missing, Waiting};
pub use settings::PlayerSettings;

use std::cell::Cell;
use std::cmp::Reverse;
use std::collections::VecDeque;

use control::{Arrival, Moved, Sentence, Turn, stepped, tell_ignored};
use door::Door;
use echo::echoed;
use guests::Guests;
use missing::Gap;
use peer::{Peer, SaidBy};
use peers::{Owns, Peers};
use telling::{Shared, clock, pull_backs, snapshot, stream_snapshot};

use crate::data::{Input, State};
use crate::event::{Fact, Made, Sink, StateEvent, show, tell};
use crate::frame::Frame;
use crate::ids::{Address, EntityId, PeerId, Token};
use crate::policy::Policy;
use crate::session::{Ingredients, Kinds, Layouts, Timeline};
use crate::stream::Over;
use crate::tick::{HostNanos, Tick};
use crate::tick_loop::TickLoop;
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Rule};
use crate::wire::{BitReader, ClockTold, Header, Message, MessageKind, TELEPORT_BITS, WireError};
use crate::world::{Entity, World};

/// The machine that decides.
///
/// It takes one input for each player and tick from a short buffer, runs the rule, judges the claims of owners who move themselves, and
/// sends everybody a snapshot every n-th tick. Players are [invited](Server::invite) by token and come by themselves. The calling loop stands
/// on the [front page](crate).
#[derive(Clone, Debug)]
pub struct Server {
    ticks: TickLoop,
    timeline: Timeline,
    world: World,
    peers: Peers,
    guests: Guests,
    door: Door,
    patience: Patience,
    policy: Policy,
    outbox: VecDeque<(Address, Vec<u8>)>,
    /// What happened between two calls, not told yet.
    pending_facts: Vec<Fact>,
    frame: Frame,
    heard: u64,
    refused: u64,
}

impl Server {
    /// A server with nobody connected.
    pub fn new(config: ServerConfig) -> Self {
        Self {
            ticks: TickLoop::new(config.rate, config.base, config.start, config.start),
            timeline: Timeline::new(config.ingredients),
            world: World::default(),
            peers: Peers::default(),
            guests: Guests::default(),
            door: Door::new(config.secret),
            patience: config.patience,
            policy: config.policy,
            pending_facts: Vec::new(),
            outbox: VecDeque::new(),
            frame: Frame::default(),
            heard: 0,
            refused: 0,
        }
    }

    /// The next tick to be run: what is done now takes effect in it.
    fn next_tick(&self) -> Tick {
        self.ticks.newest().next()
    }

    /// The rules of the latest change.
    fn kinds(&self) -> &Kinds {
        &self.timeline.latest().kinds
    }

    /// Bytes it takes in memory, roughly: what grows with play and peers.
    pub fn bytes(&self) -> usize {
        size_of::<Self>() + self.world.bytes() + self.door.bytes() + self.peers.iter().map(Peer::bytes).sum::<usize>()
    }

    /// Takes a datagram that came from an address.
    ///
    /// # Errors
    /// When it cannot be read as one of ours: it is counted and dropped, and nothing changes.
    pub fn handle_datagram<S: Sink>(
        &mut self,
        now: HostNanos,
        from: Address,
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

    fn datagram<S: Sink>(
        &mut self,
        now: HostNanos,
        from: Address,
        bytes: &[u8],
        sink: &mut S,
    ) -> Result<(), WireError> {
        let mut reader = BitReader::new(bytes);
        let header = match Header::read(&mut reader) {
            Err(WireError::Version { found }) => {
                self.refuse_version(now, from, bytes.len(), sink);
                return Err(WireError::Version { found });
            }
            other => other?,
        };
        match header.kind {
            MessageKind::Hello => self.hello(now, from, &header, reader, sink),
            MessageKind::Goodbye => self.goodbye(now, from, &header, reader, sink),
            _ => match self.peers.at_mut(from).map(|peer| peer.id) {
                Some(peer) => self.word(now, peer, &header, reader, sink),
                None => {
                    self.end_of_nobody(now, from, &header);
                    Ok(())
                }
            },
        }
    }

    /// Takes what a player says of its entities.
    fn word<S: Sink>(
        &mut self,
        now: HostNanos,
        from: PeerId,
        header: &Header,
        reader: BitReader<'_>,
        sink: &mut S,
    ) -> Result<(), WireError> {
        if header.epoch != from.epoch || self.ticks.is_stale(now) {
            return Ok(());
        }
        // The clock, not the last tick run, says which ticks can be meant.
        let expected = self.ticks.tick_at(now);
        if !self.is_read(now, from, expected, sink) {
            return Ok(());
        }
        let Some(peer) = self.peers.get_mut(from) else { return Ok(()) };
        let said = SaidBy { peer, dt: self.ticks.rate().dt() };
        let layouts = Layouts::new(&self.timeline, Some(expected), peer.spoken_of()).hearing(&said);
        let message = Message::read(header, reader, &layouts);
        peer.note_read(message.as_ref());
        let message = message?;
        let layouts = Layouts::new(&self.timeline, Some(expected), &[]);
        let rate = self.ticks.rate();
        let arrival = Arrival {
            now,
            expected,
            ticks: &self.ticks,
            heard: self.heard,
            peer: from,
            policy: &self.policy,
            is_direct: Cell::new(true),
            sentence: Cell::new(None),
            layouts,
        };
        let taken = match message {
            Message::StreamUp(segment) => {
                if peer.understood(header, now, rate) {
                    peer.piece(now, header, segment);
                }
                peer.deliver(&arrival, &self.timeline, sink)
            }
            message => peer.take(&arrival, &message, |peer| peer.understood(header, now, rate), sink),
        };
        if let Some(sentence) = arrival.sentence.get() {
            self.carry_out(now, from, sentence);
        }
        taken
    }

    /// Whether one more datagram of a peer is read. Those that are not are reported once a second.
    fn is_read<S: Sink>(&mut self, now: HostNanos, from: PeerId, expected: Tick, sink: &mut S) -> bool {
        let rate = self.ticks.rate();
        let Some(peer) = self.peers.get_mut(from) else { return false };
        if peer.talk.is_read(expected, rate, (peer.controls().count(), peer.stream.is_some())) {
            return true;
        }
        let entity = peer.controls().next().map(|(owned, _)| owned.entity);
        if let (Some(unread), Some(entity)) = (peer.talk.unread(expected, rate), entity) {
            let second = expected.offset(-i64::from(rate.hz()));
            let evidence = Evidence::plain(Rule::Flood, (second, expected), unread as f32, 0.0);
            let whose = (from, entity, self.ticks.newest());
            if let Some(sentence) = tell_ignored(whose, evidence, &self.policy, sink) {
                self.carry_out(now, from, sentence);
            }
        }
        false
    }

    /// Runs the ticks due at `now` and queues what they send.
    pub fn handle_time<S: Sink>(&mut self, now: HostNanos, sink: &mut S) {
        self.frame.passed(now);
        self.end_the_silent(now);
        self.pending_facts.drain(..).for_each(|fact| tell(sink, fact));
        let due = self.ticks.advance(now);
        if due.count > 0 {
            self.door.tick(now);
        }
        if due.dropped > 0 {
            let first = due.first.offset(-(due.dropped as i64));
            tell(sink, Fact::Dropped { first, count: due.dropped });
            self.peers.iter_mut().flat_map(Peer::controls_mut).for_each(|control| control.sleep(due.dropped));
        }
        for tick in due.ticks() {
            for (peer, sentence) in self.tick(tick, sink) {
                self.carry_out(now, peer, sentence);
            }
            self.pending_facts.drain(..).for_each(|fact| tell(sink, fact));
            self.send_snapshots(now, tick, sink);
            self.tell_clock(now, tick);
        }
        self.peers.iter_mut().filter(|peer| peer.streams()).for_each(|peer| peer.send_pieces(now, &mut self.outbox));
    }

    /// Makes a tick of the world. Returns what is to be done about players for what they did.
    fn tick<S: Sink>(&mut self, tick: Tick, sink: &mut S) -> Vec<(PeerId, Sentence)> {
        let mut sentences = Vec::new();
        let rate = self.ticks.rate();
        let known = self.timeline.at(tick);
        let gap = Gap {
            missing: Missing::default(),
            hold: rate.ticks_of(self.patience.hold_ms),
            wait: 0,
            waiting: Waiting::default(),
            says_changes: false,
        };
        let owners = self.peers.owners();
        let tells_inputs = self.peers.iter().any(|peer| peer.settings.tells_inputs);
        for entity in self.world.iter_mut() {
            let (id, kind) = (entity.id(), entity.kind());
            let (scene, motion) = (known.scene(tick, rate.dt(), kind), known.kinds.motion(kind));
            let (timeline, policy) = (&self.timeline, &self.policy);
            let turn = Turn { scene, motion, timeline, policy, rate, gap, tells_inputs };
            let owners = owners.of(id);
            let Moved { contacts, teleported, sentence } = obeyed((&mut self.peers, owners), entity, &turn, sink);
            sentences.extend(sentence);
            if teleported {
                entity.teleports = (entity.teleports + 1) % (1 << TELEPORT_BITS);
            }
            let state = &entity.state;
            let owner = owners.first().and_then(|owner| self.peers.control(*owner));
            let used = owner.and_then(|control| control.includes(tick).newest);
            let (made, contacts) = (Made::Authority, &contacts);
            show(sink, StateEvent { entity: id, tick, used, made, state, input: None, contacts, teleported });
            let settings = owners.first().and_then(|owner| self.peers.settings(*owner));
            echoed(entity, settings, &turn, sink);
        }
        sentences
    }

    fn send_snapshots<S: Sink>(&mut self, now: HostNanos, tick: Tick, sink: &mut S) {
        let passed = tick.since(self.ticks.base()).unsigned_abs();
        let kinds = &self.timeline.at(tick).kinds;
        let rate = self.ticks.rate();
        let shared = Shared::new(&self.world, kinds, (tick, rate));
        for peer in self.peers.iter_mut() {
            if peer.is_told(passed, rate) {
                if peer.snapshots_over() == Over::Datagrams {
                    self.outbox.push_back((peer.at, snapshot(peer, &shared, now)));
                } else if !stream_snapshot(peer, &shared) {
                    tell(sink, Fact::StreamFull { peer: peer.id, up: false });
                }
                pull_backs(peer, kinds, now, tick, &mut self.outbox);
            }
        }
    }

    /// Tells who goes by it in which tick the server is.
    fn tell_clock(&mut self, now: HostNanos, tick: Tick) {
        let rate = self.ticks.rate();
        let passed = tick.since(self.ticks.base()).unsigned_abs();
        for peer in self.peers.iter_mut().filter(|peer| peer.settings.tells) {
            if passed.is_multiple_of(u64::from(rate.ticks_of(peer.settings.tell_every_ms).max(1))) {
                let told = ClockTold::new(tick, now.since(self.ticks.due(tick)), rate);
                self.outbox.push_back((peer.at, clock(peer, now, &told)));
            }
        }
    }

    /// The next datagram to send and to whom, if any.
    pub fn poll_transmit(&mut self) -> Option<(Address, Vec<u8>)> {
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

    /// Adds to an entity's velocity before its next step, in metres a second. Owners who decide are told, and
    /// it takes effect from the tick in which they hear of it. An entity whose owner is not judged is not moved.
    pub fn push(&mut self, entity: EntityId, velocity: Vec3) {
        self.world.push(entity, velocity);
    }

    /// Puts an entity elsewhere, at rest, before its next step: a teleport, which nobody draws as a slide. Owners who
    /// decide are told to go on from there. An entity whose owner is not judged is not moved.
    pub fn teleport(&mut self, entity: EntityId, to: Vec3) {
        self.world.put(entity, to);
    }

    /// Changes what the server knows of the world, from the next tick on or after a change already agreed on. Returns that tick.
    pub fn set_ingredients(&mut self, ingredients: Ingredients) -> Tick {
        let from = self.ticks.newest().next().max(self.timeline.last_change());
        self.timeline.change(from, ingredients);
        from
    }

    /// Changes what the server knows of the world, from `tick` on, or the next tick if that has passed. Returns that tick.
    pub fn set_ingredients_at(&mut self, tick: Tick, ingredients: Ingredients) -> Tick {
        let from = tick.max(self.ticks.newest().next());
        self.timeline.change(from, ingredients);
        from
    }

    /// What it knows of the world now.
    pub fn ingredients(&self) -> &Ingredients {
        self.timeline.latest()
    }

    /// Sets the multiple of what a rule says that is allowed from now on; see [`Policy::allowed`].
    pub const fn allow(&mut self, rule: Rule, times: f32) {
        self.policy.allowed[rule as usize] = times;
    }

    /// Does this for a player from now on, also when it comes again.
    pub fn set_settings(&mut self, player: Token, settings: PlayerSettings) {
        self.guests.set_settings(player, settings);
        let connected = self.peers.iter_mut().find(|peer| peer.token == player);
        connected.into_iter().for_each(|peer| peer.settings = settings.held());
    }

    /// Everybody who is connected: the connection, its address, its player.
    pub fn connections(&self) -> impl Iterator<Item = (PeerId, Address, Token)> {
        self.peers.iter().map(|peer| (peer.id, peer.at, peer.token))
    }

    /// What came into the world with a player, if it is there.
    pub fn body_of(&self, player: Token) -> Option<EntityId> {
        self.world.iter().find(|e| e.came_with == Some(player)).map(Entity::id)
    }

    /// The connection of a player.
    pub fn peer_of(&self, player: Token) -> Option<PeerId> {
        self.peers.of_player(player).map(|peer| peer.id)
    }

    /// Datagrams of strangers that were dropped for lack of time.
    pub const fn turned_away(&self) -> u64 {
        self.door.turned_away()
    }

    /// Datagrams refused so far.
    pub const fn refused(&self) -> u64 {
        self.refused
    }
}

/// Makes a tick of an entity with its owner's input; of several owners, that of the one who last sent something new.
fn obeyed<S: Sink>(
    (peers, owners): (&mut Peers, &[Owns]),
    entity: &mut Entity,
    turn: &Turn<'_>,
    sink: &mut S,
) -> Moved {
    let id = entity.id();
    if entity.owners().is_empty() {
        return stepped(turn, entity, &Input::default(), sink);
    }
    let mut obeyed = None;
    for owner in owners {
        if let Some((peer, _, control)) = peers.control_mut(*owner) {
            control.activate_until(turn.scene.tick);
            obeyed = obeyed.max(Some((control.spoke(), Reverse(peer))));
        }
    }
    if let Some((spoke, Reverse(peer))) = obeyed.filter(|_| entity.owners().len() > 1)
        && std::mem::replace(&mut entity.obeyed, spoke) != spoke
    {
        tell(sink, Fact::Obeyed { peer, entity: id, tick: turn.scene.tick });
    }
    let mut moved = None;
    for owner in owners {
        if let Some((peer, settings, control)) = peers.control_mut(*owner) {
            // Who shares an entity waits for nobody.
            let waits = settings.missing == Missing::Wait && entity.owners().len() == 1;
            let wait = if waits { settings.wait } else { 0 };
            let (missing, waiting, says_changes) = (settings.missing, settings.waiting, settings.says_changes);
            let gap = Gap { missing, wait, waiting, says_changes, ..turn.gap };
            let turn = &Turn { gap, ..*turn };
            if obeyed.is_some_and(|(_, Reverse(obeyed))| obeyed == peer) {
                moved = Some(control.advance(peer, turn, entity, sink));
            } else {
                control.stand_by(turn);
            }
        }
    }
    moved.unwrap_or_else(|| stepped(turn, entity, &Input::default(), sink))
}
