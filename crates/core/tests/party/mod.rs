//! A server and any number of clients with bad links between them, in virtual time: for what has to do with coming, going
//! and owning.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::sync::Arc;

use velocitas_core::walker::{Walker, input_lane};
use velocitas_core::{
    Address, Arrangement, Client, ClientConfig, ClientSettings, EntityId, Event, Fact, Ground, Guest, HostNanos,
    Ingredients, Input, Kinds, Life, Mask, Motion, Patience, PlayerSettings, Rate, Server, ServerConfig, Sink, Tick,
    Token, Unwatched, vec3,
};

pub const MS: i64 = 1_000_000;

/// Facts that a server told, inputs left out.
#[derive(Default)]
pub struct Told(pub Vec<Fact>);

impl Sink for Told {
    const WANTS: Mask = Mask::NETCODE;
    fn on(&mut self, event: Event<'_>) {
        if let Event::Fact(fact) = event {
            self.0.push(fact);
        }
    }
}

/// How bad the links are, both ways alike.
#[derive(Clone, Copy, Debug)]
pub struct Link {
    /// One way at least, in ms.
    pub latency: i64,
    /// At most so much more.
    pub jitter: i64,
    /// Datagrams in a hundred that are lost.
    pub loss: u64,
    /// Datagrams in a hundred that arrive twice.
    pub doubled: u64,
}

pub const GOOD: Link = Link { latency: 30, jitter: 0, loss: 0, doubled: 0 };

/// Somebody who may come.
pub struct Seat {
    pub token: Token,
    pub client: Option<Client>,
    pub lives: u64,
    pub keys: Input,
    pub frozen_until: i64,
    socket: Vec<Vec<u8>>,
}

/// On its way: when it arrives, in which order it was sent, to which seat or from it, whether up.
type Flight = Reverse<(i64, u64, usize, bool, Vec<u8>)>;

/// Everybody, the links and the time.
pub struct Party {
    pub server: Server,
    pub seats: Vec<Seat>,
    pub told: Told,
    pub now: i64,
    pub link: Link,
    pub ingredients: Ingredients,
    pub arrangement: Arrangement,
    /// Frames are so far apart.
    pub frame: i64,
    flights: BinaryHeap<Flight>,
    sent: u64,
    chance: u64,
}

pub const PATIENCE: Patience = Patience { hold_ms: 300, gone_ms: 2500, keep_ms: 2000 };

impl Party {
    /// A server that expects `seats` players, and nobody there yet. The luck of the links comes from the seed.
    pub fn of(seats: usize, arrangement: Arrangement, seed: u64) -> Self {
        let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema");
        let ingredients = Ingredients::new(Arc::new(Ground::flat(200.0)), &kinds);
        let mut server = Server::new(ServerConfig {
            rate: Rate::new(60).expect("60 Hz"),
            base: Tick(0),
            start: HostNanos(0),
            ingredients: ingredients.clone(),
            patience: PATIENCE,
            policy: velocitas_core::Policy::default(),
            secret: seed,
        });
        let seats: Vec<Seat> = (0..seats as u64)
            .map(|n| Seat {
                token: Token(100 + n),
                client: None,
                lives: 0,
                keys: Input::default(),
                frozen_until: 0,
                socket: Vec::new(),
            })
            .collect();
        for (n, seat) in seats.iter().enumerate() {
            let body = Some((0, Walker::new().spawn(vec3(n as f32 * 4.0, 0.0, 0.0), 0.0)));
            server.invite(Guest { token: seat.token, arrangement, settings: PlayerSettings::DEFAULT, body });
        }
        let told = Told::default();
        let (flights, link) = (BinaryHeap::new(), GOOD);
        Self {
            server,
            seats,
            told,
            now: 0,
            link,
            ingredients,
            arrangement,
            frame: 8 * MS,
            flights,
            sent: 0,
            chance: seed,
        }
    }

    /// Everybody joined over good links and has learnt of everybody.
    pub fn playing(seats: usize, arrangement: Arrangement) -> Self {
        let mut party = Self::of(seats, arrangement, 5);
        (0..seats).for_each(|seat| party.join(seat));
        party.run(1200);
        party.assert_known();
        party
    }

    /// A number below `below`.
    pub fn chance(&mut self, below: u64) -> u64 {
        // SplitMix64 (Steele, Lea and Flood 2014).
        self.chance = self.chance.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.chance;
        z = (z ^ z >> 30).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ z >> 27).wrapping_mul(0x94d0_49bb_1331_11eb);
        (z ^ z >> 31) % below
    }

    pub const fn clock(&self) -> HostNanos {
        HostNanos(self.now)
    }

    /// A seat's program is started.
    pub fn join(&mut self, seat: usize) {
        let ingredients = self.ingredients.clone();
        self.join_with(seat, ingredients);
    }

    pub fn join_with(&mut self, seat: usize, ingredients: Ingredients) {
        let arrangement = self.arrangement;
        let s = &mut self.seats[seat];
        s.lives += 1;
        s.socket.clear();
        s.client = Some(Client::new(ClientConfig {
            token: s.token,
            life: Life(s.lives * 1000),
            arrangement,
            settings: ClientSettings::DEFAULT,
            ingredients,
        }));
    }

    /// It ends without a word.
    pub fn crash(&mut self, seat: usize) {
        self.seats[seat].client = None;
    }

    pub fn leave(&mut self, seat: usize) {
        if let Some(client) = &mut self.seats[seat].client {
            client.leave();
        }
    }

    pub fn client(&self, seat: usize) -> &Client {
        self.seats[seat].client.as_ref().expect("it runs")
    }

    /// What came into the world with a seat.
    pub fn body(&self, seat: usize) -> Option<EntityId> {
        let token = self.seats[seat].token;
        self.server.world().iter().find(|e| e.owners() == [token]).map(|e| e.id())
    }

    fn fly(&mut self, seat: usize, up: bool, bytes: &[u8]) {
        if self.chance(100) < self.link.loss {
            return;
        }
        let copies = 1 + u64::from(self.chance(100) < self.link.doubled);
        for copy in 0..copies {
            self.sent += 1;
            let late = self.chance(self.link.jitter as u64 + 1) as i64 + copy as i64 * 120;
            let at = self.now + (self.link.latency + late) * MS;
            self.flights.push(Reverse((at, self.sent, seat, up, bytes.to_vec())));
        }
    }

    fn pass(&mut self) {
        self.now += self.frame;
        let clock = self.clock();
        while self.flights.peek().is_some_and(|f| f.0.0 <= self.now) {
            let Some(Reverse((_, _, seat, up, bytes))) = self.flights.pop() else { break };
            if up {
                let done = self.server.handle_datagram(clock, Address(seat as u64), &bytes, &mut self.told);
                done.expect("our own datagrams are never refused");
            } else {
                self.seats[seat].socket.push(bytes);
            }
        }
        self.server.handle_time(clock, &mut self.told);
        while let Some((to, bytes)) = self.server.poll_transmit() {
            if (to.0 as usize) < self.seats.len() {
                self.fly(to.0 as usize, false, &bytes);
            }
        }
        for seat in 0..self.seats.len() {
            self.seat_frame(seat);
        }
    }

    fn seat_frame(&mut self, seat: usize) {
        // Clocks are far apart.
        let clock = HostNanos(self.now + (seat as i64 + 1) * 7_777 * MS);
        let s = &mut self.seats[seat];
        if s.frozen_until > self.now {
            return;
        }
        let socket = std::mem::take(&mut s.socket);
        let Some(client) = &mut s.client else { return };
        for bytes in socket {
            client.handle_datagram(clock, &bytes, &mut Unwatched).expect("our own datagrams are never refused");
        }
        for owned in client.owned().to_vec() {
            client.handle_controls(owned.entity, &s.keys);
        }
        client.handle_time(clock, &mut Unwatched);
        let out: Vec<Vec<u8>> = std::iter::from_fn(|| client.poll_transmit()).collect();
        out.into_iter().for_each(|bytes| self.fly(seat, true, &bytes));
    }

    /// So many milliseconds.
    pub fn run(&mut self, millis: i64) {
        let end = self.now + millis * MS;
        while self.now < end {
            self.pass();
        }
    }

    /// What there is: each entity with its kind and the places of its owners.
    pub fn truth(&self) -> Vec<(EntityId, u8, Vec<u16>)> {
        let place = |token: &Token| self.server.peer_of(*token).map(|peer| peer.slot);
        self.server.world().iter().map(|e| (e.id(), e.kind(), e.owners().iter().filter_map(place).collect())).collect()
    }

    /// The same as a seat knows it.
    pub fn known(&self, seat: usize) -> Vec<(EntityId, u8, Vec<u16>)> {
        self.client(seat).known().map(|k| (k.entity, k.kind, k.owners.to_vec())).collect()
    }

    /// Everybody whose program runs plays, and knows exactly what there is.
    #[track_caller]
    pub fn assert_known(&self) {
        let truth = self.truth();
        for (n, seat) in self.seats.iter().enumerate() {
            let Some(client) = seat.client.as_ref().filter(|c| c.left_by().is_none()) else { continue };
            assert_eq!(client.peer(), self.server.peer_of(seat.token), "seat {n} plays");
            assert_eq!(self.known(n), truth, "what seat {n} knows at {} ms", self.now / MS);
            let mine: Vec<EntityId> = client.known().filter(|k| k.mine).map(|k| k.entity).collect();
            let owns = |e: &&velocitas_core::Entity| e.owners().contains(&seat.token);
            let theirs: Vec<EntityId> = self.server.world().iter().filter(owns).map(|e| e.id()).collect();
            assert_eq!(mine, theirs, "what seat {n} owns");
        }
    }

    pub fn ahead(&mut self, seat: usize, speed: f32) {
        self.seats[seat].keys.set_real(input_lane::MOVE + 1, speed);
    }

    /// Where the server has something, to the east.
    pub fn east(&self, entity: EntityId) -> f32 {
        self.server.state(entity).map_or(f32::NAN, |s| s.vec3(0).x)
    }
}
