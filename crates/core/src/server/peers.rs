//! The connections at a server: places, and who has them.

use std::collections::VecDeque;

use super::control::Control;
use super::guests::Guest;
use super::peer::Peer;
use super::settings::PlayerSettings;
use crate::ids::{Address, EntityId, Life, PeerId, Token};
use crate::tick::HostNanos;

#[derive(Clone, Debug, Default)]
struct Slot {
    /// Of the next connection.
    epoch: u8,
    peer: Option<Peer>,
}

/// All of them.
#[derive(Clone, Debug, Default)]
pub(super) struct Peers {
    places: Vec<Slot>,
    /// Places without a connection, the one free for longest in front.
    free: VecDeque<u16>,
}

impl Peers {
    /// A connection begins. Who has one already comes anew, in the same place. `None` when every place there can be is taken.
    pub(super) fn begin(&mut self, at: Address, life: Life, guest: &Guest, now: HostNanos) -> Option<PeerId> {
        let slot = match self.of_player(guest.token) {
            Some(peer) => peer.id.slot,
            None => match self.free.pop_front() {
                Some(slot) => slot,
                None => {
                    let slot = u16::try_from(self.places.len()).ok()?;
                    self.places.push(Slot::default());
                    slot
                }
            },
        };
        let place = &mut self.places[usize::from(slot)];
        let id = PeerId { slot, epoch: place.epoch };
        place.epoch = place.epoch.wrapping_add(1);
        place.peer = Some(Peer::new(id, at, life, guest, now));
        Some(id)
    }

    /// A connection is no more.
    pub(super) fn end(&mut self, id: PeerId) -> Option<Peer> {
        self.get(id)?;
        self.free.push_back(id.slot);
        self.places[usize::from(id.slot)].peer.take()
    }

    /// The connection of an address.
    pub(super) fn at_mut(&mut self, at: Address) -> Option<&mut Peer> {
        self.iter_mut().find(|p| p.at == at)
    }

    /// A connection, if it is still the one in its place.
    pub(super) fn get(&self, id: PeerId) -> Option<&Peer> {
        self.places.get(usize::from(id.slot))?.peer.as_ref().filter(|p| p.id == id)
    }

    pub(super) fn get_mut(&mut self, id: PeerId) -> Option<&mut Peer> {
        self.places.get_mut(usize::from(id.slot))?.peer.as_mut().filter(|p| p.id == id)
    }

    /// The connection by which a player comes.
    pub(super) fn of_player(&self, token: Token) -> Option<&Peer> {
        self.iter().find(|p| p.token == token)
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &Peer> {
        self.places.iter().filter_map(|place| place.peer.as_ref())
    }

    pub(super) fn iter_mut(&mut self) -> impl Iterator<Item = &mut Peer> {
        self.places.iter_mut().filter_map(|place| place.peer.as_mut())
    }
}

/// That a connection's word moves an entity: the connection's place, and the control's among its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Owns {
    entity: EntityId,
    slot: u16,
    place: u16,
}

/// Whose word moves what, by entity: it holds as long as nobody comes, goes or takes over.
pub(super) struct Owners(Vec<Owns>);

impl Owners {
    /// Whose word moves an entity, in the order of their places.
    pub(super) fn of(&self, entity: EntityId) -> &[Owns] {
        let from = self.0.partition_point(|owns| owns.entity < entity);
        let count = self.0[from..].iter().take_while(|owns| owns.entity == entity).count();
        &self.0[from..from + count]
    }
}

impl Peers {
    /// Whose word moves what.
    pub(super) fn owners(&self) -> Owners {
        let mut all = Vec::with_capacity(self.places.len());
        for (slot, peer) in (0..).zip(&self.places) {
            let owned = peer.peer.iter().flat_map(Peer::controls);
            all.extend((0..).zip(owned).map(|(place, (owned, _))| Owns { entity: owned.entity, slot, place }));
        }
        all.sort_unstable();
        Owners(all)
    }

    /// How the word of an owner moves what it owns.
    pub(super) fn control(&self, owns: Owns) -> Option<&Control> {
        self.places.get(usize::from(owns.slot))?.peer.as_ref()?.control_at(owns.place)
    }

    /// What is done for the player of an owner.
    pub(super) fn settings(&self, owns: Owns) -> Option<PlayerSettings> {
        Some(self.places.get(usize::from(owns.slot))?.peer.as_ref()?.settings)
    }

    /// The same, with the connection and what is done for its player.
    pub(super) fn control_mut(&mut self, owns: Owns) -> Option<(PeerId, PlayerSettings, &mut Control)> {
        let peer = self.places.get_mut(usize::from(owns.slot))?.peer.as_mut()?;
        let (id, settings) = (peer.id, peer.settings);
        peer.control_at_mut(owns.place).map(|control| (id, settings, control))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::arrangement::Arrangement;
    use crate::server::PlayerSettings;

    fn begin(peers: &mut Peers, token: u64) -> PeerId {
        let guest = Guest {
            token: Token(token),
            arrangement: Arrangement::SERVER,
            settings: PlayerSettings::DEFAULT,
            body: None,
        };
        peers.begin(Address(token), Life(0), &guest, HostNanos(0)).unwrap()
    }

    #[test]
    fn who_comes_again_has_the_same_place_and_another_epoch() {
        let mut peers = Peers::default();
        let (a, b) = (begin(&mut peers, 7), begin(&mut peers, 8));
        let again = begin(&mut peers, 7);
        assert_eq!((again.slot, again.epoch), (a.slot, a.epoch + 1));
        assert!(peers.get(a).is_none() && peers.get(again).is_some() && peers.get(b).is_some());
        assert!(peers.end(a).is_none(), "that connection is gone already");
        assert_eq!(peers.iter().count(), 2);
    }

    #[test]
    fn a_place_is_taken_again_by_somebody_who_is_not_mistaken_for_the_one_before() {
        let mut peers = Peers::default();
        let a = begin(&mut peers, 7);
        assert!(peers.end(a).is_some() && peers.of_player(Token(7)).is_none());
        let b = begin(&mut peers, 8);
        assert_eq!(b.slot, a.slot);
        assert!(peers.get(a).is_none());
        assert!(peers.at_mut(Address(7)).is_none() && peers.at_mut(Address(8)).is_some_and(|p| p.id == b));
    }

    #[test]
    fn after_256_returns_the_epochs_begin_again() {
        let mut peers = Peers::default();
        let first = begin(&mut peers, 7);
        let returns: Vec<PeerId> = (0..256).map(|_| begin(&mut peers, 7)).collect();
        assert!(returns[..255].iter().all(|id| *id != first));
        assert_eq!(returns[255], first);
    }
}
