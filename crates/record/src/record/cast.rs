//! Who is who in a record: it stands on its own, whatever it was taken from.

use std::sync::Arc;

use velocitas_core::{Address, Arrangement, EntityId, Kinds, Patience, PeerId, Rate, SolidId, Tick, Token};

use crate::addresses::{machine_at, unaliased};
use crate::host::HostSpec;
use crate::ids::{ActorId, MachineId, Part, RecordTick};
use crate::knob::Knobs;
use crate::known::Known;
use crate::role::Role;
use crate::texts::GaitFile;
use crate::time::LabTime;
use crate::trace::DelayTrace;
use crate::world::{NamedSolid, World};

/// A machine.
#[derive(Clone, Debug)]
pub struct MachineInfo {
    /// As shown.
    pub name: String,
    /// Whether it decides.
    pub serves: bool,
    /// Its clock and frames.
    pub host: HostSpec,
    /// Who plays on it, if somebody does.
    pub player: Option<Player>,
}

/// Somebody who plays.
#[derive(Clone, Debug)]
pub struct Player {
    /// How it behaves.
    pub role: Role,
    /// Who decides where its entities are.
    pub arrangement: Arrangement,
    /// Its link and settings at the beginning.
    pub knobs: Knobs,
}

/// What was read to begin the run.
#[derive(Clone, Debug)]
pub struct Origin {
    /// The text of the course.
    pub text: Arc<str>,
    /// The gaits it names.
    pub gaits: Arc<[GaitFile]>,
    /// How long the server waits for a silent player.
    pub patience: Patience,
    /// What was recorded of links.
    pub traces: Arc<[DelayTrace]>,
}

/// What is told of a run before anything happens.
#[derive(Clone, Debug)]
pub struct Beginning {
    /// What it is called.
    pub title: String,
    /// Where all luck comes from.
    pub seed: u64,
    /// Ticks a second.
    pub rate: Rate,
    /// The tick that all count from.
    pub first: Tick,
    /// Every machine, the one that decides in front.
    pub machines: Vec<MachineInfo>,
    /// Which player sits at which machine.
    pub players: Vec<(Token, MachineId)>,
    /// What is there besides, by name, in the order of birth.
    pub things: Vec<String>,
    /// Where it is.
    pub world: Arc<World>,
    /// What was read.
    pub origin: Origin,
    /// What those that decide, and those that play, know of the rules.
    pub rules: [Known; 2],
    /// The entities that are there from the beginning.
    pub there: Vec<There>,
}

/// An entity that is there from the beginning.
#[derive(Clone, Debug)]
pub struct There {
    /// Which.
    pub entity: EntityId,
    /// The number of its rule.
    pub kind: u8,
    /// The player with whom it came, if with any.
    pub with: Option<Token>,
    /// Who owns it.
    pub owners: Vec<Token>,
}

/// An entity, from its birth to its end.
#[derive(Clone, Debug)]
pub struct Actor {
    /// What the machines call it.
    pub id: EntityId,
    /// As shown.
    pub name: String,
    /// The number of its rule.
    pub kind: u8,
    /// On whose machine the player sits with whom it came, if with anybody.
    pub came_with: Option<MachineId>,
    /// When it was born, and the first tick in which there is a state of it.
    pub born: (LabTime, RecordTick),
    /// When it went, and the first tick in which there is none any more.
    pub gone: Option<(LabTime, RecordTick)>,
    /// Who began or ceased to own it, in the order in which that happened.
    pub owners: Vec<OwnerRow>,
}

/// A machine's player begins to own an entity, or ceases to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OwnerRow {
    /// When that was said.
    pub at: LabTime,
    /// From which tick it holds.
    pub tick: RecordTick,
    /// Whose.
    pub machine: MachineId,
    /// Which of the two.
    pub owns: bool,
}

impl Actor {
    /// Whether it is there at a moment.
    pub fn is_there(&self, at: LabTime) -> bool {
        self.born.0 <= at && self.gone.is_none_or(|(gone, _)| at < gone)
    }

    /// On whose machines its owners sit at a moment: none, one, or several.
    pub fn owners_at(&self, at: LabTime) -> Vec<MachineId> {
        let mut owners = Vec::new();
        for row in self.owners.iter().filter(|row| row.at <= at) {
            owners.retain(|owner| *owner != row.machine);
            if row.owns {
                owners.push(row.machine);
            }
        }
        owners
    }

    /// Whether a machine's player owns it at a moment.
    pub fn is_owned_by(&self, machine: MachineId, at: LabTime) -> bool {
        self.owners.iter().rev().find(|row| row.machine == machine && row.at <= at).is_some_and(|row| row.owns)
    }

    /// Whether a machine's player owns it in a tick.
    pub fn is_owned_in(&self, machine: MachineId, tick: RecordTick) -> bool {
        self.owners.iter().rev().find(|row| row.machine == machine && row.tick <= tick).is_some_and(|row| row.owns)
    }
}

/// Who is who, and where.
#[derive(Clone, Debug)]
pub struct Cast {
    /// What was run, as shown.
    pub title: String,
    /// All luck came from it.
    pub seed: u64,
    /// Ticks a second.
    pub rate: Rate,
    /// The tick from which the record counts.
    pub first: Tick,
    /// All machines, by [`MachineId`].
    pub machines: Vec<MachineInfo>,
    /// All entities, by [`ActorId`].
    pub actors: Vec<Actor>,
    /// Who came to the one that decides by which connection, in the order in which they began.
    pub peers: Vec<(PeerId, MachineId)>,
    /// Which player sits at which machine.
    players: Vec<(Token, MachineId)>,
    /// What is there besides, by name, in the order of birth.
    things: Vec<String>,
    /// Where it is.
    pub world: Arc<World>,
    /// What was read to begin with.
    pub origin: Origin,
    /// What those that decide, and those that play, knew of the rules at the beginning.
    rules: [Known; 2],
}

impl Cast {
    /// Whether what a machine sends of its entities is what was pressed, and that alone.
    pub fn sends_inputs(&self, machine: MachineId) -> bool {
        self.machines[machine.index()].player.as_ref().is_some_and(|player| player.arrangement.sends_inputs())
    }

    /// Whether the player at a machine is a rogue.
    pub fn is_rogue(&self, machine: MachineId) -> bool {
        self.machines[machine.index()].player.as_ref().is_some_and(|player| player.role == Role::Rogue)
    }

    /// Who is who, as it is told before anything happens.
    pub fn new(beginning: Beginning) -> Self {
        let Beginning { title, seed, rate, first, machines, players, things, world, origin, rules, there } = beginning;
        let (actors, peers) = (Vec::new(), Vec::new());
        let mut cast =
            Self { title, seed, rate, first, machines, actors, peers, players, things, world, origin, rules };
        let start = RecordTick(0);
        for There { entity, kind, with, owners } in there {
            cast.born(LabTime::ZERO, start, (entity, kind, with));
            owners.into_iter().for_each(|owner| cast.owned(LabTime::ZERO, start, (entity, owner, true)));
        }
        cast
    }

    /// An entity is born, with a player or as a thing of the world. `false` when that is known.
    pub(super) fn born(
        &mut self,
        at: LabTime,
        tick: RecordTick,
        (id, kind, with): (EntityId, u8, Option<Token>),
    ) -> bool {
        if self.actor(id).is_some_and(|actor| self.actors[actor.index()].gone.is_none()) {
            return false;
        }
        let came_with = with.and_then(|player| self.machine_with(player));
        let name = match came_with {
            Some(machine) => self.name(machine).to_owned(),
            None => {
                let things = self.actors.iter().filter(|a| a.came_with.is_none()).count();
                self.things.get(things).cloned().unwrap_or_else(|| format!("thing {id}"))
            }
        };
        // Each has a name of its own: whoever comes back after being gone is another entity.
        let lives = self.actors.iter().filter(|a| came_with.is_some() && a.came_with == came_with).count();
        let name = if lives == 0 { name } else { format!("{name} #{}", lives + 1) };
        let (born, gone, owners) = ((at, tick), None, Vec::new());
        self.actors.push(Actor { id, name, kind, came_with, born, gone, owners });
        true
    }

    /// An entity is no more.
    pub(super) fn gone(&mut self, at: LabTime, tick: RecordTick, id: EntityId) {
        if let Some(actor) = self.actor(id) {
            self.actors[actor.index()].gone.get_or_insert((at, tick));
        }
    }

    /// A player begins to own an entity, or ceases to.
    pub(super) fn owned(&mut self, at: LabTime, tick: RecordTick, (id, player, owns): (EntityId, Token, bool)) {
        let Some((actor, machine)) = self.actor(id).zip(self.machine_with(player)) else { return };
        let actor = &mut self.actors[actor.index()];
        if actor.is_owned_by(machine, at) != owns {
            actor.owners.push(OwnerRow { at, tick, machine, owns });
        }
    }

    /// The connection of a machine's player that began last.
    pub fn newest_peer(&self, machine: MachineId) -> Option<PeerId> {
        self.peers.iter().rev().find(|(_, whose)| *whose == machine).map(|(peer, _)| *peer)
    }

    /// A connection began.
    pub(super) fn connected(&mut self, peer: PeerId, from: Address) {
        if let Some(machine) = machine_at(from, self.machines.len()) {
            self.peers.push((peer, machine));
        }
    }

    /// Forgets what happened after a moment.
    pub(super) fn truncate(&mut self, at: LabTime) {
        self.actors.retain(|actor| actor.born.0 <= at);
        for actor in &mut self.actors {
            actor.gone = actor.gone.filter(|(gone, _)| *gone <= at);
            actor.owners.retain(|row| row.at <= at);
        }
    }

    /// Where a player sits.
    pub fn machine_with(&self, player: Token) -> Option<MachineId> {
        let player = unaliased(player);
        self.players.iter().find(|(token, _)| *token == player).map(|(_, machine)| *machine)
    }

    /// All machines.
    pub fn machines(&self) -> impl DoubleEndedIterator<Item = MachineId> + use<> {
        MachineId::first(self.machines.len())
    }

    /// Those on which somebody plays, in order.
    pub fn players(&self) -> impl DoubleEndedIterator<Item = MachineId> {
        self.machines().filter(|m| self.machines[m.index()].player.is_some())
    }

    /// All entities that ever were.
    pub fn actors(&self) -> impl DoubleEndedIterator<Item = ActorId> + use<> {
        ActorId::first(self.actors.len())
    }

    /// The entity of that name which came last.
    pub fn actor(&self, id: EntityId) -> Option<ActorId> {
        // Most never gave their slot to another.
        let usual = ActorId::at(usize::from(id.index), self.actors.len());
        if let Some(usual) =
            usual.filter(|actor| self.actors[actor.index()].id == id && self.actors[actor.index()].gone.is_none())
        {
            return Some(usual);
        }
        self.actors().rev().find(|actor| self.actors[actor.index()].id == id)
    }

    /// What came last with the player of a machine up to a moment, gone or not.
    pub fn body(&self, machine: MachineId, at: LabTime) -> Option<ActorId> {
        self.actors().rev().find(|actor| {
            let actor = &self.actors[actor.index()];
            actor.came_with == Some(machine) && actor.born.0 <= at
        })
    }

    /// What nobody came with, in the order of birth.
    pub fn things(&self) -> impl Iterator<Item = ActorId> {
        self.actors().filter(|actor| self.actors[actor.index()].came_with.is_none())
    }

    /// Whether a machine gives an entity orders at a moment.
    pub fn owns(&self, machine: MachineId, actor: ActorId, at: LabTime) -> bool {
        self.actors[actor.index()].is_owned_by(machine, at)
    }

    /// Who comes by a connection.
    pub fn machine_of(&self, peer: PeerId) -> Option<MachineId> {
        // Most places at the server never changed hands. A connection is named once in all.
        let usual = self.peers.get(usize::from(peer.slot)).filter(|(p, _)| *p == peer);
        usual.or_else(|| self.peers.iter().rev().find(|(p, _)| *p == peer)).map(|(_, machine)| *machine)
    }

    /// A machine's name.
    pub fn name(&self, machine: MachineId) -> &str {
        &self.machines[machine.index()].name
    }

    /// The rules as a part of any machine knew them at the beginning.
    pub const fn rules(&self, part: Part) -> &Known {
        match part {
            Part::Server => &self.rules[0],
            Part::Client => &self.rules[1],
        }
    }

    /// The kinds of entity at the beginning.
    pub const fn kinds(&self) -> &Kinds {
        &self.rules[0].kinds
    }

    /// A solid by its id; `None` for the floor and the edge of the world.
    pub fn solid(&self, id: SolidId) -> Option<&NamedSolid> {
        self.world.solids.get(usize::from(id.0))
    }

    /// A tick as the record counts it.
    pub const fn tick(&self, tick: Tick) -> RecordTick {
        RecordTick::of(self.first, tick)
    }

    /// A tick as people count it.
    pub const fn shown(&self, tick: RecordTick) -> u64 {
        tick.tick(self.first).0
    }
}
