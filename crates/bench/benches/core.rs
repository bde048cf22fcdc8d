//! What a step, a snapshot and a correction cost. `cargo bench -p velocitas-bench --bench core`.

#![allow(missing_docs, reason = "criterion's macros make undocumented functions")]

use std::hint::black_box;
use std::sync::Arc;

use criterion::{Criterion, criterion_group, criterion_main};
use velocitas_core::walker::{Walker, input_lane};
use velocitas_core::{
    Acks, Address, Arrangement, BitReader, BitWriter, Bounds, Client, ClientConfig, ClientSettings, Crowd, EntityId,
    EntityRef, Ground, Guest, Header, Hello, HostNanos, Ingredients, Input, Kinds, Layouts, Life, Message, MessageKind,
    Motion, Patience, PlayerSettings, Rate, Scene, Server, ServerConfig, SnapshotHead, Solid, SolidId, State,
    StateDown, Tick, Timeline, Token, Unwatched, Used, WireTick, Zone, vec3, write_snapshot,
};

/// Twenty boxes about as crowded as the demo's quay.
fn quay() -> Ground {
    let solids = (0..20u16)
        .map(|i| Solid {
            id: SolidId(i),
            x: f32::from(i % 5) * 9.0 - 18.0,
            y: f32::from(i / 5) * 10.0 - 15.0,
            half_x: 1.0 + f32::from(i % 3),
            half_y: 1.5,
            yaw: f32::from(i) * 0.3,
            low: 0.0,
            high: 2.0,
        })
        .collect();
    let zones = Vec::<Zone>::new();
    Ground::new(Bounds { min: (-42.0, -26.0), max: (42.0, 26.0), floor: 0.0 }, solids, zones)
}

fn ahead(facing: f32) -> Input {
    let mut input = Input::default();
    input.set_real(input_lane::MOVE + 1, 1.0);
    input.set_real(input_lane::FACING, facing);
    input
}

fn step(c: &mut Criterion) {
    let (walker, ground) = (Walker::new(), quay());
    let tunables: Vec<f32> = walker.tunables().iter().map(|t| t.default).collect();
    let scene = Scene { tick: Tick(1), dt: Rate::new(60).map_or(0.0, Rate::dt), ground: &ground, tunables: &tunables };
    let mut state = walker.spawn(vec3(-13.0, -10.0, 0.002), 0.0);
    let mut facing = 0.0;
    c.bench_function("walker step among 20 solids", |b| {
        b.iter(|| {
            facing += 0.004;
            state = walker.step(&scene, &state, &ahead(facing)).state;
            black_box(&state);
        });
    });
    let mut state = walker.spawn(vec3(-13.0, -10.0, 0.002), 0.0);
    c.bench_function("correction: 12 ticks replayed", |b| {
        b.iter(|| {
            for tick in 0..12 {
                state = walker.step(&scene, &state, &ahead(tick as f32 * 0.5)).state;
            }
            black_box(&state);
        });
    });
}

fn snapshot(c: &mut Criterion) {
    let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema");
    let walker = Walker::new();
    let states: Vec<State> = (0..48u16).map(|i| walker.spawn(vec3(f32::from(i), 2.0, 0.0), 1.0)).collect();
    let header = Acks::default().header(MessageKind::Snapshot, 1, HostNanos(0));
    let used = Used { tick: WireTick(9), made_up: 0, shared: false };
    let encode = || {
        let mut out = BitWriter::new();
        header.write(&mut out);
        let entities = states.iter().enumerate().map(|(i, s)| {
            (EntityRef { id: EntityId::first(i as u16), kind: 0, teleports: 0, own: (i == 0).then_some(used) }, s)
        });
        let head = SnapshotHead { tick: WireTick(9), every: 3, ..SnapshotHead::default() };
        write_snapshot(&mut out, &head, &kinds, entities, None);
        out.finish()
    };
    c.bench_function("encode a snapshot of 48 entities", |b| b.iter(|| black_box(encode())));
    let bytes = encode();
    let timeline = Timeline::new(Ingredients::new(Arc::new(quay()), &kinds));
    c.bench_function("decode a snapshot of 48 entities", |b| {
        b.iter(|| {
            let mut reader = BitReader::new(&bytes);
            let header = Header::read(&mut reader).expect("our own");
            black_box(Message::read(&header, reader, &Layouts::new(&timeline, None, &[]))).expect("our own")
        });
    });
}

fn against(c: &mut Criterion) {
    let crowd = Crowd::new(64);
    for form in [StateDown::Delta, StateDown::Coded] {
        let body = crowd.told(form);
        c.bench_function(&format!("tell 64 entities, {}", form.name()), |b| b.iter(|| black_box(crowd.told(form))));
        c.bench_function(&format!("read 64 entities, {}", form.name()), |b| {
            b.iter(|| black_box(crowd.read(form, &body)).expect("our own"));
        });
    }
}

/// Six players who walk, joined without a link between them, and what they send in their next tick.
struct Session {
    server: Server,
    clients: Vec<Client>,
    now: HostNanos,
    /// What the first said last.
    said: Vec<u8>,
}

impl Session {
    fn playing(players: u64) -> Self {
        Self::of(players, Arrangement::SERVER)
    }

    /// A tick in which what the first said comes a hundred times more, or nonsense in its name.
    fn besieged(&mut self, nonsense: bool) {
        self.tick(&[]);
        let mut bytes = self.said.clone();
        if nonsense {
            bytes.iter_mut().skip(16).for_each(|byte| *byte = byte.wrapping_mul(31) ^ 0x5a);
        }
        for _ in 0..100 {
            let _ = self.server.handle_datagram(self.now, Address(0), &bytes, &mut Unwatched);
        }
    }

    fn of(players: u64, arrangement: Arrangement) -> Self {
        let walker: Arc<dyn Motion> = Arc::new(Walker::new());
        let kinds = Kinds::new(vec![walker.clone()]).expect("a sound schema");
        let ingredients = Ingredients::new(Arc::new(quay()), &kinds);
        let mut server = Server::new(ServerConfig {
            rate: Rate::new(60).expect("60 Hz"),
            base: Tick(0),
            start: HostNanos(0),
            ingredients: ingredients.clone(),
            patience: Patience::DEFAULT,
            policy: velocitas_core::Policy::default(),
            secret: 1,
        });
        let mut clients = Vec::new();
        for n in 0..players {
            let body = Some((0, walker.spawn(vec3(n as f32 * 3.0 - 13.0, -10.0, 0.002), 0.0)));
            server.invite(Guest { token: Token(n), arrangement, settings: PlayerSettings::DEFAULT, body });
            let (settings, ingredients) = (ClientSettings::DEFAULT, ingredients.clone());
            clients.push(Client::new(ClientConfig {
                token: Token(n),
                life: Life(1),
                arrangement,
                settings,
                ingredients,
            }));
        }
        let mut session = Self { server, clients, now: HostNanos(0), said: Vec::new() };
        (0..120).for_each(|_| session.tick(&[]));
        assert!(session.clients.iter().all(|client| client.owned().len() == 1), "they play");
        session
    }

    /// A tick of everybody; what strangers say arrives first.
    fn tick(&mut self, strangers: &[(Address, Vec<u8>)]) {
        self.now = self.now.plus(16_666_667);
        for (from, bytes) in strangers {
            let _ = self.server.handle_datagram(self.now, *from, bytes, &mut Unwatched);
        }
        for (n, client) in self.clients.iter_mut().enumerate() {
            for owned in client.owned().to_vec() {
                client.handle_controls(owned.entity, &ahead(n as f32));
            }
            client.handle_time(self.now, &mut Unwatched);
            while let Some(bytes) = client.poll_transmit() {
                self.server.handle_datagram(self.now, Address(n as u64), &bytes, &mut Unwatched).expect("our own");
                if n == 0 {
                    self.said.clone_from(&bytes);
                }
            }
        }
        self.server.handle_time(self.now, &mut Unwatched);
        while let Some((to, bytes)) = self.server.poll_transmit() {
            if let Some(client) = self.clients.get_mut(to.0 as usize) {
                client.handle_datagram(self.now, &bytes, &mut Unwatched).expect("our own");
            }
        }
    }
}

/// Ten thousand hellos a second, each from somewhere else, as a share of a tick's 16.7 ms and beside a tick of six players.
fn flood(c: &mut Criterion) {
    let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema").prints().to_vec();
    let crowd: Vec<(Address, Vec<u8>)> = (0..167u64)
        .map(|n| {
            let mut out = BitWriter::new();
            Acks::default().header(MessageKind::Hello, 0, HostNanos(0)).write(&mut out);
            Hello { token: Token(n), life: Life(n), cookie: n, kinds: kinds.clone() }.write(&mut out);
            (Address(1000 + n), out.finish())
        })
        .collect();
    let mut quiet = Session::playing(6);
    c.bench_function("a tick of six players and their server", |b| b.iter(|| quiet.tick(&[])));
    let mut loud = Session::playing(6);
    c.bench_function("the same with 167 hellos of strangers", |b| b.iter(|| loud.tick(&crowd)));
    let mut door = Session::playing(0);
    c.bench_function("167 hellos of strangers alone", |b| b.iter(|| door.tick(&crowd)));
}

/// A server of 48 owners who claim, of whom one sends each of its datagrams a hundred times, or as often nonsense in its name.
fn attacked(c: &mut Criterion) {
    let mut quiet = Session::of(48, Arrangement::CLAIMS);
    c.bench_function("a tick of 48 who claim and their server", |b| b.iter(|| quiet.tick(&[])));
    for (name, nonsense) in [("the same with one who floods", false), ("the same with one who sends nonsense", true)] {
        let mut loud = Session::of(48, Arrangement::CLAIMS);
        c.bench_function(name, |b| b.iter(|| loud.besieged(nonsense)));
    }
}

criterion_group!(benches, step, snapshot, against, flood, attacked);
criterion_main!(benches);
