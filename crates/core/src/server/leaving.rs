//! How a player goes: it says goodbye, or nothing for too long, or is dismissed. What came with it leaves the world; what
//! else it owned has an owner less.

use super::Server;
use super::control::Sentence;
use crate::event::{Fact, Sink, tell};
use crate::ids::{Address, EntityId, PeerId, Token};
use crate::session::Layouts;
use crate::tick::HostNanos;
use crate::wire::{BitReader, Ended, EndedBy, Header, Message, WireError};

impl Server {
    /// Ends a connection; its player may come again if it is still invited.
    pub fn dismiss(&mut self, now: HostNanos, peer: PeerId) -> bool {
        self.end(now, peer, EndedBy::Dismissal)
    }

    /// Counts a strike, or ends the connection of who may not play on.
    pub(super) fn carry_out(&mut self, now: HostNanos, from: PeerId, sentence: Sentence) {
        let (tick, rate) = (self.ticks.newest(), self.ticks.rate());
        let Some(peer) = self.peers.get_mut(from) else { return };
        let (rule, ends) = match sentence {
            Sentence::Strike(rule) => (rule, peer.strike(tick, rate, &self.policy.strikes)),
            Sentence::Disconnect(rule) => (rule, true),
        };
        if ends {
            let token = peer.token;
            self.end(now, from, EndedBy::Verdict(rule));
            // Or it would come again by another life.
            self.uninvite(token);
        }
    }

    pub(super) fn goodbye<S: Sink>(
        &mut self,
        now: HostNanos,
        from: Address,
        header: &Header,
        reader: BitReader<'_>,
        sink: &mut S,
    ) -> Result<(), WireError> {
        Message::read(header, reader, &Layouts::new(&self.timeline, None, &[]))?;
        match self.peers.at_mut(from).map(|peer| peer.id) {
            Some(peer) if peer.epoch == header.epoch => {
                self.end(now, peer, EndedBy::Leave);
                self.pending_facts.drain(..).for_each(|fact| tell(sink, fact));
            }
            // Of an earlier connection: it is over anyway.
            Some(_) => {}
            None => self.end_of_nobody(now, from, header),
        }
        Ok(())
    }

    /// Somebody speaks as if it had a connection.
    pub(super) fn end_of_nobody(&mut self, now: HostNanos, from: Address, header: &Header) {
        if self.door.has_time() {
            self.answer_stranger(now, from, header.epoch, &Message::Ended(Ended { why: EndedBy::Unknown }));
        }
    }

    /// Ends a connection and tells its player once. `false` when there is none.
    pub(super) fn end(&mut self, now: HostNanos, peer: PeerId, why: EndedBy) -> bool {
        let Some(ended) = self.peers.end(peer) else { return false };
        self.door.spend(ended.token, ended.life, now);
        self.pending_facts.push(Fact::Ended { peer, tick: self.next_tick(), why });
        self.disown(now, ended.token);
        self.answer_stranger(now, ended.at, peer.epoch, &Message::Ended(Ended { why }));
        true
    }

    /// Takes from a player all it owns.
    pub(super) fn disown(&mut self, now: HostNanos, player: Token) {
        let owned = self.world.iter().filter(|e| e.owners().contains(&player) || e.came_with == Some(player));
        for entity in owned.map(|e| e.id()).collect::<Vec<EntityId>>() {
            let Some(found) = self.world.get(entity) else { continue };
            if found.came_with == Some(player) {
                let state = *found.state();
                self.guests.left(player, state, now);
                self.remove(entity);
            } else {
                let others: Vec<Token> = found.owners().iter().copied().filter(|owner| *owner != player).collect();
                let fewer = self.set_owners(entity, &others);
                debug_assert!(fewer.is_ok(), "a snapshot for fewer owners is no longer: {fewer:?}");
            }
        }
    }

    /// Ends the connections of which nothing was heard for too long, and forgets how the long gone stood.
    pub(super) fn end_the_silent(&mut self, now: HostNanos) {
        let limit = i64::from(self.patience.gone_ms) * 1_000_000;
        let silent = self.peers.iter().filter(|peer| now.since(peer.heard) >= limit).map(|peer| peer.id);
        for peer in silent.collect::<Vec<PeerId>>() {
            self.end(now, peer, EndedBy::Silence);
        }
        self.guests.forget(self.remembered_since(now));
    }

    /// Who left before that is not remembered.
    pub(super) fn remembered_since(&self, now: HostNanos) -> HostNanos {
        now.plus(-i64::from(self.patience.keep_ms) * 1_000_000)
    }

    /// How many of those who left are remembered as they stood.
    pub fn remembered(&self) -> usize {
        self.guests.remembered()
    }
}
