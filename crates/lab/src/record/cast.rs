//! Who is who in a record: it stands on its own, whatever it was taken from.

use std::sync::Arc;

use velocitas_core::{Arrangement, EntityId, Kinds, PeerId, Rate, SolidId, Tick};

use crate::course::{Course, KnownTo, NamedSolid, Role, World};
use crate::ids::{ActorId, MachineId, Part, RecordTick};
use crate::known::Known;

/// A machine.
#[derive(Clone, Debug)]
pub struct MachineInfo {
    /// As shown.
    pub name: String,
    /// Whether it decides.
    pub serves: bool,
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
    /// The first tick in which there is a state of it.
    pub born: RecordTick,
    /// The first tick in which there is none any more.
    pub gone: Option<RecordTick>,
    /// On whose machines its owners sit: none, one, or several.
    pub owners: Vec<MachineId>,
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
    /// Who comes to the one that decides by which connection.
    pub peers: Vec<(PeerId, MachineId)>,
    /// Where it is.
    pub world: Arc<World>,
    /// What those that decide, and those that play, knew of the rules at the beginning.
    rules: [Known; 2],
}

impl Cast {
    /// The cast of a course at its beginning; `entities` and `peers` as the server made them.
    pub fn of(course: &Course, entities: &[EntityId], peers: &[(PeerId, MachineId)]) -> Self {
        let mut machines: Vec<MachineInfo> = course
            .machines()
            .map(|(name, _)| MachineInfo { name: name.to_owned(), serves: false, player: None })
            .collect();
        machines[MachineId::SERVER.index()].serves = true;
        let mut actors = Vec::new();
        for member in course.members() {
            let (m, machine) = (&course[member], course.machine(member));
            machines[machine.index()].player = Some(Player { role: m.role, arrangement: m.arrangement });
            actors.extend(entities.get(member.index()).map(|id| Actor {
                id: *id,
                name: m.name.clone(),
                kind: m.kind,
                born: RecordTick(0),
                gone: None,
                owners: vec![machine],
            }));
        }
        Self {
            title: course.name.clone(),
            seed: course.seed,
            rate: course.rate,
            first: Tick(course.first_tick),
            machines,
            actors,
            peers: peers.to_vec(),
            world: course.world.clone(),
            rules: [Known::of(course, KnownTo::Server), Known::of(course, KnownTo::Clients)],
        }
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
        let usual = self.actors().nth(usize::from(id.index));
        if let Some(usual) =
            usual.filter(|actor| self.actors[actor.index()].id == id && self.actors[actor.index()].gone.is_none())
        {
            return Some(usual);
        }
        self.actors().rev().find(|actor| self.actors[actor.index()].id == id)
    }

    /// The entity that a machine gives orders, or the first of them.
    pub fn own(&self, machine: MachineId) -> Option<ActorId> {
        self.actors().find(|actor| self.owns(machine, *actor))
    }

    /// Whether a machine gives an entity orders.
    pub fn owns(&self, machine: MachineId, actor: ActorId) -> bool {
        self.actors[actor.index()].owners.contains(&machine)
    }

    /// Who comes by a connection.
    pub fn machine_of(&self, peer: PeerId) -> Option<MachineId> {
        self.peers.iter().rev().find(|(p, _)| *p == peer).map(|(_, machine)| *machine)
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
