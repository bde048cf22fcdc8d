//! A computer of the lab: a socket, frames, and what runs on it.

use std::collections::VecDeque;
use std::sync::Arc;

use velocitas_core::{Client, Ground, Ingredients, PeerId, Server, Token};

use crate::controls::Bot;
use crate::course::{Course, KnownTo};
use crate::faults::{Forged, Trial};
use crate::host::HostSpec;
use crate::ids::{MachineId, MemberId, Part};
use crate::knob::Knobs;
use crate::known::Known;
use crate::time::LabTime;

/// Datagrams a machine's socket holds while nobody reads it; the oldest make room for more.
const SOCKET: usize = 512;

/// A datagram that has arrived.
#[derive(Clone, Debug)]
pub(crate) struct Arrived {
    pub(crate) from: MachineId,
    pub(crate) part: Part,
    pub(crate) bytes: Arc<[u8]>,
}

/// A computer.
#[derive(Clone, Debug)]
pub(crate) struct Machine {
    pub(crate) host: HostSpec,
    /// Frames so far.
    pub(crate) frame: u64,
    pub(crate) frozen_until: LabTime,
    /// What arrived since the last frame.
    socket: VecDeque<Arrived>,
    /// Datagrams thrown away since.
    overrun: u64,
    pub(crate) server: Option<Box<Serving>>,
    pub(crate) client: Option<Box<Playing>>,
}

/// What decides.
#[derive(Clone, Debug)]
pub(crate) struct Serving {
    pub(crate) server: Server,
    pub(crate) known: Known,
    /// Who comes by which connection.
    pub(crate) peers: Vec<(PeerId, MachineId)>,
}

/// What plays: a client, and the hands of a member.
#[derive(Clone, Debug)]
pub(crate) struct Playing {
    pub(crate) member: MemberId,
    pub(crate) client: Client,
    pub(crate) knobs: Knobs,
    pub(crate) bot: Bot,
    pub(crate) forged: Forged,
    /// Whether the newest of its tricks has had an effect yet.
    pub(crate) trial: Option<Trial>,
    /// Whether its hands moved nothing in the last frame.
    pub(crate) resting: bool,
    /// What it lawfully knows of the rules.
    pub(crate) known: Known,
}

impl Machine {
    pub(crate) const fn new(host: HostSpec) -> Self {
        Self {
            host,
            frame: 0,
            frozen_until: LabTime::ZERO,
            socket: VecDeque::new(),
            overrun: 0,
            server: None,
            client: None,
        }
    }

    pub(crate) fn receive(&mut self, arrived: Arrived) {
        if self.socket.len() == SOCKET {
            self.socket.pop_front();
            self.overrun += 1;
        }
        self.socket.push_back(arrived);
    }

    /// What arrived since the last frame, and how many datagrams were thrown away.
    pub(crate) fn read(&mut self) -> (VecDeque<Arrived>, u64) {
        (std::mem::take(&mut self.socket), std::mem::take(&mut self.overrun))
    }
}

impl Serving {
    /// By which connection a machine comes.
    pub(crate) fn peer(&self, machine: MachineId) -> Option<PeerId> {
        self.peers.iter().find(|(_, m)| *m == machine).map(|(peer, _)| *peer)
    }

    /// Which machine comes by a connection.
    pub(crate) fn machine(&self, peer: PeerId) -> Option<MachineId> {
        self.peers.iter().find(|(p, _)| *p == peer).map(|(_, machine)| *machine)
    }
}

impl Playing {
    /// What its client is told: what it lawfully knows, bent by the tricks in force.
    pub(crate) fn ingredients(&self, course: &Course) -> Ingredients {
        let lawful = told(Arc::new(course.ground(KnownTo::Clients)), &self.known);
        self.forged.ingredients(lawful, &self.known.kinds, course[self.member].kind)
    }
}

/// What a machine is told: this ground and these rules.
pub(crate) fn told(ground: Arc<Ground>, known: &Known) -> Ingredients {
    Ingredients { ground, kinds: known.kinds.clone(), tunables: known.tunables.clone().into() }
}

/// The player that a member is.
pub(crate) const fn token(member: MemberId) -> Token {
    Token(member.index() as u64 + 1)
}
