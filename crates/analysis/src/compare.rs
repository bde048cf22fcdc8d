//! Two runs held against each other: where their states part first, and what parts there.
//!
//! Entities are the same by name, ticks by their count from the beginning: two runs of one course, of two versions of it, or of two programs.

use velocitas_core::{Schema, Shape, State, StateField};

use velocitas_record::ids::{ActorId, RecordTick};
use velocitas_record::record::{Record, StateHead};
use velocitas_record::time::LabTime;

/// A value of a field of a state.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Field {
    /// One or three numbers, those that are not there zero.
    Numbers([f32; 3]),
    /// A counter.
    Counter(u32),
    /// A flag.
    Flag(bool),
}

/// What parts first.
#[derive(Clone, Debug, PartialEq)]
pub enum Parted {
    /// A field of its state.
    Field {
        /// Its name.
        name: &'static str,
        /// Its unit, if it has one.
        unit: &'static str,
        /// What it is in the one run, and in the other.
        values: (Field, Field),
    },
    /// The one run's rule has other fields than the other's.
    Layout,
    /// It is there in one run only: in the first, or in the second.
    Missing {
        /// Whether it is there in the first.
        first: bool,
    },
}

/// Where the states of two runs part.
#[derive(Clone, Debug, PartialEq)]
pub struct Parting {
    /// Of which entity.
    pub entity: String,
    /// The first tick at which they do.
    pub tick: RecordTick,
    /// When the first run's server made it, or the second's where the first has none.
    pub at: LabTime,
    /// What parts.
    pub what: Parted,
}

/// Where the server's states of two runs part, for each entity that does, the first first; nothing where all are the same for as
/// long as both runs last.
pub fn partings(a: &Record, b: &Record) -> Vec<Parting> {
    let name = |record: &Record, actor: ActorId| record.cast.actors[actor.index()].name.clone();
    let named = |record: &Record, wanted: &str| record.cast.actors().find(|actor| name(record, *actor) == wanted);
    let mut all: Vec<Parting> = Vec::new();
    for actor in a.cast.actors() {
        let entity = name(a, actor);
        all.extend(match named(b, &entity) {
            Some(other) => of_one(a, actor, b, other).map(|(tick, at, what)| Parting { entity, tick, at, what }),
            None => born(a, actor, b.end).map(|(tick, at)| missing(entity, tick, at, true)),
        });
    }
    for actor in b.cast.actors() {
        let entity = name(b, actor);
        if named(a, &entity).is_none() {
            all.extend(born(b, actor, a.end).map(|(tick, at)| missing(entity, tick, at, false)));
        }
    }
    // Of several at one tick those that came first into the world.
    all.sort_by_key(|parting| parting.tick);
    all
}

fn missing(entity: String, tick: RecordTick, at: LabTime, first: bool) -> Parting {
    Parting { entity, tick, at, what: Parted::Missing { first } }
}

/// The first state of an entity, if it was made by a moment.
fn born(record: &Record, actor: ActorId, by: LabTime) -> Option<(RecordTick, LabTime)> {
    record.authority(actor).head(0).filter(|head| head.at <= by).map(|head| (head.tick, head.at))
}

/// Where the states of an entity part that is there in both.
fn of_one(a: &Record, actor: ActorId, b: &Record, other: ActorId) -> Option<(RecordTick, LabTime, Parted)> {
    let (ours, theirs) = (a.authority(actor), b.authority(other));
    let (born, born_there) = (ours.head(0)?, theirs.head(0)?);
    if born.tick != born_there.tick {
        let first = born.tick < born_there.tick;
        let (head, end) = if first { (born, b.end) } else { (born_there, a.end) };
        return is_missed(&head, end).then_some((head.tick, head.at, Parted::Missing { first }));
    }
    for i in 0..ours.len() {
        let head = ours.head(i)?;
        let Some(j) = theirs.of_tick(head.tick) else {
            return is_missed(&head, b.end).then_some((head.tick, head.at, Parted::Missing { first: true }));
        };
        let layouts = (a.layout(actor, head.tick), b.layout(other, head.tick));
        let schemas = (layouts.0.schema(), layouts.1.schema());
        if let Some(what) = parted(schemas, (&ours.state(i), &theirs.state(j))) {
            return Some((head.tick, head.at, what));
        }
    }
    // It may go on where the first run has it no more.
    let after = theirs.head(theirs.of_tick(ours.head(ours.len() - 1)?.tick)? + 1)?;
    is_missed(&after, a.end).then_some((after.tick, after.at, Parted::Missing { first: false }))
}

/// Whether a run that ends then should have a state like this: what was made a moment before the end may only not have come
/// so far.
fn is_missed(head: &StateHead, end: LabTime) -> bool {
    head.at.plus(LabTime::from_secs(1.0)) <= end
}

/// What differs between two states.
fn parted(schemas: (&Schema, &Schema), states: (&State, &State)) -> Option<Parted> {
    let same = |field: &StateField, like: &StateField| like.name == field.name && like.shape == field.shape;
    for field in &schemas.0.state {
        let Some(like) = schemas.1.state.iter().find(|like| same(field, like)) else { return Some(Parted::Layout) };
        if (0..field.shape.lanes()).any(|lane| states.0.int(field.lane + lane) != states.1.int(like.lane + lane)) {
            let values = (value(field, states.0), value(like, states.1));
            return Some(Parted::Field { name: field.name, unit: field.unit, values });
        }
    }
    (schemas.0.state.len() != schemas.1.state.len()).then_some(Parted::Layout)
}

fn value(field: &StateField, state: &State) -> Field {
    match field.shape {
        Shape::Flag => Field::Flag(state.flag(field.lane)),
        Shape::Counter => Field::Counter(state.int(field.lane)),
        shape if shape.lanes() == 3 => {
            let v = state.vec3(field.lane);
            Field::Numbers([v.x, v.y, v.z])
        }
        _ => Field::Numbers([state.real(field.lane), 0.0, 0.0]),
    }
}

impl Parted {
    /// In words, for people.
    pub fn words(&self) -> String {
        match self {
            Self::Layout => "its rule has other fields".to_owned(),
            Self::Missing { first: true } => "it is there in the first run only".to_owned(),
            Self::Missing { first: false } => "it is there in the second run only".to_owned(),
            Self::Field { name, unit, values: (a, b) } => {
                let unit = if unit.is_empty() { String::new() } else { format!(" {unit}") };
                let (place, a, b) = told(*a, *b);
                format!("{name}{place} is {a}{unit} and {b}{unit}")
            }
        }
    }
}

/// Two values, of three numbers those that differ first, with as many digits as tell them apart.
fn told(a: Field, b: Field) -> (&'static str, String, String) {
    match (a, b) {
        (Field::Numbers(a), Field::Numbers(b)) => {
            let i = (0..3).find(|i| a[*i].to_bits() != b[*i].to_bits()).unwrap_or(0);
            let three = a[1..] != [0.0; 2] || b[1..] != [0.0; 2];
            let place = if three || i > 0 { [".x", ".y", ".z"][i] } else { "" };
            let digits = (3..9).find(|n| format!("{:.n$}", a[i]) != format!("{:.n$}", b[i])).unwrap_or(9);
            (place, format!("{:.digits$}", a[i]), format!("{:.digits$}", b[i]))
        }
        (Field::Counter(a), Field::Counter(b)) => ("", a.to_string(), b.to_string()),
        (Field::Flag(a), Field::Flag(b)) => ("", a.to_string(), b.to_string()),
        _ => ("", "another kind of value".to_owned(), "another".to_owned()),
    }
}
