//! Not being let in, and why.

use serde::{Deserialize, Serialize};

use super::bits::{BitReader, BitWriter};
use super::error::{WireError, ranged};
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
#[derive(Clone, Debug, PartialEq, Eq)]
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

fn write_name(out: &mut BitWriter, name: &str) {
    let name = told_of(name);
    out.put(name.len() as u32, 8);
    name.bytes().for_each(|b| out.put(u32::from(b), 8));
}

fn read_name(from: &mut BitReader<'_>) -> Result<String, WireError> {
    let length = ranged("length of a name", from.take(8)?, 0, NAME as u32)?;
    let mut name = String::with_capacity(NAME);
    for _ in 0..length {
        let byte = ranged("letter of a name", from.take(8)?, 0x21, 0x7e)?;
        name.push(char::from(byte as u8));
    }
    Ok(name)
}

impl Refusal {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter) {
        out.put(self.asked_us, 32);
        let number = match &self.why {
            RefusedFor::Version => 0,
            RefusedFor::Unknown => 1,
            RefusedFor::Full => 2,
            RefusedFor::Kinds(_) => 3,
            RefusedFor::Layout(_) => 4,
            RefusedFor::Over => 5,
        };
        out.put(number, 8);
        match &self.why {
            RefusedFor::Version | RefusedFor::Unknown | RefusedFor::Full | RefusedFor::Over => {}
            RefusedFor::Kinds(count) => out.put(u32::from(*count), 8),
            RefusedFor::Layout(layout) => {
                out.put(u32::from(layout.kind), 8);
                write_name(out, &layout.name);
                out.put(layout.fields.len() as u32, 8);
                for (name, print) in &layout.fields {
                    write_name(out, name);
                    out.put(*print, 32);
                }
            }
        }
    }

    pub(super) fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        let asked_us = from.take(32)?;
        let why = match ranged("reason of a refusal", from.take(8)?, 0, 5)? {
            0 => RefusedFor::Version,
            1 => RefusedFor::Unknown,
            2 => RefusedFor::Full,
            3 => RefusedFor::Kinds(from.take(8)? as u8),
            5 => RefusedFor::Over,
            _ => {
                let (kind, name) = (from.take(8)? as u8, read_name(from)?);
                let count = ranged("number of fields", from.take(8)?, 0, MOST_FIELDS)?;
                let mut fields = Vec::new();
                for _ in 0..count {
                    fields.push((read_name(from)?, from.take(32)?));
                }
                RefusedFor::Layout(ForeignLayout { kind, name, fields })
            }
        };
        Ok(Self { asked_us, why })
    }
}
