//! How a player is let in.
//!
//! 1. A hello without what was asked back is answered by a challenge, and forgotten.
//! 2. A hello that repeats it is held against what the server has: the number and layouts of rules, whom it expects, which
//!    lives have ended. Who does not fit is refused in words, and forgotten.
//! 3. Otherwise a connection begins. Who had one already comes back to what it owned; who did not brings what it was invited
//!    with.
//! 4. Each further hello of the same life is answered by another welcome, until the player has measured enough.

use super::guests::Guest;
use super::{Server, SpawnError};
use crate::data::State;
use crate::event::{Fact, Sink, tell};
use crate::ids::{Address, EntityId, PeerId, Token};
use crate::session::{Layouts, Owned};
use crate::tick::HostNanos;
use crate::wire::{
    Acks, BitReader, BitWriter, Challenge, EndedBy, ForeignLayout, Header, Hello, Message, MessageKind, News, Refusal,
    RefusedFor, Welcome, WireError,
};
use crate::world::Entity;

impl Server {
    /// Invites a player from now on; a second invitation applies to its next connection.
    pub fn invite(&mut self, guest: Guest) {
        self.guests.invite(guest);
    }

    /// Takes an invitation back. A connection that the player has goes on.
    pub fn uninvite(&mut self, token: Token) {
        self.guests.uninvite(token);
    }

    /// Puts what an invited player comes with into the world before it has come. What is there already stays as it is.
    ///
    /// # Errors
    /// When it was not invited, nothing comes with it, or a snapshot of everybody would no longer fit a datagram.
    pub fn bring(&mut self, token: Token, now: HostNanos) -> Result<EntityId, SpawnError> {
        if let Some(there) = self.body_of(token) {
            return Ok(there);
        }
        let guest = self.guests.of(token, self.remembered_since(now)).ok_or(SpawnError::Uninvited)?;
        let (kind, state) = guest.body.ok_or(SpawnError::Uninvited)?;
        let entity = self.spawn_with(kind, state, Some(token))?;
        if let Err(why) = self.set_owners(entity, &[token]) {
            self.remove(entity);
            return Err(why);
        }
        Ok(entity)
    }

    pub(super) fn hello<S: Sink>(
        &mut self,
        now: HostNanos,
        from: Address,
        header: &Header,
        reader: BitReader<'_>,
        sink: &mut S,
    ) -> Result<(), WireError> {
        let stranger = self.peers.at_mut(from).is_none();
        if stranger && !self.door.has_time() {
            return Ok(());
        }
        let layouts = Layouts::new(&self.timeline, None, &[]);
        let Message::Hello(hello) = Message::read(header, reader, &layouts)? else { return Ok(()) };
        let known = self.peers.at_mut(from).filter(|peer| (peer.token, peer.life) == (hello.token, hello.life));
        if let Some(peer) = known.map(|peer| peer.id) {
            self.welcome(now, peer, header);
        } else if !self.door.is_answer(now, from, &hello) {
            let cookie = self.door.cookie(now, from, hello.token, hello.life);
            self.answer_stranger(now, from, 0, &Message::Challenge(Challenge { asked_us: asked_us(header), cookie }));
        } else {
            match self.let_in(now, from, &hello) {
                Ok(peer) => self.welcome(now, peer, header),
                Err(why) => {
                    self.pending_facts.push(Fact::Refused { from, why: why.denied() });
                    let refusal = Refusal { asked_us: asked_us(header), why };
                    self.answer_stranger(now, from, 0, &Message::Refusal(refusal));
                }
            }
        }
        self.pending_facts.drain(..).for_each(|fact| tell(sink, fact));
        Ok(())
    }

    /// Begins a connection, or says why not.
    fn let_in(&mut self, now: HostNanos, from: Address, hello: &Hello) -> Result<PeerId, RefusedFor> {
        if self.door.is_spent(hello.token, hello.life) {
            return Err(RefusedFor::Over);
        }
        let differing = self.held_against(hello)?;
        let guest = self.guests.of(hello.token, self.remembered_since(now)).ok_or(RefusedFor::Unknown)?;
        let before = self.peers.of_player(hello.token).map(|peer| (peer.id, peer.life));
        // One address, one player: who comes from it now has shown that it is reached there.
        let other = self.peers.at_mut(from).filter(|peer| peer.token != hello.token).map(|peer| peer.id);
        if let Some(other) = other {
            self.end(now, other, EndedBy::Silence);
        }
        if let Some((peer, life)) = before {
            if life == hello.life {
                // The same life from elsewhere: it has shown that it is reached there.
                self.peers.get_mut(peer).into_iter().for_each(|peer| peer.at = from);
                return Ok(peer);
            }
            self.door.spend(hello.token, life, now);
            self.pending_facts.push(Fact::Ended { peer, tick: self.next_tick(), why: EndedBy::Return });
        }
        let peer = self.connect(now, from, hello, &guest)?;
        self.pending_facts.push(Fact::Connected { peer, from, tick: self.next_tick(), again: before.is_some() });
        self.pending_facts.extend(differing.into_iter().map(|kind| Fact::RuleDiffers { peer, kind }));
        Ok(peer)
    }

    /// The connection itself, with what its player owns and what it must know of others.
    fn connect(&mut self, now: HostNanos, from: Address, hello: &Hello, guest: &Guest) -> Result<PeerId, RefusedFor> {
        let id = self.peers.begin(from, hello.life, guest, now).ok_or(RefusedFor::Full)?;
        if guest.body.is_some() && self.bring(guest.token, now).is_err() {
            // A connection it had is over as well, and what it owned with it.
            self.peers.end(id);
            self.disown(now, guest.token);
            return Err(RefusedFor::Full);
        }
        let (rate, policy) = (self.ticks.rate(), self.policy.clone());
        let own = self.world.iter().filter(|e| e.owners().contains(&guest.token));
        let own: Vec<(Owned, State, bool)> =
            own.map(|e| (Owned { entity: e.id(), kind: e.kind() }, *e.state(), e.owners().len() > 1)).collect();
        // Its place may be another than it was.
        own.iter().for_each(|(owned, ..)| self.tell_owners(owned.entity));
        let owners = self.owners_of_all();
        if let Some(peer) = self.peers.get_mut(id) {
            own.into_iter().for_each(|(owned, state, shared)| peer.take_over(owned, (rate, &policy), state, shared));
            owners.into_iter().for_each(|news| peer.unacknowledged.add(news));
        }
        Ok(id)
    }

    /// The places of those who own an entity and are connected.
    fn places_of_owners(&self, entity: &Entity) -> Vec<u16> {
        entity.owners().iter().filter_map(|token| self.peers.of_player(*token)).map(|peer| peer.id.slot).collect()
    }

    /// Sends everybody news of who owns an entity.
    pub(super) fn tell_owners(&mut self, entity: EntityId) {
        let Some(owners) = self.world.get(entity).map(|entity| self.places_of_owners(entity)) else { return };
        for peer in self.peers.iter_mut() {
            peer.unacknowledged.add(News::Owned(entity, owners.clone()));
        }
    }

    /// The news of owners that a newcomer needs.
    pub(super) fn owners_of_all(&self) -> Vec<News> {
        let all = self.world.iter().map(|entity| (entity.id(), self.places_of_owners(entity)));
        all.filter(|(_, owners)| !owners.is_empty()).map(|(id, owners)| News::Owned(id, owners)).collect()
    }

    /// The rules of a hello that have the same layout and do something else than those here.
    ///
    /// # Errors
    /// When one of them has another layout, or their number differs.
    fn held_against(&self, hello: &Hello) -> Result<Vec<u8>, RefusedFor> {
        let kinds = self.kinds();
        let (here, there) = (kinds.prints(), &hello.kinds);
        if here.len() != there.len() {
            return Err(RefusedFor::Kinds(here.len() as u8));
        }
        if let Some(at) = here.iter().zip(there).position(|(a, b)| a.layout != b.layout) {
            let rule = kinds.motion(at as u8);
            return Err(RefusedFor::Layout(ForeignLayout::of(at as u8, rule.name(), rule.schema())));
        }
        let differing = here.iter().zip(there).enumerate().filter(|(_, (a, b))| a.rule != b.rule);
        Ok(differing.map(|(kind, _)| kind as u8).collect())
    }

    fn welcome(&mut self, now: HostNanos, to: PeerId, asked: &Header) {
        let rate = self.ticks.rate();
        let since_base = now.since(self.ticks.due(self.ticks.base())).max(0);
        let Some(peer) = self.peers.get_mut(to) else { return };
        if !peer.understood(asked, now, rate) {
            return;
        }
        let welcome = Welcome {
            asked_us: asked_us(asked),
            slot: to.slot,
            base: self.ticks.base().0,
            since_base_us: (since_base / 1000) as u64,
            rate: self.ticks.rate().hz() as u16,
            snapshot_every: peer.settings.snapshot_every,
            frame_us: (self.frame.mean() / 1000).clamp(0, 1_000_000) as u32,
            gone_ms: self.patience.gone_ms,
        };
        let mut out = BitWriter::new();
        peer.acks.header(MessageKind::Welcome, to.epoch, now).write(&mut out);
        welcome.write(&mut out);
        self.outbox.push_back((peer.at, out.finish()));
    }

    /// Tells a client of another version which version is spoken here, if the answer is no longer than its hello.
    pub(super) fn refuse_version<S: Sink>(&mut self, now: HostNanos, from: Address, bytes: usize, sink: &mut S) {
        if bytes >= VERSION_REFUSAL && self.peers.at_mut(from).is_none() && self.door.has_time() {
            tell(sink, Fact::Refused { from, why: RefusedFor::Version.denied() });
            let refusal = Refusal { asked_us: 0, why: RefusedFor::Version };
            self.answer_stranger(now, from, 0, &Message::Refusal(refusal));
        }
    }

    /// Answers somebody without a connection, and keeps nothing of it.
    pub(super) fn answer_stranger(&mut self, now: HostNanos, to: Address, epoch: u8, message: &Message) {
        let mut out = BitWriter::new();
        Acks::default().header(message.kind(), epoch, now).write(&mut out);
        message.write(&mut out, &Layouts::new(&self.timeline, None, &[]));
        self.outbox.push_back((to, out.finish()));
    }
}

/// Bytes of a refusal for speaking another version: a datagram shorter than its answer is not answered.
const VERSION_REFUSAL: usize = (Header::BARE_BITS as usize + 32 + 8).div_ceil(8);

/// The asker's clock, by which it knows an answer to its own hello.
fn asked_us(header: &Header) -> u32 {
    header.sent_us.unwrap_or_default()
}
