//! What is allowed, as courses write it.

use std::borrow::Cow;
use std::fmt;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::Deserialize;
use serde::de::{Deserializer, MapAccess, Visitor};
use toml::Spanned;
use velocitas_analysis::budget::MEASURES;
use velocitas_record::quantity::{Quantity, Time};

use super::settings::{Written, described, written_as};

/// The keys of whom a budget is for.
pub(super) const WHO: &str = "who";
pub(super) const LINK: &str = "link";
/// The keys of what is meant to go wrong.
pub(super) const EXCEEDED: &str = "exceeded";
pub(super) const ACCUSED_BY: &str = "accused_by";
/// All keys that bound nothing.
pub(super) const BESIDES: [&str; 4] = [WHO, LINK, EXCEEDED, ACCUSED_BY];
/// What is allowed.
#[derive(Default)]
pub(super) struct Budget {
    pub(super) who: Option<Spanned<String>>,
    pub(super) link: Option<Spanned<String>>,
    pub(super) exceeded: Vec<Spanned<String>>,
    pub(super) accused_by: Vec<Spanned<String>>,
    pub(super) written: Written,
}

impl<'de> Deserialize<'de> for Budget {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        from.deserialize_map(BudgetVisitor)
    }
}

struct BudgetVisitor;

impl<'de> Visitor<'de> for BudgetVisitor {
    type Value = Budget;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a table")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Budget, A::Error> {
        let mut budget = Budget::default();
        while let Some(key) = map.next_key::<Spanned<String>>()? {
            match key.get_ref().as_str() {
                WHO => budget.who = Some(map.next_value()?),
                LINK => budget.link = Some(map.next_value()?),
                EXCEEDED => budget.exceeded = map.next_value()?,
                ACCUSED_BY => budget.accused_by = map.next_value()?,
                _ => drop(budget.written.insert(key, map.next_value()?)),
            }
        }
        Ok(budget)
    }
}

/// How a course is checked.
#[derive(JsonSchema, Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(super) struct Checked {
    /// How much virtual time each run lasts; 30 s if nothing is said.
    #[serde(default)]
    #[schemars(with = "Option<Quantity<Time>>")]
    pub(super) lasts: Option<Spanned<Quantity<Time>>>,
    /// With how many seeds it is run, from the course's own on; 5 if nothing is said.
    #[serde(default)]
    #[schemars(with = "Option<u32>")]
    pub(super) seeds: Option<Spanned<i64>>,
}

impl JsonSchema for Budget {
    fn schema_name() -> Cow<'static, str> {
        "Budget".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let mut properties = serde_json::Map::new();
        let whom = [(WHO, "The member of the cast that it is for."), (LINK, "The link whose members it is for.")];
        for (key, says) in whom {
            properties.insert(key.to_owned(), json_schema!({ "type": "string", "description": says }).to_value());
        }
        let meant = [
            (EXCEEDED, "What is meant to be exceeded, with one seed at least: the course shows what goes wrong."),
            (ACCUSED_BY, "The checks of the guard that are meant to accuse, with one seed at least."),
        ];
        for (key, says) in meant {
            let schema = json_schema!({ "type": "array", "items": { "type": "string" }, "description": says });
            properties.insert(key.to_owned(), schema.to_value());
        }
        for measure in MEASURES {
            let says = format!("{}, {}: {}.", measure.name, measure.bound.words(), measure.help);
            properties.insert(measure.key.to_owned(), described(written_as(measure.takes, generator), says));
        }
        json_schema!({
            "type": "object",
            "description": "What is allowed to everybody, to a member, or to those on a link.",
            "properties": properties,
            "additionalProperties": false,
        })
    }
}
