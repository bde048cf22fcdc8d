//! Who comes into the world and goes out of it, and who owns whom.

use super::Server;
use super::config::SpawnError;
use crate::data::State;
use crate::event::Fact;
use crate::ids::{EntityId, Token};
use crate::session::{Kinds, Owned};
use crate::wire::{MAX_DATAGRAM, MOST_OWNERS, News, snapshot_bytes};
use crate::world::Entity;

impl Server {
    /// Adds an entity that nobody owns.
    ///
    /// # Errors
    /// When a snapshot of everybody would no longer fit a datagram, or the kind does not exist.
    pub fn spawn(&mut self, kind: u8, state: State) -> Result<EntityId, SpawnError> {
        self.spawn_with(kind, state, None)
    }

    pub(super) fn spawn_with(&mut self, kind: u8, state: State, with: Option<Token>) -> Result<EntityId, SpawnError> {
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
        if let Some(entity) = self.world.get_mut(id) {
            entity.came_with = with;
        }
        self.pending_facts.push(Fact::Born { entity: id, kind, with, tick: self.next_tick() });
        Ok(id)
    }

    /// Takes an entity out of the world, and tells everybody until they have understood.
    pub fn remove(&mut self, entity: EntityId) -> bool {
        let Some(removed) = self.world.remove(entity) else { return false };
        for peer in self.peers.iter_mut() {
            peer.give_up(entity);
            peer.unacknowledged.add(News::Gone(entity));
        }
        let tick = self.next_tick();
        let lost = removed.owners().iter().map(|&player| Fact::Owner { entity, tick, player, owns: false });
        self.pending_facts.extend(lost.chain([Fact::Gone { entity, tick }]));
        true
    }

    /// Says which players give an entity orders from the next tick on: none, one, or several. Of several the one whose new
    /// order arrived last is obeyed.
    ///
    /// # Errors
    /// When it is not there, there are more owners than can be told of, or a snapshot for one of them would no longer fit a
    /// datagram.
    pub fn set_owners(&mut self, entity: EntityId, owners: &[Token]) -> Result<(), SpawnError> {
        if owners.len() > MOST_OWNERS {
            return Err(SpawnError::Owners(owners.len()));
        }
        let Some(found) = self.world.get(entity) else { return Err(SpawnError::Gone(entity)) };
        let (before, kind, state) = (found.owners().to_vec(), found.kind(), *found.state());
        let comes = found.came_with.is_some();
        self.world.set_owners(entity, owners);
        if let Err(why) = self.fits(self.kinds()) {
            self.world.set_owners(entity, &before);
            return Err(why);
        }
        let (rate, now) = (self.ticks.rate(), self.ticks.newest());
        for peer in self.peers.iter_mut() {
            if owners.contains(&peer.token) {
                peer.take_over(Owned { entity, kind }, (rate, &self.policy), state, owners.len() > 1);
                let control = peer.control_mut(entity).filter(|_| !comes);
                control.into_iter().for_each(|control| control.take_over(now, rate));
            } else {
                peer.give_up(entity);
            }
        }
        let tick = self.next_tick();
        let told = |of: &[Token], not: &[Token], owns| -> Vec<Fact> {
            let changed = of.iter().filter(|player| !not.contains(player));
            changed.map(|&player| Fact::Owner { entity, tick, player, owns }).collect()
        };
        self.pending_facts.extend(told(&before, owners, false));
        self.pending_facts.extend(told(owners, &before, true));
        self.tell_owners(entity);
        Ok(())
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
    pub(super) fn longest_snapshot(&self, kinds: &Kinds) -> usize {
        let bytes = |own: &dyn Fn(&Entity) -> bool| {
            snapshot_bytes(self.world.iter().map(|e| (kinds.motion(e.kind()).schema(), own(e))))
        };
        let longest = self.world.iter().map(|e| match e.owners() {
            [] => bytes(&|other| other.id() == e.id()),
            owners => owners.iter().map(|o| bytes(&|other| other.owners().contains(o))).max().unwrap_or(0),
        });
        longest.max().unwrap_or(0)
    }
}
