//! What a kind of row is: its name, what it says, its keys. Rows, their documentation and their tests are made from it.

use serde_json::{Map, Value};

use velocitas_core::EntityId;

use crate::ids::{ActorId, MachineId, RecordTick};
use crate::record::Record;
use crate::time::LabTime;

/// Where a row belongs.
#[derive(Clone, Copy)]
pub(super) struct Place<'a> {
    pub(super) record: &'a Record,
    pub(super) machine: MachineId,
    pub(super) at: LabTime,
    pub(super) tick: Option<RecordTick>,
}

impl Place<'_> {
    pub(super) fn shown(&self, tick: RecordTick) -> Value {
        self.record.shown(tick).into()
    }
}

/// A key of a row.
pub(super) struct Key<R> {
    pub(super) name: &'static str,
    /// In words, where the name does not say it.
    pub(super) says: &'static str,
    pub(super) get: fn(&Place<'_>, &R) -> Value,
}

/// A kind of row.
pub(super) struct Kind<R: 'static> {
    pub(super) name: &'static str,
    pub(super) says: &'static str,
    pub(super) keys: &'static [Key<R>],
}

/// A kind of row as people read of it.
#[derive(Clone, Debug)]
pub struct RowSpec {
    /// Its name, the value of `kind`.
    pub name: &'static str,
    /// What it says.
    pub says: &'static str,
    /// Its keys beside `kind` and `at_ns`, each with what it says where the name does not.
    pub keys: Vec<(&'static str, &'static str)>,
}

/// An entity's name.
pub(super) fn actor_name(place: &Place<'_>, actor: ActorId) -> Value {
    place.record.cast.actors[actor.index()].name.as_str().into()
}

/// The same by what the machines call it.
pub(super) fn entity_name(place: &Place<'_>, entity: EntityId) -> Value {
    place.record.cast.actor(entity).map_or(Value::Null, |actor| actor_name(place, actor))
}

/// A key with a name that says it all.
pub(super) const fn key<R>(name: &'static str, get: fn(&Place<'_>, &R) -> Value) -> Key<R> {
    Key { name, says: "", get }
}

/// The machine that a row belongs to.
pub(super) const fn machine<R>() -> Key<R> {
    Key { name: "machine", says: "", get: |place, _| place.record.cast.name(place.machine).into() }
}

/// The tick that a row is about, if it is about one.
pub(super) const fn tick<R>() -> Key<R> {
    Key { name: "tick", says: "", get: |place, _| place.tick.map_or(Value::Null, |tick| place.shown(tick)) }
}

impl<R> Kind<R> {
    /// A row of this kind; keys that have nothing to say in it are left out where `says` ends in "if any".
    pub(super) fn map(&self, place: &Place<'_>, row: &R) -> Map<String, Value> {
        let mut map = Map::new();
        map.insert("kind".into(), self.name.into());
        map.insert("at_ns".into(), place.at.0.into());
        for key in self.keys {
            let value = (key.get)(place, row);
            if !(value.is_null() && key.says.ends_with("if any")) {
                map.insert(key.name.into(), value);
            }
        }
        map
    }

    pub(super) fn row(&self, place: &Place<'_>, row: &R) -> (LabTime, Value) {
        (place.at, Value::Object(self.map(place, row)))
    }

    pub(super) fn spec(&self) -> RowSpec {
        let keys = self.keys.iter().map(|key| (key.name, key.says)).collect();
        RowSpec { name: self.name, says: self.says, keys }
    }
}
