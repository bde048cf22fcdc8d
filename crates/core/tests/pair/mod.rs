//! A client and a server with a link between them, in virtual time, and a small vocabulary to drive them.

use std::collections::BinaryHeap;
use std::sync::Arc;

use velocitas_core::walker::{Walker, input_lane};
use velocitas_core::{
    Address, Arrangement, Carried, Client, ClientConfig, ClientSettings, Correction, DrawnState, EntityId, Event, Fact,
    Ground, Guest, HostNanos, Ingredients, Input, InputFact, InputFate, Kinds, Life, Made, Mask, Measure, Motion,
    Patience, PlayerSettings, Policy, Provenance, Rate, Server, ServerConfig, Sink, State, Tick, Token, Verdict, vec3,
};

pub const MS: i64 = 1_000_000;

/// What was told, kept.
#[derive(Default)]
pub struct Told {
    pub corrections: Vec<Correction>,
    pub verdicts: Vec<Verdict>,
    pub measures: Vec<Measure>,
    pub used: Vec<(Tick, Provenance)>,
    pub predicted: Vec<(Tick, State)>,
    pub authority: Vec<(Tick, State, bool)>,
    /// Of the other one.
    pub others: Vec<(Tick, State)>,
    /// What others are sent in the place of that.
    pub echoes: Vec<(Tick, State, bool)>,
    pub faults: Vec<(Tick, &'static str)>,
    pub dropped: u64,
    /// Inputs that arrived: their tick and margin, or none where the server passed the tick over.
    pub arrived: Vec<(Tick, Option<i16>)>,
    /// Claims that went on from before a pull back.
    pub outdated: Vec<Tick>,
    pub clock_sets: usize,
    /// All others.
    pub facts: Vec<Fact>,
}

impl Sink for Told {
    const WANTS: Mask = Mask::ALL;
    fn on(&mut self, event: Event<'_>) {
        match event {
            Event::State(s) => match s.made {
                Made::Predicted => self.predicted.push((s.tick, *s.state)),
                Made::Authority if s.entity == OWN => self.authority.push((s.tick, *s.state, s.teleported)),
                Made::Authority => self.others.push((s.tick, *s.state)),
                Made::Echo if s.entity == OWN => self.echoes.push((s.tick, *s.state, s.teleported)),
                _ => {}
            },
            Event::Input(InputFact { tick, fate, .. }, _) => match fate {
                InputFate::Used(provenance) => self.used.push((tick, provenance)),
                InputFate::Arrived(margin) => self.arrived.push((tick, Some(margin))),
                InputFate::Dropped => self.arrived.push((tick, None)),
                InputFate::Outdated => self.outdated.push(tick),
                InputFate::Sampled => {}
            },
            Event::Measure(measure) => self.measures.push(measure),
            Event::Fact(fact) => self.fact(fact),
        }
    }
}

impl Told {
    fn fact(&mut self, fact: Fact) {
        match fact {
            Fact::Corrected(c) => self.corrections.push(c),
            Fact::Verdict(v) => self.verdicts.push(v),
            Fact::StepFault { tick, field, .. } => self.faults.push((tick, field)),
            Fact::Dropped { count, .. } => self.dropped += count,
            Fact::ClockSet { .. } => self.clock_sets += 1,
            other => self.facts.push(other),
        }
    }
}

/// Where the client sits, and as whom it plays.
pub const HOME: Address = Address(70);
pub const PLAYER: Token = Token(7);

/// The client's entity, and the one that nobody owns.
pub const OWN: EntityId = EntityId::first(0);
pub const OTHER: EntityId = EntityId::first(1);

/// On its way: when it arrives, in which order it was sent, whether up, the bytes.
type Flight = std::cmp::Reverse<(i64, u64, bool, Vec<u8>)>;

/// Both ends, the link and the time.
pub struct Pair {
    pub client: Client,
    pub server: Server,
    pub told: Told,
    pub now: i64,
    /// One way, in nanoseconds.
    pub latency: i64,
    /// Asked for each datagram: whether it is lost. Given whether it goes up, and its number.
    pub lose: fn(bool, u64) -> bool,
    pub keys: Input,
    /// What the hands do with the other one, where it is the client's.
    pub other_keys: Input,
    /// What else becomes of datagrams, one after the other and again from the first: lost, twice, late by so many milliseconds.
    pub fates: Vec<(bool, bool, u8)>,
    /// Bytes of the largest datagram down since that was last looked at.
    pub largest_down: usize,
    /// How many ticks the newest message up covers.
    pub covered: u8,
    /// Whether the link delivers everything twice.
    pub doubled: bool,
    server_stalls: bool,
    waiting: Vec<Vec<u8>>,
    flights: BinaryHeap<Flight>,
    sent: u64,
    sent_up: usize,
}

/// How long the server waits for the silent.
pub const PATIENCE: Patience = Patience { hold_ms: 2000, gone_ms: 20_000, keep_ms: 5000 };

/// The client's clock is far from the server's.
const CLIENT_OFFSET: i64 = 77_000 * MS;
/// Time between two looks: both come round a thousand times a second.
const LOOK: i64 = MS;

impl Pair {
    pub fn of(rule: Arc<dyn Motion>, arrangement: Arrangement, settings: ClientSettings) -> Self {
        Self::owning(&[OWN], rule, arrangement, settings)
    }

    /// The client owns both walkers, and plays for a second already.
    pub fn playing_two(arrangement: Arrangement) -> Self {
        let mut pair = Self::owning(&[OWN, OTHER], Arc::new(Walker::new()), arrangement, ClientSettings::DEFAULT);
        pair.run(1500);
        assert!([OWN, OTHER].iter().all(|id| pair.client.own_state(*id).is_some()), "joined and playing");
        pair
    }

    fn owning(own: &[EntityId], rule: Arc<dyn Motion>, arrangement: Arrangement, settings: ClientSettings) -> Self {
        Self::under(Policy::default(), own, rule, arrangement, settings)
    }

    /// Owners who claim, with a guard that answers so.
    pub fn guarded(policy: Policy) -> Self {
        let walker = Arc::new(Walker::new());
        let mut pair = Self::under(policy, &[OWN], walker, Arrangement::CLAIMS, ClientSettings::DEFAULT);
        pair.run(1500);
        assert!(pair.client.own_state(OWN).is_some(), "joined and playing");
        pair
    }

    fn under(
        policy: Policy,
        own: &[EntityId],
        rule: Arc<dyn Motion>,
        arrangement: Arrangement,
        settings: ClientSettings,
    ) -> Self {
        let stand = [0.0, 20.0].map(|place| rule.spawn(vec3(place, 0.0, 0.0), 0.0));
        let kinds = Kinds::new(vec![rule]).expect("a sound schema");
        let ingredients = Ingredients::new(Arc::new(Ground::flat(100.0)), &kinds);
        let mut server = Server::new(ServerConfig {
            rate: Rate::new(60).expect("60 Hz"),
            base: Tick(0),
            start: HostNanos(0),
            ingredients: ingredients.clone(),
            patience: PATIENCE,
            policy,
            secret: 99,
        });
        let body = Some((0, stand[0]));
        server.invite(Guest { token: PLAYER, arrangement, settings: PlayerSettings::DEFAULT, body });
        assert_eq!(server.bring(PLAYER, HostNanos(0)), Ok(OWN));
        assert_eq!(server.spawn(0, stand[1]), Ok(OTHER));
        own.iter().for_each(|id| server.set_owners(*id, &[PLAYER]).expect("it is there"));
        let client = Client::new(ClientConfig { token: PLAYER, life: Life(1), arrangement, settings, ingredients });
        Self {
            client,
            server,
            told: Told::default(),
            now: 0,
            latency: 40 * MS,
            lose: |_, _| false,
            keys: Input::default(),
            other_keys: Input::default(),
            fates: Vec::new(),
            covered: 0,
            largest_down: 0,
            doubled: false,
            server_stalls: false,
            waiting: Vec::new(),
            flights: BinaryHeap::new(),
            sent: 0,
            sent_up: 0,
        }
    }

    /// The program of an owner who claims is started anew.
    pub fn start_anew(&mut self, life: Life) {
        let ingredients = self.client.ingredients().clone();
        let (arrangement, settings) = (Arrangement::CLAIMS, ClientSettings::DEFAULT);
        self.client = Client::new(ClientConfig { token: PLAYER, life, arrangement, settings, ingredients });
    }

    /// A walker whose inputs go up, over 40 ms each way, playing for a second already.
    pub fn playing() -> Self {
        Self::playing_as(Arrangement::SERVER)
    }

    pub fn playing_as(arrangement: Arrangement) -> Self {
        let mut pair = Self::of(Arc::new(Walker::new()), arrangement, ClientSettings::DEFAULT);
        pair.run(1500);
        assert!(pair.client.own_state(OWN).is_some(), "joined and playing");
        pair
    }

    fn fly(&mut self, up: bool, bytes: Vec<u8>) {
        self.sent += 1;
        self.sent_up += usize::from(up);
        self.largest_down = if up { self.largest_down } else { self.largest_down.max(bytes.len()) };
        if let Some(carried) = Carried::of(&bytes).filter(|carried| carried.kind.is_word()) {
            self.covered = carried.ticks;
        }
        let fate = self.fates.get(self.sent as usize % self.fates.len().max(1)).copied();
        let (lost, twice, late) = fate.unwrap_or_default();
        if !lost && !(self.lose)(up, self.sent) {
            if self.doubled || twice {
                let later = self.now + self.latency + 9 * MS;
                self.flights.push(std::cmp::Reverse((later, self.sent, up, bytes.clone())));
            }
            let arrives = self.now + self.latency + i64::from(late) * MS;
            self.flights.push(std::cmp::Reverse((arrives, self.sent, up, bytes)));
        }
    }

    pub fn client_clock(&self) -> HostNanos {
        HostNanos(self.now + CLIENT_OFFSET)
    }

    /// One look of both machines.
    pub fn step(&mut self) {
        self.now += LOOK;
        while self.flights.peek().is_some_and(|f| f.0.0 <= self.now) {
            let Some(std::cmp::Reverse((_, _, up, bytes))) = self.flights.pop() else { break };
            if up && self.server_stalls {
                self.waiting.push(bytes);
                continue;
            }
            let done = if up {
                self.server.handle_datagram(HostNanos(self.now), HOME, &bytes, &mut self.told)
            } else {
                self.client.handle_datagram(self.client_clock(), &bytes, &mut self.told)
            };
            done.expect("our own datagrams are never refused");
        }
        if !self.server_stalls {
            for bytes in std::mem::take(&mut self.waiting) {
                let done = self.server.handle_datagram(HostNanos(self.now), HOME, &bytes, &mut self.told);
                done.expect("our own datagrams are never refused");
            }
            self.server.handle_time(HostNanos(self.now), &mut self.told);
        }
        self.client.handle_controls(OWN, &self.keys);
        self.client.handle_controls(OTHER, &self.other_keys);
        // A press is pressed once.
        self.keys.set_int(input_lane::HOP, 0);
        let clock = self.client_clock();
        self.client.handle_time(clock, &mut self.told);
        while let Some(bytes) = self.client.poll_transmit() {
            self.fly(true, bytes);
        }
        while let Some((_, bytes)) = self.server.poll_transmit() {
            self.fly(false, bytes);
        }
    }

    /// Both machines take another rule from one tick on that lies ahead of them.
    pub fn change_rule(&mut self, rule: &Arc<dyn Motion>) -> Tick {
        let newest = self.client.newest_tick().unwrap_or(Tick(0)).max(self.server.newest_tick());
        for (server, known) in [(true, self.server.ingredients()), (false, self.client.ingredients())]
            .map(|(server, known)| (server, known.clone()))
        {
            let kinds = known.kinds.with(0, rule.clone()).expect("a sound schema");
            let known = Ingredients::new(known.ground, &kinds);
            if server {
                self.server.set_ingredients_at(newest.next(), known);
            } else {
                self.client.set_ingredients_at(newest.next(), known);
            }
        }
        newest.next()
    }

    /// So many milliseconds.
    pub fn run(&mut self, millis: i64) {
        let end = self.now + millis * MS;
        while self.now < end {
            self.step();
        }
    }

    /// The same while nobody looks after the server.
    pub fn stall_server(&mut self, millis: i64) {
        self.server_stalls = true;
        self.run(millis);
        self.server_stalls = false;
    }

    /// What the client sends in `millis` milliseconds; none of it arrives.
    pub fn eavesdrop(&mut self, millis: i64) -> Vec<Vec<u8>> {
        self.server_stalls = true;
        self.run(millis);
        std::mem::take(&mut self.waiting)
    }

    /// How many datagrams the client has sent.
    pub const fn sent_up(&self) -> usize {
        self.sent_up
    }

    pub fn walk(&mut self) {
        self.keys.set_real(input_lane::MOVE + 1, 1.0);
    }

    pub fn stand(&mut self) {
        self.keys = Input::default();
    }

    pub fn hop(&mut self) {
        self.keys.set_int(input_lane::HOP, 1);
    }

    /// What the client draws of an entity.
    pub fn drawn(&self, entity: EntityId) -> Option<DrawnState> {
        let clock = self.client_clock();
        let mut found = None;
        self.client.draw(clock, |id, drawn| {
            if id == entity {
                found = Some(*drawn);
            }
        });
        found
    }

    /// How often the authority left the ground.
    pub fn hops(&self) -> usize {
        let heights: Vec<f32> = self.told.authority.iter().map(|(_, s, _)| s.vec3(0).z).collect();
        heights.windows(2).filter(|w| w[0] < 0.01 && w[1] >= 0.01).count()
    }
}
