//! The simulation: machines, links and scripts in virtual time.
//!
//! A [`Lab`] holds the real [`Server`] and [`Client`]s and everything around them. It knows nothing of the record but
//! that somebody may be watching, and it is cheap to clone: a clone is a checkpoint. Encoded bytes cross the links and
//! nothing else does.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, VecDeque};
use std::sync::Arc;

use velocitas_core::{
    BitReader, Client, ClientConfig, Digest, Event, Ground, Header, HostNanos, Ingredients, MAX_DATAGRAM, Mask,
    MessageKind, Motion, PeerConfig, PeerId, Server, ServerConfig, Sink, SpawnError, State, Tick, WireTick,
};

use crate::command::Command;
use crate::controls::{Bot, Controls};
use crate::course::{Cheat, Course, KnownTo, Role, What};
use crate::faults::{Forged, Trial, forge};
use crate::host::HostSpec;
use crate::knob::{Knob, KnobValue, Knobs};
use crate::known::{Change, Changed, Known, Reach};
use crate::link::{Pipe, Ticket};
use crate::record::{Happening, HappeningRow, Machine, MessageRow, Watch};
use crate::time::LabTime;

/// Datagrams a machine's socket holds while nobody reads it; the oldest make room for more.
const SOCKET: usize = 512;

/// What the queue holds.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Due {
    /// A machine comes round.
    Frame(Machine),
    /// A datagram arrives at a machine; the member is the one at the other end or this one.
    Arrival { up: bool, member: usize, bytes: Arc<[u8]> },
    /// Something of the course happens.
    Event(usize),
    /// A rogue's trick begins or ends.
    Trick { member: usize, trick: usize, begins: bool },
}

/// A machine around a state machine.
#[derive(Clone, Debug)]
struct Host {
    spec: HostSpec,
    frame: u64,
    frozen_until: LabTime,
    /// What arrived since the last frame, from whom.
    socket: VecDeque<(usize, Arc<[u8]>)>,
    /// Datagrams thrown away since.
    overrun: u64,
}

impl Host {
    const fn new(spec: HostSpec) -> Self {
        Self { spec, frame: 0, frozen_until: LabTime::ZERO, socket: VecDeque::new(), overrun: 0 }
    }

    fn receive(&mut self, from: usize, bytes: Arc<[u8]>) {
        if self.socket.len() == SOCKET {
            self.socket.pop_front();
            self.overrun += 1;
        }
        self.socket.push_back((from, bytes));
    }
}

/// One of the cast with its machine and link.
#[derive(Clone, Debug)]
struct Seat {
    host: Host,
    client: Client,
    knobs: Knobs,
    up: Pipe,
    down: Pipe,
    bot: Bot,
    forged: Forged,
    /// Whether the newest of its tricks has had an effect yet.
    trial: Option<Trial>,
    /// Whether its hands moved nothing in the last frame.
    resting: bool,
    /// What its machine lawfully knows of the rules.
    known: Known,
}

/// The keyboard's hands.
#[derive(Clone, Copy, Debug, Default)]
struct Helm {
    member: Option<usize>,
    controls: Controls,
}

/// The simulation. See the [module](self).
#[derive(Clone, Debug)]
pub struct Lab {
    course: Arc<Course>,
    now: LabTime,
    queue: BinaryHeap<Reverse<(LabTime, u64, Due)>>,
    sequence: u64,
    server: Server,
    server_host: Host,
    server_known: Known,
    seats: Vec<Seat>,
    helm: Helm,
    digest: Digest,
}

/// Passes events on to the watcher and into the digest.
struct Tap<'a, W> {
    watch: &'a mut W,
    digest: &'a mut Digest,
    base: u64,
    at: LabTime,
    machine: Machine,
    /// A rogue's tricks in force, held against what would be lawful.
    trial: Option<&'a mut Trial>,
}

/// How many lanes the digest takes in: sixteen, or as many as hold anything in this state.
fn lanes_in_use(state: &State) -> usize {
    const USUAL: usize = 16;
    state.bits().iter().rposition(|lane| *lane != 0).map_or(USUAL, |last| USUAL.max(last + 1))
}

impl<W: Watch> Sink for Tap<'_, W> {
    const WANTS: Mask = Mask::ALL;

    fn on(&mut self, event: Event<'_>) {
        // Relative ticks, so that where the count starts changes nothing.
        let relative = |tick: Tick| tick.0.wrapping_sub(self.base);
        match event {
            Event::Authority { entity, tick, state, .. } => {
                self.digest.word(relative(tick) << 16 | u64::from(entity));
                self.digest.lanes(state, lanes_in_use(state));
            }
            Event::Predicted { tick, state, input, .. } => {
                if self.trial.as_mut().is_some_and(|trial| trial.offends(tick, state, input)) {
                    let tick = Some(relative(tick) as u32);
                    let what = Happening::Offence;
                    self.watch.happening(HappeningRow { at: self.at, machine: self.machine, tick, what });
                }
                self.digest.word(relative(tick) << 16 | 0xffff);
                self.digest.lanes(state, lanes_in_use(state));
            }
            Event::Corrected(c) => {
                self.digest.word(relative(c.tick));
                self.digest.word(u64::from(c.jump.to_bits()));
            }
            _ => {}
        }
        self.watch.event(self.at, self.machine, &event);
    }
}

impl Lab {
    /// A course at its beginning.
    ///
    /// # Panics
    /// When the cast does not fit a snapshot: [`crate::Run::new`] checks that first.
    pub fn new(course: Arc<Course>) -> Self {
        let ground_server = Arc::new(course.ground(KnownTo::Server));
        let ground_clients = Arc::new(course.ground(KnownTo::Clients));
        let server_known = Known::of(&course, KnownTo::Server);
        let known = Known::of(&course, KnownTo::Clients);
        let mut server = Server::new(ServerConfig {
            rate: course.rate,
            base: Tick(course.first_tick),
            start: course.server.read(course.server.phase),
            ingredients: told(ground_server, &server_known),
        });
        let mut seats = Vec::new();
        for (i, member) in course.cast.iter().enumerate() {
            let state = course.kinds.motion(member.kind).spawn(member.spawn, member.facing);
            let entity = server.spawn(member.kind, state).expect("the cast was checked to fit a snapshot");
            let epoch = i as u8;
            let snapshot_every = member.knobs.snapshot_every;
            server.admit(PeerConfig { entity, arrangement: member.arrangement, epoch, snapshot_every });
            let client = Client::new(ClientConfig {
                kind: member.kind,
                arrangement: member.arrangement,
                settings: member.knobs.settings,
                ingredients: told(ground_clients.clone(), &known),
                epoch,
            });
            seats.push(Seat {
                host: Host::new(member.host),
                client,
                knobs: member.knobs,
                up: Pipe::new(i as u32 * 2, member.knobs.up),
                down: Pipe::new(i as u32 * 2 + 1, member.knobs.down),
                bot: Bot::default(),
                forged: Forged::default(),
                trial: None,
                resting: true,
                known: known.clone(),
            });
        }
        let mut lab = Self {
            server_host: Host::new(course.server),
            server_known,
            now: LabTime::ZERO,
            queue: BinaryHeap::new(),
            sequence: 0,
            server,
            seats,
            helm: Helm::default(),
            digest: Digest::default(),
            course,
        };
        lab.schedule_beginning();
        lab
    }

    fn schedule_beginning(&mut self) {
        let course = self.course.clone();
        self.schedule(course.server.phase, Due::Frame(Machine::Server));
        for (i, member) in course.cast.iter().enumerate() {
            self.schedule(member.host.phase, Due::Frame(Machine::Member(i)));
            for (trick, t) in member.tricks.iter().enumerate() {
                self.schedule(t.at, Due::Trick { member: i, trick, begins: true });
            }
        }
        for (i, event) in course.events.iter().enumerate() {
            self.schedule(event.at, Due::Event(i));
        }
    }

    fn schedule(&mut self, at: LabTime, due: Due) {
        self.sequence += 1;
        self.queue.push(Reverse((at.max(self.now), self.sequence, due)));
    }

    /// How far it has come.
    pub const fn now(&self) -> LabTime {
        self.now
    }

    /// The digest of everything so far.
    pub const fn digest(&self) -> u64 {
        self.digest.value()
    }

    /// What is run.
    pub const fn course(&self) -> &Arc<Course> {
        &self.course
    }

    /// The server's newest tick.
    pub fn server_tick(&self) -> Tick {
        self.server.newest_tick()
    }

    /// A member's entity as the server has it.
    pub fn server_state(&self, member: usize) -> Option<&State> {
        self.server.state(member as u16)
    }

    /// A member's settings and link.
    pub fn knobs(&self, member: usize) -> &Knobs {
        &self.seats[member].knobs
    }

    /// Who is driven from the keyboard.
    pub const fn helm(&self) -> Option<usize> {
        self.helm.member
    }

    /// Bytes it takes in memory, roughly.
    pub fn bytes(&self) -> usize {
        let seats = self.seats.iter().map(|s| size_of::<Seat>() + s.client.bytes());
        self.server.bytes() + seats.sum::<usize>() + self.queue.len() * (size_of::<Due>() + MAX_DATAGRAM / 4)
    }

    /// Datagrams refused by any machine so far.
    pub fn refused(&self) -> u64 {
        self.server.refused() + self.seats.iter().map(|s| s.client.refused()).sum::<u64>()
    }

    /// Lets everything happen that is due up to and including `to`.
    pub fn advance<W: Watch>(&mut self, to: LabTime, watch: &mut W) {
        while self.queue.peek().is_some_and(|Reverse((at, ..))| *at <= to) {
            let Some(Reverse((at, _, due))) = self.queue.pop() else { break };
            self.now = at;
            match due {
                Due::Frame(Machine::Server) => self.server_frame(watch),
                Due::Frame(Machine::Member(i)) => self.member_frame(i, watch),
                Due::Arrival { up: true, member, bytes } => self.server_host.receive(member, bytes),
                Due::Arrival { up: false, member, bytes } => self.seats[member].host.receive(member, bytes),
                Due::Event(i) => self.event(i, watch),
                Due::Trick { member, trick, begins } => self.trick(member, trick, begins, watch),
            }
        }
        self.now = self.now.max(to);
    }

    /// The next frame of a machine, unless it stands still: then when it wakes.
    fn next_frame(&mut self, machine: Machine) -> Option<HostNanos> {
        let (host, place) = match machine {
            Machine::Server => (&mut self.server_host, 0),
            Machine::Member(i) => (&mut self.seats[i].host, i as u32 + 1),
        };
        if self.now < host.frozen_until {
            let wakes = host.frozen_until;
            self.schedule(wakes, Due::Frame(machine));
            return None;
        }
        let length = host.spec.frame(self.course.seed, place, host.frame);
        host.frame += 1;
        let read = host.spec.read(self.now);
        self.schedule(self.now.plus(length), Due::Frame(machine));
        Some(read)
    }

    /// Says how many datagrams a machine threw away since its last frame.
    fn tell_overrun<W: Watch>(&mut self, machine: Machine, watch: &mut W) {
        let host = match machine {
            Machine::Server => &mut self.server_host,
            Machine::Member(i) => &mut self.seats[i].host,
        };
        let count = std::mem::take(&mut host.overrun);
        if count > 0 {
            self.tell(watch, machine, None, Happening::Overrun(count));
        }
    }

    fn server_frame<W: Watch>(&mut self, watch: &mut W) {
        let Some(read) = self.next_frame(Machine::Server) else { return };
        self.tell_overrun(Machine::Server, watch);
        let mut tap = Tap {
            watch,
            digest: &mut self.digest,
            base: self.course.first_tick,
            at: self.now,
            machine: Machine::Server,
            trial: None,
        };
        for (from, bytes) in std::mem::take(&mut self.server_host.socket) {
            // A strange packet is counted by the server and dropped.
            let _ = self.server.handle_datagram(read, PeerId(from as u16), &bytes, &mut tap);
        }
        self.server.handle_time(read, &mut tap);
        while let Some((to, bytes)) = self.server.poll_transmit() {
            self.send(usize::from(to.0), false, bytes, watch);
        }
    }

    fn member_frame<W: Watch>(&mut self, i: usize, watch: &mut W) {
        let Some(read) = self.next_frame(Machine::Member(i)) else { return };
        self.tell_overrun(Machine::Member(i), watch);
        let course = self.course.clone();
        let controls = self.hands(i, &course);
        let rests = controls.stick == (0.0, 0.0) && controls.hops == 0;
        if self.seats[i].resting && !rests {
            self.tell(watch, Machine::Member(i), self.seats[i].client.newest_tick(), Happening::Pressed);
        }
        let seat = &mut self.seats[i];
        seat.resting = rests;
        let machine = Machine::Member(i);
        let mut tap = Tap {
            watch: &mut *watch,
            digest: &mut self.digest,
            base: course.first_tick,
            at: self.now,
            machine,
            trial: seat.trial.as_mut(),
        };
        for (_, bytes) in std::mem::take(&mut seat.host.socket) {
            let _ = seat.client.handle_datagram(read, &bytes, &mut tap);
        }
        seat.client.handle_controls(&controls.to_input(seat.client.schema()));
        seat.client.handle_time(read, &mut tap);
        let mut outgoing = Vec::new();
        while let Some(bytes) = seat.client.poll_transmit() {
            outgoing.push(bytes);
        }
        let at = self.now;
        let kinds = &seat.known.kinds;
        seat.client.draw(read, |entity, drawn| {
            let entity = usize::from(entity);
            if let Some(member) = course.cast.get(entity) {
                let bearing = kinds.motion(member.kind).schema().bearing_lane();
                watch.drawn(at, i, entity, drawn, bearing);
            }
        });
        let overreach = self.seats[i].forged.overreach;
        for mut bytes in outgoing {
            if let Some(factor) = overreach {
                let honest = bytes.clone();
                bytes = forge::overreach(bytes, &self.seats[i].client.layouts(read), factor);
                if bytes != honest && self.seats[i].trial.as_mut().is_some_and(Trial::take_offence) {
                    self.tell(watch, machine, self.seats[i].client.newest_tick(), Happening::Offence);
                }
            }
            self.send(i, true, bytes, watch);
        }
    }

    /// What a member's hands do in this frame.
    fn hands(&mut self, i: usize, course: &Course) -> Controls {
        if self.helm.member == Some(i) {
            let controls = self.helm.controls;
            // A press is a press once.
            self.helm.controls.hops = 0;
            return controls;
        }
        let seat = &mut self.seats[i];
        let own = seat.client.own_state();
        seat.bot.controls(&course.cast[i].route, self.now, own.as_ref(), seat.client.schema())
    }

    fn send<W: Watch>(&mut self, member: usize, up: bool, bytes: Vec<u8>, watch: &mut W) {
        let newest = if up { self.seats[member].client.newest_tick() } else { Some(self.server.newest_tick()) };
        let Some((kind, sequence, tick)) = peek(&bytes, newest) else { return };
        let base = self.course.first_tick;
        let tick = tick.map(|t| t.0.saturating_sub(base));
        let ticket = Ticket { kind, index: tick.unwrap_or(u64::from(sequence)) };
        let seat = &mut self.seats[member];
        let pipe = if up { &mut seat.up } else { &mut seat.down };
        let fate = pipe.send(self.course.seed, self.now, ticket);
        watch.message(MessageRow {
            at: self.now,
            arrived: fate.arrives,
            member: member as u16,
            up,
            doubled: fate.again.is_some(),
            kind,
            bytes: bytes.len() as u16,
            tick: tick.map(|t| t as u32),
        });
        let bytes: Arc<[u8]> = bytes.into();
        for at in [fate.arrives, fate.again].into_iter().flatten() {
            self.schedule(at, Due::Arrival { up, member, bytes: bytes.clone() });
        }
    }

    fn tell<W: Watch>(&self, watch: &mut W, machine: Machine, tick: Option<Tick>, what: Happening) {
        let tick = tick.map(|t| t.0.saturating_sub(self.course.first_tick) as u32);
        watch.happening(HappeningRow { at: self.now, machine, tick, what });
    }

    fn event<W: Watch>(&mut self, index: usize, watch: &mut W) {
        let event = self.course.events[index];
        match event.what {
            What::Push(member, velocity) => {
                self.server.push(member as u16, velocity);
                let tick = self.server.newest_tick().next();
                self.tell(watch, Machine::Member(member), Some(tick), Happening::Pushed);
            }
            What::Freeze(who, lasts) => {
                let until = self.now.plus(lasts);
                let (host, machine) = match who {
                    None => (&mut self.server_host, Machine::Server),
                    Some(i) => (&mut self.seats[i].host, Machine::Member(i)),
                };
                host.frozen_until = until;
                self.tell(watch, machine, None, Happening::Frozen(lasts));
            }
        }
        if let Some(every) = event.every {
            self.schedule(self.now.plus(every), Due::Event(index));
        }
    }

    fn trick<W: Watch>(&mut self, member: usize, index: usize, begins: bool, watch: &mut W) {
        let course = self.course.clone();
        let trick = course.cast[member].tricks[index];
        debug_assert!(course.cast[member].role == Role::Rogue);
        let seat = &mut self.seats[member];
        let before = seat.client.own_state();
        match trick.cheat {
            Cheat::Jump(metres) if begins => {
                let schema = seat.known.kinds.motion(course.cast[member].kind).schema();
                Forged::jump(&mut seat.client, schema, metres);
            }
            Cheat::Jump(_) => {}
            cheat => {
                seat.forged.set(cheat, begins);
                if cheat == Cheat::Walls && begins {
                    seat.bot.cut_corner();
                }
                seat.client.set_ingredients(seat.ingredients(&course, course.cast[member].kind));
            }
        }
        if begins {
            let lawful = told(Arc::new(course.ground(KnownTo::Clients)), &seat.known);
            let newest = seat.client.newest_tick().zip(before);
            seat.trial = Some(Trial::new(index, course.cast[member].kind, course.rate.dt(), lawful, newest));
        } else if seat.trial.as_ref().is_some_and(|trial| trial.trick == index) {
            // What comes after its end is none of its doing.
            seat.trial = None;
        }
        let lasts = if matches!(trick.cheat, Cheat::Jump(_)) { LabTime::ZERO } else { trick.lasts };
        self.tell(watch, Machine::Member(member), None, Happening::Trick { lasts: begins.then_some(lasts) });
        if begins {
            if !matches!(trick.cheat, Cheat::Jump(_)) {
                self.schedule(self.now.plus(trick.lasts), Due::Trick { member, trick: index, begins: false });
            }
            if let Some(every) = trick.every {
                self.schedule(self.now.plus(every), Due::Trick { member, trick: index, begins: true });
            }
        }
    }

    /// Does what was commanded, now.
    ///
    /// `rules` are those read while it ran, for commands that speak of them by number.
    pub fn command<W: Watch>(&mut self, command: Command, rules: &[Arc<dyn Motion>], watch: &mut W) {
        let machine = match command {
            Command::Keys(controls) => {
                // Presses not yet seen by a frame are kept.
                let hops = self.helm.controls.hops + controls.hops;
                self.helm.controls = Controls { hops, ..controls };
                self.helm.member
            }
            Command::Helm(member) => {
                let member = member.filter(|&m| m < self.seats.len());
                if let Some(left) = self.helm.member {
                    self.seats[left].bot = Bot::default();
                }
                self.helm = Helm { member, controls: Controls::default() };
                member
            }
            Command::Set { member, knob, value } => {
                if member >= self.seats.len() {
                    return;
                }
                self.set(member, knob, value);
                Some(member)
            }
            Command::Tune { kind, tunable, value, reach } => {
                return self.change(reach, Changed::Tuned { kind, tunable, value }, command, watch);
            }
            Command::Reload { kind, version, reach } => {
                let Some(rule) = rules.get(usize::from(version).wrapping_sub(1)).cloned() else { return };
                return self.change(reach, Changed::Reloaded { kind, version, rule }, command, watch);
            }
        };
        let Some(member) = machine else { return };
        let tick = self.seats[member].client.newest_tick();
        self.tell(watch, Machine::Member(member), tick, Happening::Command(command));
    }

    /// Lets machines know something else from one tick on that lies ahead of them all.
    fn change<W: Watch>(&mut self, reach: Reach, what: Changed, command: Command, watch: &mut W) {
        let clients = self.seats.iter().filter_map(|s| s.client.newest_tick());
        let from = clients.fold(self.server.newest_tick(), Tick::max).next();
        if reach.covers(Machine::Server) {
            self.server_known.take(&what);
            let ground = self.server.ingredients().ground.clone();
            self.server.set_ingredients_at(from, told(ground, &self.server_known));
        }
        let course = self.course.clone();
        for (i, seat) in self.seats.iter_mut().enumerate().filter(|(i, _)| reach.covers(Machine::Member(*i))) {
            seat.known.take(&what);
            seat.client.set_ingredients_at(from, seat.ingredients(&course, course.cast[i].kind));
        }
        let tick = from.0.saturating_sub(self.course.first_tick) as u32;
        watch.changed(Change { at: self.now, tick, reach, what });
        let machine = match reach {
            Reach::All => Machine::Server,
            Reach::One(machine) => machine,
        };
        self.tell(watch, machine, Some(from), Happening::Command(command));
    }

    /// What a machine knows of the rules, without what a rogue makes of it.
    pub fn known(&self, machine: Machine) -> &Known {
        match machine {
            Machine::Server => &self.server_known,
            Machine::Member(i) => &self.seats[i].known,
        }
    }

    /// Whether everybody would still fit a snapshot with another rule of a kind.
    ///
    /// # Errors
    /// When not, or when there is no such kind.
    pub fn fits(&self, kind: u8, rule: &Arc<dyn Motion>) -> Result<(), SpawnError> {
        let kinds = self.server_known.kinds.with(kind, rule.clone()).map_err(|_| SpawnError::Kind(kind))?;
        self.server.fits(&kinds)
    }

    fn set(&mut self, member: usize, knob: Knob, value: KnobValue) {
        let seat = &mut self.seats[member];
        knob.set(&mut seat.knobs, value);
        seat.up.change(seat.knobs.up);
        seat.down.change(seat.knobs.down);
        seat.client.set_settings(seat.knobs.settings);
        self.server.set_snapshot_every(PeerId(member as u16), seat.knobs.snapshot_every);
    }
}

/// What a machine is told: this ground and these rules.
fn told(ground: Arc<Ground>, known: &Known) -> Ingredients {
    Ingredients { ground, kinds: known.kinds.clone(), tunables: known.tunables.clone().into() }
}

impl Seat {
    /// What its client is told: what it lawfully knows, bent by the tricks in force.
    fn ingredients(&self, course: &Course, kind: u8) -> Ingredients {
        let lawful = told(Arc::new(course.ground(KnownTo::Clients)), &self.known);
        self.forged.ingredients(lawful, &self.known.kinds, kind)
    }
}

/// What luck and the record need to know of a datagram: its kind, number, and the tick it is about.
fn peek(bytes: &[u8], near: Option<Tick>) -> Option<(MessageKind, u16, Option<Tick>)> {
    let mut reader = BitReader::new(bytes);
    let header = Header::read(&mut reader).ok()?;
    let about = matches!(header.kind, MessageKind::Inputs | MessageKind::Snapshot | MessageKind::Claim);
    let tick = match near.filter(|_| about) {
        Some(near) => reader.take(16).ok().and_then(|t| WireTick(t as u16).unwrap_near(near).ok()),
        None => None,
    };
    Some((header.kind, header.sequence, tick))
}
