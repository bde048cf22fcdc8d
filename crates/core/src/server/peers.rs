//! The connections at a server: places, and who has them.

use std::collections::VecDeque;

use super::peer::{Peer, PeerConfig};
use crate::ids::{PeerId, Token};

#[derive(Clone, Debug, Default)]
struct Place {
    /// Of the next connection.
    epoch: u8,
    peer: Option<Peer>,
}

/// All of them.
#[derive(Clone, Debug, Default)]
pub(super) struct Peers {
    places: Vec<Place>,
    /// Places without a connection, the one free for longest in front.
    free: VecDeque<u16>,
}

impl Peers {
    /// Lets somebody in. Who is in already comes anew, in the same place. `None` when every place there can be is taken.
    pub(super) fn admit(&mut self, config: PeerConfig) -> Option<PeerId> {
        let slot = match self.of_player(config.token) {
            Some(peer) => peer.id.slot,
            None => match self.free.pop_front() {
                Some(slot) => slot,
                None => {
                    let slot = u16::try_from(self.places.len()).ok()?;
                    self.places.push(Place::default());
                    slot
                }
            },
        };
        let place = &mut self.places[usize::from(slot)];
        let id = PeerId { slot, epoch: place.epoch };
        place.epoch = place.epoch.wrapping_add(1);
        place.peer = Some(Peer::new(id, config));
        Some(id)
    }

    /// Lets somebody go.
    pub(super) fn dismiss(&mut self, id: PeerId) -> bool {
        let there = self.get(id).is_some();
        if there {
            self.places[usize::from(id.slot)].peer = None;
            self.free.push_back(id.slot);
        }
        there
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::arrangement::Arrangement;

    const fn player(token: u64) -> PeerConfig {
        PeerConfig { token: Token(token), arrangement: Arrangement::SERVER, snapshot_every: 3 }
    }

    #[test]
    fn who_comes_again_has_the_same_place_and_another_epoch() {
        let mut peers = Peers::default();
        let (a, b) = (peers.admit(player(7)).unwrap(), peers.admit(player(8)).unwrap());
        let again = peers.admit(player(7)).unwrap();
        assert_eq!((again.slot, again.epoch), (a.slot, a.epoch + 1));
        assert!(peers.get(a).is_none() && peers.get(again).is_some() && peers.get(b).is_some());
        assert!(!peers.dismiss(a), "that connection is gone already");
        assert_eq!(peers.iter().count(), 2);
    }

    #[test]
    fn a_place_is_taken_again_by_somebody_who_is_not_mistaken_for_the_one_before() {
        let mut peers = Peers::default();
        let a = peers.admit(player(7)).unwrap();
        assert!(peers.dismiss(a) && peers.of_player(Token(7)).is_none());
        let b = peers.admit(player(8)).unwrap();
        assert_eq!(b.slot, a.slot);
        assert!(peers.get(a).is_none());
    }

    #[test]
    fn after_256_returns_the_epochs_begin_again() {
        let mut peers = Peers::default();
        let first = peers.admit(player(7)).unwrap();
        let returns: Vec<PeerId> = (0..256).map(|_| peers.admit(player(7)).unwrap()).collect();
        assert!(returns[..255].iter().all(|id| *id != first));
        assert_eq!(returns[255], first);
    }
}
