//! What is varied in the text of a course, which is then read again: machines, arrangements, the server, and how often the cast is
//! there.

use std::collections::BTreeSet;

use toml::value::Array;
use toml::{Table, Value};
use velocitas_core::{RULES, Vec3, vec3};
use velocitas_record::ids::MemberId;

use super::whose::Whose;
use crate::course::{Course, KnownTo};

/// Keys of a machine.
pub(super) const HOST_KEYS: [&str; 7] =
    ["frame_rate", "frame_unevenness", "hitches", "hitch", "clock_offset", "clock_drift", "phase"];
/// Tables of a course that are the server's, as they stand in keys.
pub(super) const SECTIONS: [&str; 5] = ["server", "silence", "guard", "guard.answer", "guard.allowed"];

/// What copies stand apart, in metres: a pace.
const PACE: f32 = 1.0;
/// How many paces away a free place is looked for.
const MOST_PACES: i16 = 8;

/// What of a course's text is set.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum TextKey {
    /// A key of machines; of everybody, it is the server's as well.
    Host(&'static str, Whose),
    /// Who decides where somebody is.
    Arrangement(Whose),
    /// How often somebody is there.
    Copies(Whose),
    /// A key of the server's: the tables that it lies in, and its name.
    Server(Vec<String>),
}

impl TextKey {
    /// A key of the server's, if it begins like one; else the keys that there are.
    pub(super) fn of_server(key: &str) -> Option<Result<Self, Vec<&'static str>>> {
        let (section, name) = key.rsplit_once('.')?;
        let known: Vec<&'static str> = match section {
            "server" => HOST_KEYS.to_vec(),
            "silence" => vec!["hold", "gone", "keep"],
            "guard" => vec!["checks", "strikes", "within"],
            "guard.answer" => RULES.iter().map(|rule| rule.name).collect(),
            "guard.allowed" => RULES.iter().filter(|rule| rule.rule.is_adjustable()).map(|rule| rule.name).collect(),
            _ => return None,
        };
        if !known.contains(&name) {
            return Some(Err(known));
        }
        Some(Ok(Self::Server(key.split('.').map(str::to_owned).collect())))
    }

    /// Sets it in the text of a course.
    pub(super) fn edit(&self, value: &Value, table: &mut Table, course: &Course) {
        match self {
            Self::Host(key, whose) => {
                let hosted = course.cast.iter().any(|member| member.hosts);
                if *whose == Whose::All && !hosted {
                    put(table, &["server", key], value);
                }
                each_of(table, course, whose, |member| put(member, &["host", key], value));
            }
            Self::Arrangement(whose) => {
                each_of(table, course, whose, |member| put(member, &["arrangement"], value));
            }
            Self::Copies(whose) => copies(table, course, whose, value),
            Self::Server(path) => {
                let path: Vec<&str> = path.iter().map(String::as_str).collect();
                put(table, &path, value);
            }
        }
    }
}

/// Sets a value inside tables, which are made where they are missing.
fn put(table: &mut Table, path: &[&str], value: &Value) {
    let Some((first, rest)) = path.split_first() else { return };
    if rest.is_empty() {
        table.insert((*first).to_owned(), value.clone());
        return;
    }
    let inside = table.entry(*first).or_insert_with(|| Value::Table(Table::new()));
    if let Value::Table(inside) = inside {
        put(inside, rest, value);
    }
}

/// Changes the members of the file who are meant.
fn each_of(table: &mut Table, course: &Course, whose: &Whose, mut change: impl FnMut(&mut Table)) {
    let Some(Value::Array(cast)) = table.get_mut("cast") else { return };
    for (place, member) in cast.iter_mut().enumerate().take(course.cast.len()) {
        if let Value::Table(member) = member
            && whose.includes(course, place, course.cast.len())
        {
            change(member);
        }
    }
}

/// Puts those who are meant there so often, in place of how often they were; what happens to one happens to its copies as well.
fn copies(table: &mut Table, course: &Course, whose: &Whose, often: &Value) {
    let often = often.as_integer().unwrap_or(1).clamp(1, MOST_COPIES) as usize;
    let mut copied: Vec<(MemberId, Vec<String>)> = Vec::new();
    let mut taken = BTreeSet::new();
    for member in course.members().filter(|member| whose.includes(course, member.index(), course.cast.len())) {
        let names: Vec<String> = (2..=often).map(|n| format!("{} {n}", course[member].name)).collect();
        let places = beside(course, member, names.len(), &mut taken);
        let Some(Value::Array(cast)) = table.get_mut("cast") else { return };
        let Some(Value::Table(of)) = cast.get(member.index()).cloned() else { continue };
        // A wider key may have made some.
        let earlier = |one: &Value| {
            one.get("name").and_then(Value::as_str).is_some_and(|name| is_copy(name, &course[member].name, course))
        };
        cast.retain(|one| !earlier(one));
        if let Some(Value::Array(events)) = table.get_mut("event") {
            events.retain(|event| !who_of(event).is_some_and(|who| is_copy(who, &course[member].name, course)));
        }
        let Some(Value::Array(cast)) = table.get_mut("cast") else { return };
        for (name, at) in names.iter().zip(places) {
            let mut copy = of.clone();
            copy.remove("hosts");
            copy.insert("name".to_owned(), name.as_str().into());
            let spawn: Array = [at.x, at.y].into_iter().map(|x| f64::from(x).into()).collect();
            copy.insert("spawn".to_owned(), spawn.into());
            cast.push(copy.into());
        }
        copied.push((member, names));
    }
    let Some(Value::Array(events)) = table.get_mut("event") else { return };
    for event in std::mem::take(events) {
        let who = who_of(&event).map(str::to_owned);
        if let Some((_, names)) = copied.iter().find(|(member, _)| who.as_ref() == Some(&course[*member].name)) {
            events.extend(names.iter().map(|name| with_who(event.clone(), name)));
        }
        events.push(event);
    }
}

/// More copies than this no course has room for.
const MOST_COPIES: i64 = 1000;

/// Whether a name is that of a copy of a member.
fn is_copy(name: &str, of: &str, course: &Course) -> bool {
    course.member(name).is_none() && name.rsplit_once(' ').is_some_and(|(original, _)| original == of)
}

/// Of whom an event speaks.
fn who_of(event: &Value) -> Option<&str> {
    event.as_table()?.values().find_map(|what| what.as_table()?.get("who")?.as_str())
}

/// The same of somebody else.
fn with_who(mut event: Value, name: &str) -> Value {
    for what in event.as_table_mut().into_iter().flat_map(|table| table.iter_mut().map(|(_, what)| what)) {
        if let Some(who) = what.as_table_mut().and_then(|what| what.get_mut("who")) {
            *who = name.into();
        }
    }
    event
}

/// Free places beside where a member begins, as either side knows the ground: a pace apart, the nearest first. Where there is no room,
/// that of the member.
fn beside(course: &Course, member: MemberId, count: usize, taken: &mut BTreeSet<[u32; 2]>) -> Vec<Vec3> {
    let (body, at) = (course.kinds.motion(course[member].kind).body(), course[member].spawn);
    let grounds = [KnownTo::Server, KnownTo::Clients].map(|side| course.ground(side));
    let around = (1..=MOST_PACES).flat_map(|far| {
        let sides = [(1, 0), (0, 1), (-1, 0), (0, -1), (1, 1), (-1, 1), (-1, -1), (1, -1)];
        sides.map(|(x, y)| (f32::from(x * far) * PACE, f32::from(y * far) * PACE))
    });
    let mut free = around
        .map(|(x, y)| vec3(at.x + x, at.y + y, at.z))
        .filter(|place| grounds.iter().all(|ground| ground.overlap(&body, *place).is_none()))
        .filter(|place| taken.insert([place.x.to_bits(), place.y.to_bits()]));
    (0..count).map(|_| free.next().unwrap_or(at)).collect()
}
