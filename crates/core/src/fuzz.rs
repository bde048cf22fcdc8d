//! What the fuzz target in `fuzz/` calls: an ordinary function, so that the usual build compiles and tests it.

use std::sync::Arc;

use crate::walker::Walker;
use crate::{
    Address, Arrangement, BitReader, BitWriter, Client, ClientConfig, ClientSettings, Drawn, EntityId, Ground, Guest,
    Header, HostNanos, Ingredients, InputsOver, Kinds, Layouts, Life, Message, Motion, Over, Owned, Patience,
    PlayerSettings, Rate, Server, ServerConfig, Tick, Timeline, Token, Unwatched, Vec3,
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
    let mut end = Ends::new(&ingredients);
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

/// A server and a client that know of each other, and others who have shown where they are.
struct Ends {
    server: Server,
    client: Client,
    now: HostNanos,
}

/// Where the client sits; the others' addresses are their tokens as well.
const CLIENT: Address = Address(1);

impl Ends {
    fn new(ingredients: &Ingredients) -> Self {
        let rate = Rate::new(60).expect("a rate");
        let mut server = Server::new(ServerConfig {
            rate,
            base: Tick(0),
            start: HostNanos(0),
            ingredients: ingredients.clone(),
            patience: Patience::DEFAULT,
            policy: crate::policy::Policy::default(),
            secret: 5,
        });
        let body = Some((0, Walker::new().spawn(Vec3::ZERO, 0.0)));
        let client = |token, arrangement| {
            let settings = ClientSettings { inputs_over: InputsOver::Stream, ..ClientSettings::DEFAULT };
            let (life, ingredients) = (Life(1), ingredients.clone());
            Client::new(ClientConfig { token, life, arrangement, settings, ingredients })
        };
        let mut ends = None;
        for (i, arrangement) in Arrangement::ALL.into_iter().enumerate() {
            let token = Token(i as u64);
            let settings = PlayerSettings { snapshots_over: Over::Stream, ..PlayerSettings::DEFAULT };
            server.invite(Guest { token, arrangement, settings, body });
            let at = Address(token.0);
            let mut other = Self { server, client: client(token, arrangement), now: HostNanos(i as i64 * 480_000_000) };
            other.pass(30, at);
            server = other.server;
            if at == CLIENT {
                ends = Some(other.client);
            }
        }
        Self { server, client: ends.expect("one of them"), now: HostNanos(4 * 480_000_000) }
    }

    /// Frames in which what each says reaches the other at once.
    fn pass(&mut self, frames: u32, at: Address) {
        for _ in 0..frames {
            self.now = HostNanos(self.now.0 + 16_000_000);
            self.server.handle_time(self.now, &mut Unwatched);
            self.client.handle_time(self.now, &mut Unwatched);
            while let Some(bytes) = self.client.poll_transmit() {
                let _ = self.server.handle_datagram(self.now, at, &bytes, &mut Unwatched);
            }
            while let Some((to, bytes)) = self.server.poll_transmit() {
                if to == at {
                    let _ = self.client.handle_datagram(self.now, &bytes, &mut Unwatched);
                }
            }
        }
    }

    fn take(&mut self, bytes: &[u8]) {
        for at in (0..5).chain([99]).map(Address) {
            let _ = self.server.handle_datagram(self.now, at, bytes, &mut Unwatched);
        }
        let _ = self.client.handle_datagram(self.now, bytes, &mut Unwatched);
        self.pass(2, CLIENT);
        let mut drawn = Vec::new();
        self.client.draw(self.now, |id, state| {
            assert!(state.state.vec3(0).is_finite());
            let pos = state.state.vec3(0);
            let spot = (pos.x, pos.y, pos.z, state.bearing.unwrap_or(0.0), state.fraction);
            drawn.extend((state.how != Drawn::Predicted).then_some((id, spot, state.tick, state.how)));
        });
        // Where others are drawn is told at less cost as well, and is the same.
        let mut spots = Vec::new();
        self.client.spot_others(self.now, |id, spot| {
            let place = (spot.pos.x, spot.pos.y, spot.pos.z, spot.bearing, spot.fraction);
            spots.push((id, place, spot.tick, spot.how));
        });
        assert_eq!(drawn, spots);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_the_bytes_meet_is_in_the_middle_of_a_session() {
        let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema");
        let ends = Ends::new(&Ingredients::new(Arc::new(Ground::flat(50.0)), &kinds));
        assert_eq!(ends.server.connections().count(), Arrangement::ALL.len());
        assert_eq!(ends.client.owned().len(), 1);
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

        /// Any bytes, most of them with a header that is one: version, kind, epoch.
        #[test]
        fn any_datagrams_are_survived(
            mut data in prop::collection::vec(any::<u8>(), 0..200), kind in 0u8..14, carries in 0u8..14, index in 0u8..5,
        ) {
            if let Some(first) = data.first_mut() {
                // The version is 0 in its three bits.
                *first = kind << 4 | 8;
            }
            // The connection's epoch, and behind envelope and tick an entity that there is.
            if let Some(epoch) = data.get_mut(1).filter(|_| index > 0) {
                *epoch = 0;
            }
            // A piece of a stream has what it carries behind two numbers, and that its tick.
            let behind = if kind >= 12 { 23 } else { 18 };
            if let Some(head) = data.get_mut(20).filter(|_| kind >= 12) {
                *head = carries;
            }
            if let Some(entity) = data.get_mut(behind..behind + 3) {
                entity.copy_from_slice(&[index, 0, 0]);
            }
            datagram(&data);
        }
    }
}
