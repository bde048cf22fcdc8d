//! What the fuzz target in `fuzz/` calls: an ordinary function, so that the usual build compiles and tests it.

use std::sync::Arc;

use crate::walker::Walker;
use crate::{
    Arrangement, BitReader, BitWriter, Client, ClientConfig, ClientSettings, EntityId, Ground, Header, HostNanos,
    Ingredients, Kinds, Layouts, Message, Motion, Owned, PeerConfig, PeerId, Rate, Server, ServerConfig, Tick,
    Timeline, Token, Unwatched, Vec3,
};

/// Entities that the bytes may speak of.
const OWNED: [Owned; 2] =
    [Owned { entity: EntityId::first(0), kind: 0 }, Owned { entity: EntityId { index: 1, generation: 7 }, kind: 0 }];

/// Takes any bytes as datagrams: decodes them, and hands them to a server with one of each arrangement and to a client
/// that plays.
///
/// # Panics
/// When something in it panics, or a message that was read is written otherwise.
pub fn datagram(data: &[u8]) {
    let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema");
    let ingredients = Ingredients::new(Arc::new(Ground::flat(50.0)), &kinds);
    let timeline = Timeline::new(ingredients.clone());
    for near in [None, Some(Tick(0)), Some(Tick(40_000))] {
        let layouts = Layouts::new(&timeline, near, &OWNED);
        let mut reader = BitReader::new(data);
        let Ok(header) = Header::read(&mut reader) else { continue };
        if let Ok(message) = Message::read(&header, reader, &layouts) {
            written_alike(&header, &message, &layouts);
        }
    }
    let mut end = Ends::new(ingredients);
    // One after the other, each as long as its first byte says.
    let mut rest = data;
    while let [length, more @ ..] = rest {
        let (one, after) = more.split_at(more.len().min(usize::from(*length)));
        end.take(one);
        rest = after;
    }
    end.take(data);
}

/// A message that was read is written, read and written again: the same bits.
fn written_alike(header: &Header, message: &Message, layouts: &Layouts<'_>) {
    let write = |message: &Message| {
        let mut out = BitWriter::new();
        message.write(&mut out, layouts);
        out.finish()
    };
    let once = write(message);
    if let Ok(again) = Message::read(header, BitReader::new(&once), layouts) {
        assert_eq!(write(&again), once, "{message:?}");
    }
}

/// A server and a client that know of each other.
struct Ends {
    server: Server,
    client: Client,
    peers: Vec<PeerId>,
    now: HostNanos,
}

impl Ends {
    fn new(ingredients: Ingredients) -> Self {
        let rate = Rate::new(60).expect("a rate");
        let config = ServerConfig { rate, base: Tick(0), start: HostNanos(0), ingredients: ingredients.clone() };
        let mut server = Server::new(config);
        let spawn = Walker::new().spawn(Vec3::ZERO, 0.0);
        let mut peers = Vec::new();
        for (i, arrangement) in Arrangement::ALL.into_iter().enumerate() {
            let token = Token(i as u64);
            if let Ok(entity) = server.spawn(0, spawn) {
                let _ = server.set_owners(entity, &[token]);
                peers.extend(server.admit(PeerConfig { token, arrangement, snapshot_every: 3 }));
            }
        }
        let client = Client::new(ClientConfig {
            token: Token(1),
            arrangement: Arrangement::SERVER,
            settings: ClientSettings::DEFAULT,
            ingredients,
        });
        let mut ends = Self { server, client, peers, now: HostNanos(0) };
        ends.pass(10);
        ends
    }

    /// Frames in which what each says reaches the other at once.
    fn pass(&mut self, frames: u32) {
        for _ in 0..frames {
            self.now = HostNanos(self.now.0 + 16_000_000);
            self.server.handle_time(self.now, &mut Unwatched);
            self.client.handle_time(self.now, &mut Unwatched);
            while let Some(bytes) = self.client.poll_transmit() {
                let _ = self.server.handle_datagram(self.now, self.peers[1], &bytes, &mut Unwatched);
            }
            while let Some((to, bytes)) = self.server.poll_transmit() {
                if to == self.peers[1] {
                    let _ = self.client.handle_datagram(self.now, &bytes, &mut Unwatched);
                }
            }
        }
    }

    fn take(&mut self, bytes: &[u8]) {
        for peer in self.peers.iter().copied().chain([PeerId { slot: 99, epoch: 0 }]) {
            let _ = self.server.handle_datagram(self.now, peer, bytes, &mut Unwatched);
        }
        let _ = self.client.handle_datagram(self.now, bytes, &mut Unwatched);
        self.pass(2);
        self.client.draw(self.now, |_, drawn| assert!(drawn.state.vec3(0).is_finite()));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

        /// Any bytes, most of them with a header that is one: version, kind, epoch.
        #[test]
        fn any_datagrams_are_survived(
            mut data in prop::collection::vec(any::<u8>(), 0..200), kind in 0u8..8, index in 0u8..5,
        ) {
            if let Some(first) = data.first_mut() {
                *first = kind << 4 | 8 | crate::PROTOCOL_VERSION;
            }
            // The connection's epoch, and behind envelope and tick an entity that there is.
            if let Some(epoch) = data.get_mut(1).filter(|_| index > 0) {
                *epoch = 0;
            }
            if let Some(entity) = data.get_mut(18..21) {
                entity.copy_from_slice(&[index, 0, 0]);
            }
            datagram(&data);
        }
    }
}
