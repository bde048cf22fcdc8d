//! The simulation: machines, links and scripts in virtual time.
//!
//! A [`Lab`] holds the real [`Server`] and [`Client`](velocitas_core::Client)s and everything around them. It knows nothing
//! of the record but that somebody may be watching, and it is cheap to clone: a clone is a checkpoint. Encoded bytes cross
//! the links and nothing else does.

mod beginning;
mod commands;
mod events;
mod rounds;

use std::collections::VecDeque;
use std::sync::Arc;

use velocitas_core::{
    Address, Client, Entity, EntityId, Guest, HostNanos, Ingredients, Layouts, MAX_DATAGRAM, Motion, Receiver, Server,
    ServerConfig, SpawnError, State, Tick, Timeline, Token, Vec3,
};
use velocitas_record::addresses::token;
use velocitas_record::command::Calm;
use velocitas_record::controls::Controls;
use velocitas_record::ids::{MachineId, MemberId, Part, RecordTick};
use velocitas_record::knob::Knobs;
use velocitas_record::known::{Known, Reach};
use velocitas_record::screen::Screen;
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, HappeningRow, Watch};

use crate::agenda::Agenda;
use crate::bystander::Bystanders;
use crate::course::{Course, KnownTo, Role};
use crate::faults::{Forged, TrickWatch};
use crate::links::Links;
use crate::machine::{Arrived, Machine, Playing, Serving};
use crate::reread::ReloadError;
use crate::tap::RunDigest;

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

    /// Asks something of the layouts in which a machine's client reads and writes; where none runs, in those of the server.
    pub(crate) fn as_client<T>(&self, id: MachineId, ask: impl FnOnce(&Receiver<'_>) -> T) -> T {
        let machine = &self.machines[id.index()];
        let read = machine.clock(self.now);
        match machine.client.as_ref().and_then(|playing| playing.client.as_ref()) {
            Some(client) => ask(&client.receiver(read)),
            None => {
                let ground = Arc::new(self.course.ground(KnownTo::Server));
                let known = Ingredients::new(ground, &self.server_known().kinds);
                ask(&Receiver::of(Layouts::new(&Timeline::new(known), None, &[])))
            }
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
    Guest { token, arrangement: m.arrangement, settings: m.knobs.served, body }
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
