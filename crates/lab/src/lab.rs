//! The simulation: machines, links and scripts in virtual time.
//!
//! A [`Lab`] holds the real [`Server`] and [`Client`](velocitas_core::Client)s and everything around them. It knows nothing
//! of the record but that somebody may be watching, and it is cheap to clone: a clone is a checkpoint. Encoded bytes cross
//! the links and nothing else does.

mod beginning;
mod commands;
mod events;

use std::collections::VecDeque;
use std::sync::Arc;

use velocitas_core::{
    Address, Carried, Client, Entity, EntityId, Event, Fact, Guest, HostNanos, Ingredients, Layouts, MAX_DATAGRAM,
    Motion, Server, ServerConfig, SpawnError, State, Tick, Timeline, Token, Vec3, WireTick,
};

use crate::agenda::Agenda;
use crate::bystander::{Bystanders, Sight};
use crate::chance::{Chance, Purpose};
use crate::course::{Course, KnownTo, Role};
use crate::faults::{Forged, TrickWatch};
use crate::frames::frame;
use crate::hands::{Luck, Seen};
use crate::link::Ticket;
use crate::links::Links;
use crate::machine::{Arrived, GroundPoint, Machine, Playing, Serving};
use crate::reread::ReloadError;
use crate::screen::take;
use crate::tap::{RunDigest, Tap};
use velocitas_record::addresses::{machine_at, token};
use velocitas_record::command::Calm;
use velocitas_record::controls::Controls;
use velocitas_record::ids::{MachineId, MemberId, Part, RecordTick};
use velocitas_record::knob::Knobs;
use velocitas_record::known::{Known, Reach};
use velocitas_record::screen::Screen;
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, HappeningRow, MessageRow, Watch};

/// What the queue holds.
#[derive(Clone, Debug)]
enum Due {
    /// A machine comes round.
    Frame(MachineId),
    /// A datagram arrives. `number` counts datagrams on the link; `part` says whom it is for; `client` is the address of the client that
    /// sent or gets it.
    Arrival { to: MachineId, from: MachineId, number: u64, part: Part, client: Address, bytes: Vec<u8> },
    /// Something of the course happens.
    Event(usize),
    /// A rogue's trick begins or ends.
    Trick { member: MemberId, trick: usize, begins: bool },
}

/// The keyboard's hands.
#[derive(Clone, Copy, Debug, Default)]
struct Helm {
    member: Option<MemberId>,
    controls: Controls,
    /// When its keys were last moved.
    since: LabTime,
}

/// The simulation: machines, links and scripts in virtual time.
#[derive(Clone, Debug)]
pub struct Lab {
    course: Arc<Course>,
    now: LabTime,
    agenda: Agenda<Due>,
    /// Room for what arrives, used by machine after machine.
    empty: VecDeque<Arrived>,
    machines: Vec<Machine>,
    links: Links,
    /// What nobody came with, in the order of the course.
    things: Vec<EntityId>,
    /// What no longer goes wrong.
    calms: Vec<Calm>,
    helm: Helm,
    /// Where clients check each other.
    bystanders: Bystanders,
    digest: RunDigest,
    /// What is drawn in the frame at hand.
    screen: Sheet,
}

/// A screen to draw on, kept for its room: a copy is blank.
#[derive(Debug, Default)]
struct Sheet(Screen);

impl Clone for Sheet {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl Lab {
    /// A course at its beginning.
    ///
    /// # Panics
    /// When the cast does not fit a snapshot: [`crate::Run::new`] checks that first.
    pub fn new(course: Arc<Course>) -> Self {
        let mut machines: Vec<Machine> = course.machines().map(|(_, host)| Machine::new(host)).collect();
        let mut links = Links::new(course.traces.clone());
        let (serving, things) = serving(&course);
        machines[MachineId::SERVER.index()].server = Some(Box::new(serving));
        for member in course.members() {
            let machine = course.machine(member);
            let mut playing = Playing::of(member, &course);
            if course[member].there {
                playing.start(&course, LabTime::ZERO);
            }
            if machine != MachineId::SERVER {
                links.lay(machine, MachineId::SERVER, playing.knobs.up);
                links.lay(MachineId::SERVER, machine, playing.knobs.down);
            }
            machines[machine.index()].client = Some(Box::new(playing));
        }
        let mut lab = Self {
            now: LabTime::ZERO,
            agenda: Agenda::default(),
            empty: VecDeque::new(),
            machines,
            links,
            things,
            calms: Vec::new(),
            helm: Helm::default(),
            bystanders: Bystanders::default(),
            digest: RunDigest::default(),
            screen: Sheet::default(),
            course,
        };
        lab.schedule_beginning();
        lab
    }

    fn schedule_beginning(&mut self) {
        let course = self.course.clone();
        self.schedule_frame(MachineId::SERVER);
        for member in course.members() {
            let machine = course.machine(member);
            if machine != MachineId::SERVER {
                self.schedule_frame(machine);
            }
            for (trick, t) in course[member].tricks.iter().enumerate() {
                self.schedule(t.at, Due::Trick { member, trick, begins: true });
            }
        }
        for (i, event) in course.events.iter().enumerate() {
            self.schedule(event.at, Due::Event(i));
        }
    }

    fn schedule_frame(&mut self, machine: MachineId) {
        self.schedule(self.machines[machine.index()].host.phase, Due::Frame(machine));
    }

    fn schedule(&mut self, at: LabTime, due: Due) {
        self.agenda.put(at.max(self.now), due);
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

    fn serving(&self) -> &Serving {
        self.machines[MachineId::SERVER.index()].server.as_ref().expect("the first machine decides")
    }

    fn serving_mut(&mut self) -> &mut Serving {
        self.machines[MachineId::SERVER.index()].server.as_mut().expect("the first machine decides")
    }

    fn playing(&self, member: MemberId) -> &Playing {
        let machine = self.course.machine(member);
        self.machines[machine.index()].client.as_ref().expect("every member has a client")
    }

    fn playing_mut(&mut self, member: MemberId) -> &mut Playing {
        let machine = self.course.machine(member);
        self.machines[machine.index()].client.as_mut().expect("every member has a client")
    }

    fn clients(&self) -> impl Iterator<Item = &Playing> {
        self.machines.iter().filter_map(|m| m.client.as_deref())
    }

    /// The server, to look at.
    pub fn server(&self) -> &Server {
        &self.serving().server
    }

    /// A member's client while its program runs, to look at.
    pub fn client(&self, member: MemberId) -> Option<&Client> {
        self.playing(member).client.as_ref()
    }

    /// Whether a member's program runs and has not left.
    pub fn runs(&self, member: MemberId) -> bool {
        self.playing(member).runs()
    }

    /// What came into the world with a member, while it is there.
    pub fn entity(&self, member: MemberId) -> Option<EntityId> {
        self.server().body_of(self.playing(member).token())
    }

    /// What nobody came with, in the order of the course.
    pub fn things(&self) -> &[EntityId] {
        &self.things
    }

    /// The server's newest tick.
    pub fn server_tick(&self) -> Tick {
        self.server().newest_tick()
    }

    /// A member's entity as the server has it.
    pub fn server_state(&self, member: MemberId) -> Option<&State> {
        self.server().state(self.entity(member)?)
    }

    /// Whether a member's body has room at a place, as the server knows the ground.
    pub fn has_room(&self, member: MemberId, at: Vec3) -> bool {
        let body = self.server_known().kinds.motion(self.course[member].kind).body();
        self.server().ingredients().ground.overlap(&body, at).is_none()
    }

    /// A member's settings and link.
    pub fn knobs(&self, member: MemberId) -> &Knobs {
        &self.playing(member).knobs
    }

    /// Who is driven from the keyboard.
    pub const fn helm(&self) -> Option<MemberId> {
        self.helm.member
    }

    /// Bytes it takes in memory, roughly.
    pub fn bytes(&self) -> usize {
        let clients = self.clients().map(|p| size_of::<Playing>() + p.client.as_ref().map_or(0, Client::bytes));
        self.server().bytes() + clients.sum::<usize>() + self.agenda.len() * (size_of::<Due>() + MAX_DATAGRAM / 4)
    }

    /// Datagrams refused by any machine so far.
    pub fn refused(&self) -> u64 {
        self.server().refused() + self.clients().filter_map(|p| p.client.as_ref()).map(Client::refused).sum::<u64>()
    }

    /// Lets everything happen that is due up to and including `to`.
    pub fn advance<W: Watch>(&mut self, to: LabTime, watch: &mut W) {
        while let Some((at, due)) = self.agenda.next(to) {
            self.now = at;
            match due {
                Due::Frame(machine) => self.frame(machine, watch),
                Due::Arrival { to, from, number, part, client, bytes } => {
                    watch.arrived(at, from, to, number);
                    let arrived = Arrived { from, number, client, part, bytes };
                    if let Some(oldest) = self.machines[to.index()].receive(arrived) {
                        watch.unread(oldest.from, to, oldest.number);
                    }
                }
                Due::Event(i) => self.event(i, watch),
                Due::Trick { member, trick, begins } => self.trick(member, trick, begins, watch),
            }
        }
        self.now = self.now.max(to);
    }

    /// The reading of a machine's clock in its next frame, unless it stands still: it then comes round when it wakes.
    fn next_frame(&mut self, id: MachineId) -> Option<HostNanos> {
        let machine = &mut self.machines[id.index()];
        if self.now < machine.frozen_until {
            let wakes = machine.frozen_until;
            self.schedule(wakes, Due::Frame(id));
            return None;
        }
        let length = frame(&machine.host, self.course.seed, id.place(), machine.frame);
        machine.frame += 1;
        let read = machine.clock(self.now);
        self.schedule(self.now.plus(length), Due::Frame(id));
        Some(read)
    }

    /// Everything a machine does at once: what it decides, then what it plays.
    fn frame<W: Watch>(&mut self, id: MachineId, watch: &mut W) {
        let Some(read) = self.next_frame(id) else { return };
        let mut socket = self.machines[id.index()].read(std::mem::take(&mut self.empty));
        if self.machines[id.index()].server.is_some() {
            self.server_frame(id, read, &socket, watch);
        }
        if self.machines[id.index()].client.is_some() {
            self.client_frame(id, read, &socket, watch);
        }
        socket.clear();
        self.empty = socket;
    }

    fn tap<'a, W>(&self, watch: &'a mut W, machine: MachineId, part: Part) -> Tap<'a, W> {
        Tap {
            watch,
            digest: self.digest,
            base: self.course.first_tick,
            at: self.now,
            machine,
            part,
            trials: Vec::new(),
        }
    }

    fn server_frame<W: Watch>(&mut self, id: MachineId, read: HostNanos, socket: &VecDeque<Arrived>, watch: &mut W) {
        let mut tap = self.tap(watch, id, Part::Server);
        let Some(serving) = &mut self.machines[id.index()].server else { return };
        for arrived in socket.iter().filter(|arrived| arrived.part == Part::Server) {
            // A strange packet is counted by the server and dropped.
            let _ = serving.server.handle_datagram(read, arrived.client, &arrived.bytes, &mut tap);
        }
        serving.server.handle_time(read, &mut tap);
        self.digest = tap.digest;
        let newest = Some(serving.server.newest_tick());
        let count = self.machines.len();
        while let Some(serving) = &mut self.machines[id.index()].server
            && let Some((client, bytes)) = serving.server.poll_transmit()
        {
            if let Some(to) = machine_at(client, count) {
                self.send((id, to), (Part::Client, client), newest, bytes, watch);
            }
        }
    }

    fn client_frame<W: Watch>(&mut self, id: MachineId, read: HostNanos, socket: &VecDeque<Arrived>, watch: &mut W) {
        let (controls, moved) = self.hands(id);
        let mut tap = self.tap(watch, id, Part::Client);
        let Some(playing) = &mut self.machines[id.index()].client else { return };
        let address = playing.address(id);
        let (member, kind) = (playing.member, self.course[playing.member].kind);
        let Playing { client: Some(client), resting, looked, trials, faulty, forged, played, .. } = &mut **playing
        else {
            return;
        };
        let since = self.now.minus(*looked).secs() as f32;
        let rests = controls.is_at_rest(client.schema(kind));
        if *resting && !rests {
            tap.happening(client.newest_tick(), Happening::Pressed(moved.clamp(*looked, self.now)));
        }
        (*resting, *looked) = (rests, self.now);
        tap.trials = std::mem::take(trials);
        for arrived in socket.iter().filter(|arrived| arrived.part == Part::Client && arrived.client == address) {
            let heard = faulty.heard(&arrived.bytes, &client.layouts(read));
            let _ = client.handle_datagram(read, heard.as_deref().unwrap_or(&arrived.bytes), &mut tap);
        }
        for place in 0..client.owned().len() {
            let owned = client.owned()[place];
            let input = controls.to_input(client.schema(owned.kind), client.schema(kind));
            client.handle_controls(owned.entity, &input);
        }
        client.handle_time(read, &mut tap);
        *played = client.newest_tick().unwrap_or_default().max(*played);
        if forged.keeps_any() {
            keep(client, forged, &self.course, member, since);
        }
        self.digest = tap.digest;
        *trials = tap.trials;
        if W::LOOKS {
            take(&mut self.screen.0, Tick(self.course.first_tick), client, read);
            watch.frame(self.now, id, &self.screen.0);
        }
        self.look_on(id, read, watch);
        for (tick, entity, to) in self.new_orders(id) {
            self.tell(watch, id, Part::Client, Some(tick), Happening::Ordered(entity, to));
        }
        while let Some(Playing { client: Some(client), forged, .. }) = self.machines[id.index()].client.as_deref_mut() {
            let (is_lawful, newest) = (forged.is_lawful(), client.newest_tick());
            let Some(bytes) = client.poll_transmit() else { return };
            if is_lawful {
                self.send((id, MachineId::SERVER), (Part::Server, address), newest, bytes, watch);
                continue;
            }
            let (all, offends) = self.forge(id, read, bytes);
            if offends {
                self.tell(watch, id, Part::Client, newest, Happening::Offence);
            }
            for bytes in all {
                self.send((id, MachineId::SERVER), (Part::Server, address), newest, bytes, watch);
            }
        }
    }

    /// Where clients check each other, this one does.
    fn look_on<W: Watch>(&mut self, id: MachineId, read: HostNanos, watch: &mut W) {
        let Some(row) = self.course.guard.naive.filter(|row| row.is_of_clients) else { return };
        let others = self.course.members().filter(|member| self.course.machine(*member) != id);
        let sight = |member: MemberId| {
            let (entity, peer) = (self.entity(member)?, self.server().peer_of(self.playing(member).token())?);
            Some(Sight { entity, peer, kind: self.course[member].kind })
        };
        let sights: Vec<Sight> = others.filter_map(sight).collect();
        let client = self.machines[id.index()].client.as_ref().and_then(|playing| playing.client.as_ref());
        let Some(client) = client else { return };
        let found = self.bystanders.look(row, (id, client, read), &sights, self.course.rate);
        for verdict in found {
            watch.event(self.now, id, Part::Client, &Event::Fact(Fact::Verdict(verdict)));
        }
    }

    /// Asks something of the layouts in which a machine's client reads and writes; where none runs, in those of the server.
    pub(crate) fn as_client<T>(&self, id: MachineId, ask: impl FnOnce(&Layouts<'_>) -> T) -> T {
        let machine = &self.machines[id.index()];
        let read = machine.clock(self.now);
        match machine.client.as_ref().and_then(|playing| playing.client.as_ref()) {
            Some(client) => ask(&client.layouts(read)),
            None => {
                let ground = Arc::new(self.course.ground(KnownTo::Server));
                let known = Ingredients::new(ground, &self.server_known().kinds);
                ask(&Layouts::new(&Timeline::new(known), None, &[]))
            }
        }
    }

    fn new_orders(&mut self, id: MachineId) -> Vec<(Tick, EntityId, Option<GroundPoint>)> {
        self.machines[id.index()].client.as_deref_mut().map_or_else(Vec::new, Playing::new_orders)
    }

    /// What a machine sends, as its cheats would have it. Says whether that is the first offence of a trick.
    fn forge(&mut self, id: MachineId, read: HostNanos, bytes: Vec<u8>) -> (Vec<Vec<u8>>, bool) {
        let now = self.now;
        let Some(playing) = &mut self.machines[id.index()].client else { return (vec![bytes], false) };
        let Some(client) = &playing.client else { return (vec![bytes], false) };
        let (bytes, rewritten) = playing.forged.rewritten(&bytes, &client.layouts(read)).unwrap_or((bytes, false));
        let (all, offends) = playing.forged.sent(bytes, now);
        let first =
            |trials: &mut Vec<TrickWatch>| trials.iter_mut().filter(|t| t.rewrites()).any(TrickWatch::take_offence);
        (all, (rewritten || offends) && first(&mut playing.trials))
    }

    /// What the hands at a machine do in this frame, and when they began to.
    fn hands(&mut self, id: MachineId) -> (Controls, LabTime) {
        let resting = (Controls::default(), self.now);
        let Some(playing) = &mut self.machines[id.index()].client else { return resting };
        let Some(client) = &playing.client else { return resting };
        // Its own body is what it walks with, whatever else it owns.
        let kind = self.course[playing.member].kind;
        if self.helm.member == Some(playing.member) {
            let controls = self.helm.controls;
            self.helm.controls.let_go(client.schema(kind));
            return (controls, self.helm.since);
        }
        let body = client.owned().iter().find(|owned| owned.kind == kind).or(client.owned().first()).copied();
        let own = body.and_then(|owned| client.own_state(owned.entity));
        let schema = client.schema(body.map_or(kind, |owned| owned.kind));
        let (seed, bounds) = (self.course.seed, self.course.world.bounds);
        let luck = |what: Luck, count| Chance::of(seed, Purpose::Hands, id.place(), what as u32, count).uniform();
        let seen = Seen { now: self.now, own: own.as_ref(), schema, bounds };
        playing.hands.controls(&self.course[playing.member].script, &seen, &luck)
    }

    fn send<W: Watch>(
        &mut self,
        (from, to): (MachineId, MachineId),
        (part, client): (Part, Address),
        newest: Option<Tick>,
        bytes: Vec<u8>,
        watch: &mut W,
    ) {
        let Some(carried) = Carried::of(&bytes) else { return };
        let near = |tick: WireTick| newest.and_then(|newest| tick.unwrap_near(newest).ok());
        let (kind, tick) = (carried.kind, carried.tick.and_then(near));
        let ticket = Ticket { kind, tick: tick.map(|t| t.0.saturating_sub(self.course.first_tick)) };
        let (fate, number) = self.links.send(self.course.seed, self.now, (from, to), ticket, bytes.len());
        let row = MessageRow {
            at: self.now,
            arrived: fate.arrives,
            again: fate.again,
            lost: fate.arrives.is_none(),
            unread: false,
            kind,
            bytes: bytes.len() as u16,
            tick: tick.map(|t| self.record_tick(t)),
            ticks: carried.ticks,
            entity: carried.entity,
            entities: carried.entities,
            epoch: carried.epoch,
        };
        watch.message(from, to, row);
        watch.payload(from, to, number, &bytes);
        let arrival = |bytes| Due::Arrival { to, from, number, part, client, bytes };
        if let Some(again) = fate.again {
            self.schedule(again, arrival(bytes.clone()));
        }
        if let Some(arrives) = fate.arrives {
            self.schedule(arrives, arrival(bytes));
        }
    }

    fn record_tick(&self, tick: Tick) -> RecordTick {
        RecordTick::of(Tick(self.course.first_tick), tick)
    }

    fn tell<W: Watch>(&self, watch: &mut W, machine: MachineId, part: Part, tick: Option<Tick>, what: Happening) {
        watch.happening(machine, HappeningRow { at: self.now, part, tick: tick.map(|t| self.record_tick(t)), what });
    }

    fn trick<W: Watch>(&mut self, member: MemberId, index: usize, begins: bool, watch: &mut W) {
        let course = self.course.clone();
        let trick = course[member].tricks[index];
        debug_assert!(course[member].role == Role::Rogue);
        let (entity, kind) = (self.entity(member), course[member].kind);
        let seat = self.playing_mut(member);
        let own = entity.zip(seat.client.as_ref());
        let before = own.and_then(|(entity, client)| client.own_state(entity));
        let cheat = trick.cheat;
        if cheat.spec.is_once() {
            if let Some(state) = before.filter(|_| begins) {
                let schema = seat.known.kinds.motion(kind).schema();
                if let Some((entity, client)) = entity.zip(seat.client.as_mut()) {
                    let bounds = *client.ingredients().ground.bounds();
                    client.place(entity, Forged::moved(cheat, state, schema, &bounds));
                }
            }
        } else {
            seat.forged.set(cheat, begins);
            if cheat.spec.cuts_corners && begins {
                seat.hands.cut_corner();
            }
            let ingredients = seat.ingredients(&course);
            if let Some(client) = &mut seat.client {
                client.set_ingredients(ingredients);
            }
            let haste = seat.forged.haste();
            self.machines[course.machine(member).index()].hurry(self.now, haste);
        }
        let seat = self.playing_mut(member);
        if begins {
            let lawful = seat.known.ingredients();
            let newest = seat.client.as_ref().and_then(Client::newest_tick).zip(before);
            seat.trials.push(TrickWatch::new(index, cheat.spec, (kind, course.rate.dt()), lawful, newest));
        } else {
            // What comes after its end is none of its doing.
            seat.trials.retain(|trial| trial.trick != index);
        }
        let lasts = if cheat.spec.is_once() { LabTime::ZERO } else { trick.lasts };
        let what = Happening::Trick { lasts: begins.then_some(lasts) };
        let newest = self.client(member).and_then(Client::newest_tick);
        self.tell(watch, course.machine(member), Part::Client, newest, what);
        if begins {
            if !cheat.spec.is_once() {
                self.schedule(self.now.plus(trick.lasts), Due::Trick { member, trick: index, begins: false });
            }
            if let Some(every) = trick.every {
                self.schedule(self.now.plus(every), Due::Trick { member, trick: index, begins: true });
            }
        }
    }

    /// What the server knows of the rules.
    pub fn server_known(&self) -> &Known {
        &self.serving().known
    }

    /// What a member's client knows of the rules, without what a rogue makes of it.
    pub fn known(&self, member: MemberId) -> &Known {
        &self.playing(member).known
    }

    /// Whether another rule of a kind can take the place of the one in force on these machines, now.
    ///
    /// # Errors
    /// When everybody would no longer fit a snapshot, there is no such kind, or one machine alone would read and write other bits
    /// than the rest while its program runs. One that does not run may have another layout: it is refused when it comes.
    pub fn may_reload(&self, kind: u8, rule: &Arc<dyn Motion>, reach: Reach) -> Result<(), ReloadError> {
        let before = &self.serving().known.kinds;
        let kinds = before.with(kind, rule.clone()).map_err(|_| SpawnError::Kind(kind))?;
        self.server().fits(&kinds)?;
        let is_other = before.motion(kind).schema().fingerprint() != rule.schema().fingerprint();
        let may_be_other = match reach {
            Reach::All => true,
            Reach::One(machine) => self.course.player(machine).is_some_and(|member| !self.runs(member)),
        };
        if is_other && !may_be_other { Err(ReloadError::Layout) } else { Ok(()) }
    }
}

/// What decides, at the beginning of a course, and what nobody came with.
fn serving(course: &Course) -> (Serving, Vec<EntityId>) {
    let known = course.known(KnownTo::Server);
    let (_, host) = course.machines().next().expect("one that decides");
    let start = host.read(host.phase);
    let mut server = Server::new(ServerConfig {
        rate: course.rate,
        base: Tick(course.first_tick),
        start,
        ingredients: known.ingredients(),
        patience: course.patience,
        policy: course.guard.policy.clone(),
        secret: course.seed,
    });
    populate(course, &mut server, start).expect("the cast was checked to fit a snapshot");
    let things = server.world().iter().filter(|e| course.members().all(|m| server.body_of(token(m)) != Some(e.id())));
    let things = things.map(Entity::id).collect();
    (Serving { server, known }, things)
}

/// A member as the server expects it, by this name.
pub(crate) fn guest(course: &Course, member: MemberId, token: Token) -> Guest {
    let m = &course[member];
    let body = Some((m.kind, course.spawn(member)));
    Guest { token, arrangement: m.arrangement, snapshot_every: m.knobs.snapshot_every, body }
}

/// Invites everybody, and brings into the world who and what is there from the beginning.
pub(crate) fn populate(course: &Course, server: &mut Server, now: HostNanos) -> Result<(), SpawnError> {
    for member in course.members() {
        server.invite(guest(course, member, token(member)));
        if course[member].there {
            server.bring(token(member), now)?;
        }
    }
    for thing in &course.things {
        let entity = server.spawn(thing.kind, course.kinds.motion(thing.kind).spawn(thing.at, thing.facing))?;
        let owners: Vec<_> = thing.owners.iter().map(|owner| token(*owner)).collect();
        server.set_owners(entity, &owners)?;
    }
    Ok(())
}

/// Has a rogue's own body be as its cheats keep it.
fn keep(client: &mut Client, forged: &Forged, course: &Course, member: MemberId, seconds: f32) {
    let it = &course[member];
    let Some(body) = client.owned().iter().find(|owned| owned.kind == it.kind).copied() else { return };
    let Some(state) = client.own_state(body.entity) else { return };
    let first = course.kinds.motion(it.kind).spawn(it.spawn, it.facing);
    if let Some(kept) = forged.kept(&state, client.schema(it.kind), &first, seconds) {
        client.place(body.entity, kept);
    }
}
