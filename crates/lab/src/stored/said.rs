//! A line of JSON, without a copy of what it says.

use std::borrow::Cow;
use std::fmt;

use serde::de::{Deserialize, Deserializer, Error, MapAccess, SeqAccess, Visitor};

/// What stands under a key.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Said<'a> {
    Null,
    Flag(bool),
    Whole(u64),
    Signed(i64),
    Real(f64),
    Word(Cow<'a, str>),
    List(Vec<Said<'a>>),
    Fields(Row<'a>),
}

/// An object: few keys, in their order.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Row<'a>(Vec<(Cow<'a, str>, Said<'a>)>);

impl<'a> Row<'a> {
    /// What stands under a key; null is nothing.
    pub(super) fn get(&self, key: &str) -> Option<&Said<'a>> {
        self.0.iter().find(|(name, _)| name == key).map(|(_, said)| said).filter(|said| **said != Said::Null)
    }
}

impl<'a> Said<'a> {
    pub(super) fn word(&self) -> Option<&str> {
        if let Self::Word(word) = self { Some(word) } else { None }
    }

    pub(super) const fn flag(&self) -> Option<bool> {
        if let Self::Flag(flag) = self { Some(*flag) } else { None }
    }

    pub(super) const fn whole(&self) -> Option<u64> {
        if let Self::Whole(x) = self { Some(*x) } else { None }
    }

    pub(super) fn signed(&self) -> Option<i64> {
        match self {
            Self::Whole(x) => i64::try_from(*x).ok(),
            Self::Signed(x) => Some(*x),
            _ => None,
        }
    }

    pub(super) const fn real(&self) -> Option<f64> {
        match self {
            Self::Whole(x) => Some(*x as f64),
            Self::Signed(x) => Some(*x as f64),
            Self::Real(x) => Some(*x),
            _ => None,
        }
    }

    pub(super) fn list(&self) -> Option<&[Self]> {
        if let Self::List(all) = self { Some(all) } else { None }
    }

    pub(super) const fn fields(&self) -> Option<&Row<'a>> {
        if let Self::Fields(row) = self { Some(row) } else { None }
    }
}

/// Makes what is said of what a parser finds.
struct Saying;

impl<'de> Visitor<'de> for Saying {
    type Value = Said<'de>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a JSON value")
    }

    fn visit_unit<E: Error>(self) -> Result<Said<'de>, E> {
        Ok(Said::Null)
    }

    fn visit_bool<E: Error>(self, flag: bool) -> Result<Said<'de>, E> {
        Ok(Said::Flag(flag))
    }

    fn visit_u64<E: Error>(self, x: u64) -> Result<Said<'de>, E> {
        Ok(Said::Whole(x))
    }

    fn visit_i64<E: Error>(self, x: i64) -> Result<Said<'de>, E> {
        Ok(Said::Signed(x))
    }

    fn visit_f64<E: Error>(self, x: f64) -> Result<Said<'de>, E> {
        Ok(Said::Real(x))
    }

    fn visit_borrowed_str<E: Error>(self, word: &'de str) -> Result<Said<'de>, E> {
        Ok(Said::Word(Cow::Borrowed(word)))
    }

    fn visit_str<E: Error>(self, word: &str) -> Result<Said<'de>, E> {
        Ok(Said::Word(Cow::Owned(word.to_owned())))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut all: A) -> Result<Said<'de>, A::Error> {
        let mut list = Vec::with_capacity(3);
        while let Some(said) = all.next_element()? {
            list.push(said);
        }
        Ok(Said::List(list))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut all: A) -> Result<Said<'de>, A::Error> {
        let mut row = Vec::with_capacity(16);
        while let Some((key, said)) = all.next_entry::<Named<'de>, Said<'de>>()? {
            row.push((key.0, said));
        }
        Ok(Said::Fields(Row(row)))
    }
}

impl<'de> Deserialize<'de> for Said<'de> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        from.deserialize_any(Saying)
    }
}

impl<'de> Deserialize<'de> for Row<'de> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        match Said::deserialize(from)? {
            Said::Fields(row) => Ok(row),
            _ => Err(D::Error::custom("no object")),
        }
    }
}

/// A key, borrowed where it has no escapes.
#[derive(serde::Deserialize)]
struct Named<'a>(#[serde(borrow)] Cow<'a, str>);
