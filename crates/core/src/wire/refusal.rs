//! Not being let in, and why.

use serde::{Deserialize, Serialize};

use super::error::ranged;
use super::noting::FieldValue;
use super::rows::{Passed, Way, micros, number};
use crate::data::{INPUT_LANES, STATE_LANES};
use crate::schema::Schema;

/// Says that somebody is not let in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// The clock in the envelope of the hello that this answers.
    pub asked_us: u32,
    /// Why not.
    pub why: RefusedFor,
}

/// Why somebody is not let in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RefusedFor {
    /// The asker speaks another version; the envelope says which one is spoken here.
    Version,
    /// Nobody expects this player.
    Unknown,
    /// Every place is taken.
    Full,
    /// How many rules the server has; the asker has another number.
    Kinds(u8),
    /// A rule is laid out otherwise.
    Layout(ForeignLayout),
    /// The life that asks has ended: whoever still lives must begin another.
    Over,
}

/// The same without what would help.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Denied {
    /// Another version.
    Version,
    /// Nobody expects this player.
    Unknown,
    /// Every place is taken.
    Full,
    /// Another number of rules.
    Kinds,
    /// A rule is laid out otherwise.
    Layout,
    /// The life that asks has ended.
    Over,
}

impl Denied {
    /// All of them.
    pub const ALL: [Self; 6] = [Self::Version, Self::Unknown, Self::Full, Self::Kinds, Self::Layout, Self::Over];

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Version => "version",
            Self::Unknown => "unknown",
            Self::Full => "full",
            Self::Kinds => "kinds",
            Self::Layout => "layout",
            Self::Over => "over",
        }
    }
}

impl RefusedFor {
    /// In a word.
    pub const fn denied(&self) -> Denied {
        match self {
            Self::Version => Denied::Version,
            Self::Unknown => Denied::Unknown,
            Self::Full => Denied::Full,
            Self::Kinds(_) => Denied::Kinds,
            Self::Layout(_) => Denied::Layout,
            Self::Over => Denied::Over,
        }
    }
}

/// The first rule that is laid out otherwise, as the server has it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ForeignLayout {
    /// Its number.
    pub kind: u8,
    /// Its name, as much as is told of one.
    pub name: String,
    /// Its fields in order: a name, and a fingerprint of how it is laid out.
    pub fields: Vec<(String, u32)>,
}

/// Bytes told of a name.
const NAME: usize = 16;
/// The most fields there can be.
const MOST_FIELDS: u32 = (STATE_LANES + INPUT_LANES) as u32;

impl ForeignLayout {
    /// What is told of a rule.
    pub fn of(kind: u8, name: &str, schema: &Schema) -> Self {
        let fields = schema.field_prints().map(|(name, print)| (told_of(name), (print ^ print >> 32) as u32));
        Self { kind, name: told_of(name), fields: fields.collect() }
    }

    /// The first field in which two layouts differ, the server's looked through first.
    pub fn difference(&self, own: &Self) -> Option<Difference> {
        let print = |of: &Self, name: &str| of.fields.iter().find(|(n, _)| n == name).map(|(_, print)| *print);
        let theirs = self.fields.iter().find_map(|(name, there)| match print(own, name) {
            Some(here) if here == *there => None,
            Some(_) => Some(Difference::Otherwise(name.clone())),
            None => Some(Difference::There(name.clone())),
        });
        let ours = || {
            let only = own.fields.iter().find(|(name, _)| print(self, name).is_none());
            only.map(|(name, _)| Difference::Here(name.clone()))
        };
        theirs.or_else(ours)
    }
}

/// How two layouts differ: in which field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Difference {
    /// The server has it, the asker does not.
    There(String),
    /// The asker has it, the server does not.
    Here(String),
    /// Both have it, laid out otherwise.
    Otherwise(String),
}

/// As much of a name as is told.
fn told_of(name: &str) -> String {
    name.chars().map(|c| if c.is_ascii_graphic() { c } else { '?' }).take(NAME).collect()
}

/// A name: its length, and so many visible letters.
fn name_rows<W: Way>(way: &mut W, name: &mut String) -> Passed {
    let said = told_of(name);
    let mut length = said.len() as u32;
    way.bits("length", &mut length, 8, number)?;
    let length = ranged("length of a name", length, 0, NAME as u32)?;
    let mut letters = String::with_capacity(NAME);
    for place in 0..length as usize {
        let mut byte = said.as_bytes().get(place).map_or(0, |byte| u32::from(*byte));
        way.bits("letter", &mut byte, 8, number)?;
        letters.push(char::from(ranged("letter of a name", byte, 0x21, 0x7e)? as u8));
    }
    *name = letters;
    Ok(())
}

impl ForeignLayout {
    fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        way.byte("rule", &mut self.kind, 8, number)?;
        way.one(&mut self.name, name_rows, |name| ("its name".to_owned(), FieldValue::Words(name.clone())))?;
        way.list("number of fields", &mut self.fields, (8, 8 + 32, (0, MOST_FIELDS)), |way, field| {
            let rows = |way: &mut W, (name, print): &mut (String, u32)| {
                name_rows(way, name)?;
                way.bits("print", print, 32, number)
            };
            way.one(field, rows, |(name, print)| (name.clone(), FieldValue::Words(format!("laid out {print:08x}"))))
        })
    }
}

impl Default for Refusal {
    fn default() -> Self {
        Self { asked_us: 0, why: RefusedFor::Version }
    }
}

impl Refusal {
    /// All of it.
    pub(super) fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        way.bits("clock of the hello", &mut self.asked_us, 32, micros)?;
        let mut reason = self.why.denied() as u32;
        let word = |reason: u32| Denied::ALL.get(reason as usize).map_or("unknown", |denied| denied.name());
        way.bits("reason", &mut reason, 8, |reason| FieldValue::Words(word(reason).to_owned()))?;
        let reason = ranged("reason of a refusal", reason, 0, Denied::ALL.len() as u32 - 1)?;
        if W::READS {
            self.why = match Denied::ALL[reason as usize] {
                Denied::Version => RefusedFor::Version,
                Denied::Unknown => RefusedFor::Unknown,
                Denied::Full => RefusedFor::Full,
                Denied::Kinds => RefusedFor::Kinds(0),
                Denied::Layout => RefusedFor::Layout(ForeignLayout::default()),
                Denied::Over => RefusedFor::Over,
            };
        }
        match &mut self.why {
            RefusedFor::Version | RefusedFor::Unknown | RefusedFor::Full | RefusedFor::Over => Ok(()),
            RefusedFor::Kinds(count) => way.byte("rules there", count, 8, number),
            RefusedFor::Layout(layout) => layout.rows(way),
        }
    }
}
