//! What the fuzz target in `fuzz/` calls: an ordinary function, so that the usual build compiles and tests it.

use std::sync::Arc;

use crate::walker::Walker;
use crate::{
    Address, Arrangement, BitReader, BitWriter, Client, ClientConfig, ClientSettings, Crowd, Drawn, EntityId, Ground,
    Guest, Header, HostNanos, Ingredients, InputsOver, Kinds, Layouts, Life, Message, Motion, Over, Owned, Patience,
    PlayerSettings, Rate, Server, ServerConfig, SnapshotBody, StateDown, Tick, Timeline, Token, Unwatched, Vec3,
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

/// Takes any bytes as what a snapshot says against another: the first says how, the second of how many entities.
///
/// # Panics
/// When something in it panics, or reading and looking at it differ.
pub fn body(data: &[u8]) {
    let [how, entities, bytes @ ..] = data else { return };
    let form = if how & 1 == 0 { StateDown::Delta } else { StateDown::Coded };
    let back = if how & 2 == 0 { 6 } else { u32::from(how >> 2) };
    let body = SnapshotBody { back, entities: *entities, with_inputs: how & 128 != 0, bytes: bytes.to_vec() };
    let crowd = Crowd::new(24);
    let (read, noted) = (crowd.read(form, &body), crowd.noted(form, &body));
    assert_eq!(read, noted, "{body:?}");
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
    use crate::{Acks, MessageKind};
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

        /// Any bytes, most of them behind an envelope that is one, of a connection that there is.
        #[test]
        fn any_datagrams_are_survived(
            data in prop::collection::vec(any::<u8>(), 0..200), kind in 0u16..14, carries in 0u16..14, index in 0u16..5,
        ) {
            let mut out = BitWriter::new();
            let kind = MessageKind::from_number(kind).expect("there is one");
            let epoch = if index > 0 { 0 } else { 77 };
            Acks::default().header(kind, epoch, HostNanos(i64::from(carries) * 1_000_000)).write(&mut out);
            // A piece of a stream has what it carries behind two numbers, from a whole byte on.
            if kind.is_piece() {
                out.put(0, 32);
                out.put(u32::from(carries), 8);
                while !out.len_bits().is_multiple_of(8) {
                    out.flag(false);
                }
            }
            // Then a tick, and an entity that there is.
            if data.len() % 4 > 0 {
                out.put(1, 16);
                out.put(u32::from(index), 5);
                out.flag(false);
            }
            data.iter().for_each(|byte| out.put(u32::from(*byte), 8));
            datagram(&out.finish());
            datagram(&data);
        }

        /// What is said against a snapshot, and what is said so with a few bytes of it changed.
        #[test]
        fn any_body_is_read_as_it_is_looked_at(
            data in prop::collection::vec(any::<u8>(), 0..200), coded: bool, at in 0usize..200, byte: u8,
        ) {
            body(&data);
            let form = if coded { StateDown::Coded } else { StateDown::Delta };
            let mut said = vec![u8::from(coded), 24];
            said.extend(Crowd::new(24).told(form).bytes);
            body(&said);
            let at = 2 + at % (said.len() - 2);
            said[at] = byte;
            body(&said);
        }
    }
}
