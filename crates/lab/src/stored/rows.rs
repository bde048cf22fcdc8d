//! What stands in a row of JSON Lines, by the names that people read.

use std::collections::BTreeMap;

use velocitas_core::{EntityId, Input, InputKind, PeerId, Schema, Shape, State, Vec3};
use velocitas_record::ids::MachineId;
use velocitas_record::record::Cast;
use velocitas_record::time::LabTime;

use super::restore::Strange;
use super::said::{Row, Said};

/// What machines and entities are called in a record, and what they are.
#[derive(Default)]
pub(super) struct Names {
    pub(super) machines: BTreeMap<String, MachineId>,
    pub(super) entities: BTreeMap<String, EntityId>,
    /// The number that ticks count from.
    pub(super) first: u64,
}

impl Names {
    /// Learns what a cast calls everybody.
    pub(super) fn learn(&mut self, cast: &Cast) {
        if self.machines.is_empty() {
            self.first = cast.first.0;
            self.machines = cast.machines().map(|machine| (cast.name(machine).to_owned(), machine)).collect();
        }
        if self.entities.len() != cast.actors.len() {
            self.entities = cast.actors.iter().map(|actor| (actor.name.clone(), actor.id)).collect();
        }
    }
}

/// A key is missing, or says something else than such a key does.
pub(super) const KEY: Strange = "a key that is missing, or says what no such key says";

/// Asks a row for its keys.
#[derive(Clone, Copy)]
pub(super) struct Keys<'a> {
    pub(super) row: &'a Row<'a>,
    pub(super) names: &'a Names,
}

impl<'a> Keys<'a> {
    pub(super) fn get(&self, key: &str) -> Option<&'a Said<'a>> {
        self.row.get(key)
    }

    pub(super) fn must<T>(&self, key: &str, of: impl FnOnce(&'a Said<'a>) -> Option<T>) -> Result<T, Strange> {
        self.get(key).and_then(of).ok_or(KEY)
    }

    /// What may be left out.
    pub(super) fn may<T>(&self, key: &str, of: impl FnOnce(&'a Said<'a>) -> Option<T>) -> Result<Option<T>, Strange> {
        self.get(key).map(|value| of(value).ok_or(KEY)).transpose()
    }

    pub(super) fn time_if_any(&self, key: &str) -> Result<Option<LabTime>, Strange> {
        Ok(self.may(key, Said::whole)?.map(LabTime))
    }

    pub(super) fn word(&self, key: &str) -> Result<&'a str, Strange> {
        self.must(key, Said::word)
    }

    pub(super) fn flag(&self, key: &str) -> Result<bool, Strange> {
        self.must(key, Said::flag)
    }

    pub(super) fn whole<T: TryFrom<i64>>(&self, key: &str) -> Result<T, Strange> {
        self.must(key, Said::signed).and_then(|x| T::try_from(x).map_err(|_| KEY))
    }

    pub(super) fn whole_if_any<T: TryFrom<i64>>(&self, key: &str) -> Result<Option<T>, Strange> {
        self.get(key).map(|_| self.whole(key)).transpose()
    }

    pub(super) fn real(&self, key: &str) -> Result<f32, Strange> {
        self.must(key, real)
    }

    /// A tick, counted from the beginning of the record's ticks.
    pub(super) fn tick(&self, key: &str) -> Result<u32, Strange> {
        self.must(key, |value| u32::try_from(value.whole()?.checked_sub(self.names.first)?).ok())
    }

    pub(super) fn tick_if_any(&self, key: &str) -> Result<Option<u32>, Strange> {
        self.get(key).map(|_| self.tick(key)).transpose()
    }

    pub(super) fn machine(&self, key: &str) -> Result<MachineId, Strange> {
        self.must(key, |value| self.names.machines.get(value.word()?).copied())
    }

    pub(super) fn entity(&self, key: &str) -> Result<EntityId, Strange> {
        self.must(key, |value| self.names.entities.get(value.word()?).copied())
    }

    /// A connection: place and epoch at the server.
    pub(super) fn peer(&self, key: &str) -> Result<PeerId, Strange> {
        self.must(key, |value| {
            let (slot, epoch) = value.word()?.split_once('.')?;
            Some(PeerId { slot: slot.parse().ok()?, epoch: epoch.parse().ok()? })
        })
    }

    pub(super) fn point(&self, key: &str) -> Result<[f32; 3], Strange> {
        self.must(key, reals)
    }

    /// A state by the fields of its layout.
    pub(super) fn state(&self, schema: &Schema) -> Result<State, Strange> {
        let mut state = State::default();
        for field in &schema.state {
            self.must(field.name, |value| {
                match field.shape {
                    Shape::Point | Shape::Vector => state.set_vec3(field.lane, vec3(reals(value)?)),
                    Shape::Number | Shape::Bearing => state.set_real(field.lane, real(value)?),
                    Shape::Flag => state.set_flag(field.lane, value.flag()?),
                    Shape::Counter => state.set_int(field.lane, u32::try_from(value.whole()?).ok()?),
                }
                Some(())
            })?;
        }
        Ok(state)
    }

    /// An input by the fields of its layout.
    pub(super) fn input(&self, key: &str, schema: &Schema) -> Result<Option<Input>, Strange> {
        let of = |value: &Said<'_>| {
            let (mut input, fields) = (Input::default(), value.fields()?);
            for field in &schema.input {
                let value = fields.get(field.name).unwrap_or(&Said::Null);
                match field.kind {
                    InputKind::Held => input.set_flag(field.lane, value.flag()?),
                    InputKind::Press => input.set_int(field.lane, u32::try_from(value.whole()?).ok()?),
                    InputKind::Point { .. } if *value == Said::Null => {}
                    InputKind::Point { .. } => field.give(&mut input, vec3(reals(value)?)),
                    InputKind::Stick { .. } => {
                        let [x, y] = reals(value)?;
                        input.set_real(field.lane, x);
                        input.set_real(field.lane + 1, y);
                    }
                    _ => input.set_real(field.lane, real(value)?),
                }
            }
            Some(input)
        };
        self.may(key, of)
    }
}

/// A number as it is held: half as precise as it is written.
fn real(value: &Said<'_>) -> Option<f32> {
    Some(value.real()? as f32)
}

fn reals<const N: usize>(value: &Said<'_>) -> Option<[f32; N]> {
    let all: Vec<f32> = value.list()?.iter().map(real).collect::<Option<_>>()?;
    all.try_into().ok()
}

const fn vec3([x, y, z]: [f32; 3]) -> Vec3 {
    Vec3 { x, y, z }
}
