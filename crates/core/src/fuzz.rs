//! What the fuzz target in `fuzz/` calls: an ordinary function, so that the usual build compiles and tests it.

use std::sync::Arc;

use crate::walker::Walker;
use crate::{
    Arrangement, BitReader, BitWriter, Client, ClientConfig, ClientSettings, Ground, Header, HostNanos, Ingredients,
    Kinds, Layouts, Message, Motion, PeerConfig, Rate, Server, ServerConfig, Tick, Timeline, Unwatched, Vec3,
    write_snapshot,
};

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
        let layouts = Layouts::new(&timeline, near, 0);
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
        let (schema, kinds) = (|tick| layouts.own(tick), |tick| layouts.kinds(tick));
        match message {
            Message::Hello => {}
            Message::Welcome(m) => m.write(&mut out),
            Message::Inputs(m) => m.write(&mut out, layouts),
            Message::Claim(m) => m.write(&mut out, schema(m.newest)),
            Message::PullBack(m) => m.write(&mut out, schema(m.tick)),
            Message::Snapshot(m) => {
                let entities = m.entities.iter().map(|e| (e.entity, &e.state));
                write_snapshot(&mut out, m.tick, m.every, m.report, kinds(m.tick), entities);
            }
        }
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
    now: HostNanos,
}

impl Ends {
    fn new(ingredients: Ingredients) -> Self {
        let rate = Rate::new(60).expect("a rate");
        let config = ServerConfig { rate, base: Tick(0), start: HostNanos(0), ingredients: ingredients.clone() };
        let mut server = Server::new(config);
        let spawn = Walker::new().spawn(Vec3::ZERO, 0.0);
        for (epoch, arrangement) in [Arrangement::ServerAuthority, Arrangement::OwnerClaims].into_iter().enumerate() {
            if let Ok(entity) = server.spawn(0, spawn) {
                server.admit(PeerConfig { entity, arrangement, epoch: epoch as u8, snapshot_every: 3 });
            }
        }
        let client = Client::new(ClientConfig {
            kind: 0,
            arrangement: Arrangement::ServerAuthority,
            settings: ClientSettings::DEFAULT,
            ingredients,
            epoch: 0,
        });
        let mut ends = Self { server, client, now: HostNanos(0) };
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
                let _ = self.server.handle_datagram(self.now, crate::PeerId(0), &bytes, &mut Unwatched);
            }
            while let Some((to, bytes)) = self.server.poll_transmit() {
                if to == crate::PeerId(0) {
                    let _ = self.client.handle_datagram(self.now, &bytes, &mut Unwatched);
                }
            }
        }
    }

    fn take(&mut self, bytes: &[u8]) {
        for peer in 0..3 {
            let _ = self.server.handle_datagram(self.now, crate::PeerId(peer), bytes, &mut Unwatched);
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
        fn any_datagrams_are_survived(mut data in prop::collection::vec(any::<u8>(), 0..200), kind in 0u8..8) {
            if let Some(first) = data.first_mut() {
                *first = kind << 3 | crate::PROTOCOL_VERSION;
            }
            datagram(&data);
        }
    }
}
