//! A computer of the lab: a socket, frames, and what runs on it.

use std::collections::VecDeque;

use velocitas_analysis::fault::Fault;
use velocitas_core::{
    Address, Client, ClientConfig, EntityId, HostNanos, Ingredients, InputKind, Life, Server, Tick, Token,
};
use velocitas_record::addresses::{address, aliased, token};
use velocitas_record::host::HostSpec;
use velocitas_record::ids::{MachineId, MemberId, Part};
use velocitas_record::knob::Knobs;
use velocitas_record::known::{Changed, Known};
use velocitas_record::time::LabTime;
use velocitas_record::world::KnownTo;

use crate::course::Course;
use crate::faults::{Forged, TrickWatch};
use crate::faulty::Faulty;
use crate::hands::Hands;

/// Datagrams a machine's socket holds while nobody reads it; the oldest make room for more.
const SOCKET: usize = 512;

/// A datagram that has arrived.
#[derive(Clone, Debug)]
pub(crate) struct Arrived {
    /// The machine it comes from, and its number on that link.
    pub(crate) from: MachineId,
    pub(crate) number: u64,
    /// Where the client that speaks or is spoken to is, or was.
    pub(crate) client: Address,
    pub(crate) part: Part,
    pub(crate) bytes: Vec<u8>,
}

/// A computer.
#[derive(Clone, Debug)]
pub(crate) struct Machine {
    pub(crate) host: HostSpec,
    /// By how much a rogue has set its clock forward or back, and how it goes on.
    set: ClockSet,
    /// Frames so far.
    pub(crate) frame: u64,
    pub(crate) frozen_until: LabTime,
    /// What arrived since the last frame.
    socket: VecDeque<Arrived>,
    pub(crate) server: Option<Box<Serving>>,
    pub(crate) client: Option<Box<Playing>>,
}

/// A clock that somebody has meddled with.
#[derive(Clone, Copy, Debug)]
struct ClockSet {
    /// Nanoseconds it was ahead at a moment, the moment, and how many times as fast it runs since.
    gained: i64,
    since: LabTime,
    haste: f64,
}

impl ClockSet {
    const RIGHT: Self = Self { gained: 0, since: LabTime::ZERO, haste: 1.0 };

    fn by(&self, now: LabTime) -> i64 {
        self.gained + (now.minus(self.since).0 as f64 * (self.haste - 1.0)) as i64
    }
}

/// What decides.
#[derive(Clone, Debug)]
pub(crate) struct Serving {
    pub(crate) server: Server,
    pub(crate) known: Known,
}

/// East and north, in metres.
pub(crate) type GroundPoint = (f32, f32);

/// What plays: a client while it runs, and the hands of a member.
#[derive(Clone, Debug)]
pub(crate) struct Playing {
    pub(crate) member: MemberId,
    /// The running program: before a member joins and after it has left or crashed there is none.
    pub(crate) client: Option<Client>,
    /// How often it was started.
    starts: u64,
    pub(crate) knobs: Knobs,
    pub(crate) hands: Hands,
    pub(crate) forged: Forged,
    /// What its program gets wrong.
    pub(crate) faulty: Faulty,
    /// How often it has become somebody else.
    alias: u64,
    /// For each of its tricks in force, whether it has had an effect yet.
    pub(crate) trials: Vec<TrickWatch>,
    /// Where it last ordered what it shares.
    pub(crate) ordered: Vec<(EntityId, Option<GroundPoint>)>,
    /// Whether its hands moved nothing in the last frame, and when that was.
    pub(crate) resting: bool,
    pub(crate) looked: LabTime,
    /// What it lawfully knows of the rules.
    pub(crate) known: Known,
    /// What it knew before changes that are agreed on for ticks to come, and from which tick on it will know what: a program that is
    /// started meanwhile is told of all of it.
    agreed: VecDeque<(Tick, Known)>,
    /// The newest tick that any program of it has played: what it said may be under way still.
    pub(crate) played: Tick,
}

impl Machine {
    pub(crate) const fn new(host: HostSpec) -> Self {
        Self {
            host,
            set: ClockSet::RIGHT,
            frame: 0,
            frozen_until: LabTime::ZERO,
            socket: VecDeque::new(),
            server: None,
            client: None,
        }
    }

    /// What its clock reads.
    pub(crate) fn clock(&self, now: LabTime) -> HostNanos {
        self.host.read(now).plus(self.set.by(now))
    }

    /// From now on its clock runs faster than it should by this factor; what it has gained or lost by then stays.
    pub(crate) fn hurry(&mut self, now: LabTime, haste: f64) {
        self.set = ClockSet { gained: self.set.by(now), since: now, haste };
    }

    /// Takes a datagram; returns the one that had to make room for it.
    pub(crate) fn receive(&mut self, arrived: Arrived) -> Option<Arrived> {
        self.socket.push_back(arrived);
        if self.socket.len() > SOCKET { self.socket.pop_front() } else { None }
    }

    /// What arrived since the last frame, in exchange for something empty.
    pub(crate) fn read(&mut self, empty: VecDeque<Arrived>) -> VecDeque<Arrived> {
        std::mem::replace(&mut self.socket, empty)
    }
}

impl Playing {
    /// The hands of a member, whose program is not started yet.
    pub(crate) fn of(member: MemberId, course: &Course) -> Self {
        Self {
            member,
            client: None,
            starts: 0,
            knobs: course[member].knobs,
            hands: Hands::default(),
            forged: Forged::default(),
            faulty: Faulty::of(&course[member].faults),
            alias: 0,
            trials: Vec::new(),
            ordered: Vec::new(),
            resting: true,
            looked: LabTime::ZERO,
            known: course.known(KnownTo::Clients),
            agreed: VecDeque::new(),
            played: Tick(0),
        }
    }

    /// From a tick on it knows something else; whoever asks is in an earlier one.
    pub(crate) fn learns(&mut self, what: &Changed, from: Tick, now: Tick) {
        if self.agreed.is_empty() {
            self.agreed.push_back((Tick(0), self.known.clone()));
        }
        self.known.take(what);
        self.agreed.retain(|(tick, _)| *tick < from || *tick == Tick(0));
        self.agreed.push_back((from, self.known.clone()));
        // What holds now is the oldest that matters.
        while self.agreed.get(1).is_some_and(|(tick, _)| *tick <= now) {
            self.agreed.pop_front();
        }
    }

    /// Starts its program anew: it knows the rules and the ground of now, and who it is.
    pub(crate) fn start(&mut self, course: &Course, now: LabTime) {
        self.alias += u64::from(self.starts > 0 && self.faulty.has(Fault::Stranger));
        self.starts += 1;
        self.faulty.start();
        self.hands = Hands::begin(now);
        self.trials.clear();
        self.resting = true;
        self.ordered.clear();
        self.client = Some(Client::new(ClientConfig {
            token: self.token(),
            // Far apart, so that one that begins anew by itself meets none of those to come.
            life: Life(self.starts << 32),
            arrangement: course[self.member].arrangement,
            settings: self.knobs.settings,
            ingredients: self.forged(self.agreed.front().map_or(&self.known, |(_, known)| known), course),
        }));
        for (from, known) in self.agreed.iter().skip(1) {
            let ingredients = self.forged(known, course);
            self.client.iter_mut().for_each(|client| {
                client.set_ingredients_at(*from, ingredients.clone());
            });
        }
    }

    /// The player it is, or takes itself for.
    pub(crate) const fn token(&self) -> Token {
        aliased(token(self.member), self.alias)
    }

    /// Where it orders what it shares otherwise than before, with the tick.
    pub(crate) fn new_orders(&mut self) -> Vec<(Tick, EntityId, Option<GroundPoint>)> {
        let Some(client) = &self.client else { return Vec::new() };
        let mut news = Vec::new();
        for owned in client.owned() {
            let field = client.schema(owned.kind).input.iter().find(|f| matches!(f.kind, InputKind::Point { .. }));
            let Some((order, field)) = client.order(owned.entity).zip(field) else { continue };
            let to = order.input.vec3(field.lane);
            let to = order.input.flag(field.given_lane()).then_some((to.x, to.y));
            let before = self.ordered.iter().find(|(id, _)| *id == owned.entity).and_then(|(_, to)| *to);
            if before != to {
                self.ordered.retain(|(id, _)| *id != owned.entity);
                self.ordered.push((owned.entity, to));
                news.push((order.since, owned.entity, to));
            }
        }
        news
    }

    /// Where its program is on the network: each start has an address of its own, and what was sent to an earlier one is lost.
    pub(crate) const fn address(&self, machine: MachineId) -> Address {
        address(machine, self.starts)
    }

    /// Whether its program runs and has not left.
    pub(crate) fn runs(&self) -> bool {
        self.client.as_ref().is_some_and(|client| client.left_by().is_none())
    }

    /// What its client is told: what it lawfully knows, bent by the tricks in force.
    pub(crate) fn ingredients(&self, course: &Course) -> Ingredients {
        self.forged(&self.known, course)
    }

    fn forged(&self, known: &Known, course: &Course) -> Ingredients {
        self.forged.ingredients(known.ingredients(), &known.kinds, course[self.member].kind)
    }
}
