//! What a kind of row is: its name, what it says, its keys. Rows, their documentation and their tests are made from it.

use velocitas_analysis::cause::Findings;
use velocitas_core::EntityId;
use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::known::Reach;
use velocitas_record::record::Record;
use velocitas_record::time::LabTime;

use super::cell::{Cell, quoted};

/// Where a row belongs.
#[derive(Clone, Copy)]
pub(super) struct RowContext<'a> {
    pub(super) record: &'a Record,
    pub(super) findings: &'a Findings,
    pub(super) machine: MachineId,
    pub(super) at: LabTime,
    pub(super) tick: Option<RecordTick>,
}

impl<'a> RowContext<'a> {
    pub(super) fn shown(&self, tick: RecordTick) -> Cell<'a> {
        self.record.shown(tick).into()
    }
}

/// A key of a row.
pub(super) struct Key<R> {
    pub(super) name: &'static str,
    /// In words, where the name does not say it.
    pub(super) says: &'static str,
    pub(super) get: for<'a> fn(&RowContext<'a>, &R) -> Cell<'a>,
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
pub(super) fn actor_name<'a>(place: &RowContext<'a>, actor: ActorId) -> Cell<'a> {
    place.record.cast.actors[actor.index()].name.as_str().into()
}

/// The same by what the machines call it.
pub(super) fn entity_name<'a>(place: &RowContext<'a>, entity: EntityId) -> Cell<'a> {
    place.record.cast.actor(entity).map_or(Cell::Null, |actor| actor_name(place, actor))
}

/// Whom something reaches: all, or a machine.
pub(super) fn reach(place: &RowContext<'_>, reach: Reach) -> String {
    match reach {
        Reach::All => "all".to_owned(),
        Reach::One(machine) => place.record.cast.name(machine).to_owned(),
    }
}

/// A key with a name that says it all.
pub(super) const fn key<R>(name: &'static str, get: for<'a> fn(&RowContext<'a>, &R) -> Cell<'a>) -> Key<R> {
    Key { name, says: "", get }
}

/// The machine that a row belongs to.
pub(super) const fn machine<R>() -> Key<R> {
    Key { name: "machine", says: "", get: |place, _| place.record.cast.name(place.machine).into() }
}

/// The tick that a row is about, if it is about one.
pub(super) const fn tick<R>() -> Key<R> {
    Key { name: "tick", says: "", get: |place, _| place.tick.map_or(Cell::Null, |tick| place.shown(tick)) }
}

/// What every row of a kind begins with, and what stands before each of its values.
#[derive(Debug)]
pub(super) struct Form {
    begin: String,
    keys: Vec<String>,
}

impl Form {
    /// That of a kind. Names of kinds and keys are words: nothing in them needs a backslash.
    pub(super) fn of(kind: &RowSpec) -> Self {
        Self {
            begin: format!("{{\"kind\":\"{}\",\"at_ns\":", kind.name),
            keys: kind.keys.iter().map(|(name, _)| format!(",\"{name}\":")).collect(),
        }
    }
}

impl<R> Kind<R> {
    /// Writes a row of this kind as an object, with more keys after its own; those that have nothing to say in it are left out where
    /// `says` ends in "if any".
    pub(super) fn write<'a, K: AsRef<str>>(
        &self,
        form: &Form,
        place: &RowContext<'_>,
        row: &R,
        more: impl IntoIterator<Item = (K, Cell<'a>)>,
        out: &mut Vec<u8>,
    ) -> serde_json::Result<()> {
        out.extend_from_slice(form.begin.as_bytes());
        serde_json::to_writer(&mut *out, &place.at.0)?;
        for (key, before) in self.keys.iter().zip(&form.keys) {
            let cell = (key.get)(place, row);
            if !(cell.is_null() && key.says.ends_with("if any")) {
                out.extend_from_slice(before.as_bytes());
                cell.write(out)?;
            }
        }
        for (key, cell) in more {
            out.push(b',');
            quoted(key.as_ref(), out)?;
            out.push(b':');
            cell.write(out)?;
        }
        out.push(b'}');
        Ok(())
    }

    pub(super) fn spec(&self) -> RowSpec {
        let keys = self.keys.iter().map(|key| (key.name, key.says)).collect();
        RowSpec { name: self.name, says: self.says, keys }
    }
}
