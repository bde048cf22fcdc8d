//! What there is: entities, who owns them, and what is due to happen to them.
//!
//! The server steps it. Nothing here knows of connections: owners are players.

use std::collections::VecDeque;

use crate::data::{Input, State};
use crate::echo::Echo;
use crate::ids::{EntityId, Token};
use crate::vec3::Vec3;

/// Something in the world.
#[derive(Clone, Debug)]
pub struct Entity {
    id: EntityId,
    kind: u8,
    owners: Vec<Token>,
    /// When the order that holds arrived, where several give orders: counted in datagrams heard.
    pub(crate) obeyed: u64,
    /// The player with whom it came and will leave.
    pub(crate) came_with: Option<Token>,
    /// Counts teleports, modulo what the wire carries.
    pub(crate) teleports: u8,
    /// Its state at the newest tick: the raw echo of what its owner does.
    pub(crate) state: State,
    /// What it was made with last, as its step read it, where somebody is told of that.
    pub(crate) input: Option<Box<Input>>,
    /// The smooth echo, where others are sent that.
    pub(crate) smooth: Option<Box<Echo>>,
    /// Counts how often that was put where it belongs.
    pub(crate) cuts: u8,
    /// Velocity to be added before its next step, in metres a second.
    pub(crate) push: Vec3,
    /// Where it is to be put before its next step, at rest.
    pub(crate) put: Option<Vec3>,
}

impl Entity {
    /// Which.
    pub const fn id(&self) -> EntityId {
        self.id
    }

    /// The number of its rule.
    pub const fn kind(&self) -> u8 {
        self.kind
    }

    /// Its state at the newest tick.
    pub const fn state(&self) -> &State {
        &self.state
    }

    /// Its smooth echo is to be where it is: others see no way from where it was.
    pub(crate) const fn cut_echo(&mut self) {
        if self.smooth.is_some() {
            self.cuts = self.cuts.wrapping_add(1);
        }
    }

    /// Who gives it orders: nobody, one player, or several.
    pub fn owners(&self) -> &[Token] {
        &self.owners
    }
}

/// A place for an entity.
#[derive(Clone, Debug, Default)]
struct Slot {
    /// Of the tenant, or of the next one.
    generation: u8,
    entity: Option<Entity>,
}

/// Entities.
#[derive(Clone, Debug, Default)]
pub struct World {
    slots: Vec<Slot>,
    /// Slots without a tenant, the one free for longest in front.
    free: VecDeque<u16>,
}

impl World {
    /// Adds an entity. `None` when every slot there can be is taken.
    pub fn spawn(&mut self, kind: u8, state: State) -> Option<EntityId> {
        let index = match self.free.pop_front() {
            Some(index) => index,
            None => {
                let index = u16::try_from(self.slots.len()).ok()?;
                self.slots.push(Slot::default());
                index
            }
        };
        let slot = &mut self.slots[usize::from(index)];
        let id = EntityId { index, generation: slot.generation };
        slot.entity = Some(Entity {
            id,
            kind,
            owners: Vec::new(),
            obeyed: 0,
            came_with: None,
            teleports: 0,
            state,
            input: None,
            smooth: None,
            cuts: 0,
            push: Vec3::ZERO,
            put: None,
        });
        Some(id)
    }

    /// Takes an entity away and returns what it was. Its slot will be used again, by another generation.
    pub fn remove(&mut self, id: EntityId) -> Option<Entity> {
        self.get(id)?;
        let slot = &mut self.slots[usize::from(id.index)];
        slot.generation = slot.generation.wrapping_add(1);
        self.free.push_back(id.index);
        slot.entity.take()
    }

    /// An entity, if it is still there.
    pub fn get(&self, id: EntityId) -> Option<&Entity> {
        self.slots.get(usize::from(id.index))?.entity.as_ref().filter(|e| e.id == id)
    }

    pub(crate) fn get_mut(&mut self, id: EntityId) -> Option<&mut Entity> {
        self.slots.get_mut(usize::from(id.index))?.entity.as_mut().filter(|e| e.id == id)
    }

    /// All entities, in the order of their slots.
    pub fn iter(&self) -> impl Iterator<Item = &Entity> + Clone {
        self.slots.iter().filter_map(|slot| slot.entity.as_ref())
    }

    pub(crate) fn iter_mut(&mut self) -> impl Iterator<Item = &mut Entity> {
        self.slots.iter_mut().filter_map(|slot| slot.entity.as_mut())
    }

    /// How many entities there are.
    pub fn len(&self) -> usize {
        self.slots.len() - self.free.len()
    }

    /// Whether there is nothing.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Sets who gives an entity orders. `false` when it is not there.
    pub fn set_owners(&mut self, id: EntityId, owners: &[Token]) -> bool {
        self.get_mut(id).is_some_and(|entity| {
            if entity.owners != owners {
                entity.cut_echo();
            }
            entity.owners = owners.to_vec();
            true
        })
    }

    /// Adds to an entity's velocity before its next step, in metres a second.
    pub fn push(&mut self, id: EntityId, velocity: Vec3) {
        if let Some(entity) = self.get_mut(id)
            && velocity.is_finite()
        {
            entity.push += velocity;
        }
    }

    /// Puts an entity elsewhere, at rest, before its next step.
    pub fn put(&mut self, id: EntityId, place: Vec3) {
        if let Some(entity) = self.get_mut(id)
            && place.is_finite()
        {
            entity.put = Some(place);
        }
    }

    /// Bytes it takes, roughly.
    pub fn bytes(&self) -> usize {
        self.slots.len() * size_of::<Slot>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn marked(mark: u32) -> State {
        let mut state = State::default();
        state.set_int(0, mark);
        state
    }

    fn mark(world: &World, id: EntityId) -> Option<u32> {
        world.get(id).map(|e| e.state.int(0))
    }

    #[test]
    fn a_slot_is_used_again_and_its_tenants_are_told_apart() {
        let mut world = World::default();
        let (a, b) = (world.spawn(0, marked(1)).unwrap(), world.spawn(0, marked(2)).unwrap());
        assert_eq!(world.remove(a).map(|e| e.state.int(0)), Some(1));
        assert!(world.remove(a).is_none(), "it is gone already");
        let c = world.spawn(0, marked(3)).unwrap();
        assert_eq!((c.index, c.generation), (a.index, a.generation + 1));
        assert_eq!((mark(&world, a), mark(&world, b), mark(&world, c)), (None, Some(2), Some(3)));
        world.push(a, Vec3 { x: 1.0, y: 0.0, z: 0.0 });
        assert!(!world.set_owners(a, &[Token(1)]));
        assert_eq!(world.get(c).map(|e| (e.push, e.owners.len())), Some((Vec3::ZERO, 0)), "not its twin's business");
    }

    #[test]
    fn a_generation_comes_again_only_after_every_free_slot_had_256_tenants() {
        let mut world = World::default();
        let first: Vec<EntityId> = (0..3).map(|i| world.spawn(0, marked(i)).unwrap()).collect();
        first.iter().for_each(|id| assert!(world.remove(*id).is_some()));
        let mut uses = 0;
        loop {
            let id = world.spawn(0, marked(9)).unwrap();
            uses += 1;
            if id == first[0] {
                break;
            }
            assert!(!first.contains(&id), "after {uses}");
            world.remove(id);
        }
        assert_eq!(uses, 3 * 255 + 1);
    }

    proptest! {
        /// Against a list of what should be there.
        #[test]
        fn it_holds_what_was_spawned_and_not_removed(steps in prop::collection::vec((any::<bool>(), 0usize..20), 1..400)) {
            let mut world = World::default();
            let mut there: Vec<(EntityId, u32)> = Vec::new();
            let mut gone: Vec<EntityId> = Vec::new();
            for (n, (spawns, which)) in steps.into_iter().enumerate() {
                if spawns || there.is_empty() {
                    let id = world.spawn(0, marked(n as u32)).expect("far from full");
                    prop_assert!(there.iter().all(|(other, _)| other.index != id.index));
                    gone.retain(|old| *old != id);
                    there.push((id, n as u32));
                } else {
                    let (id, _) = there.swap_remove(which % there.len());
                    prop_assert!(world.remove(id).is_some());
                    gone.push(id);
                }
                prop_assert_eq!(world.len(), there.len());
                prop_assert!(world.iter().map(|e| e.id.index).is_sorted());
                for (id, n) in &there {
                    prop_assert_eq!(mark(&world, *id), Some(*n));
                }
                for id in &gone {
                    prop_assert_eq!(mark(&world, *id), None);
                }
            }
        }
    }
}
