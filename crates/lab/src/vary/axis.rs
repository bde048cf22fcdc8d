//! One setting and the values that it is given.

use std::fmt;

use toml::Table;

use super::error::VaryError;
use super::grid::GridAxis;
use super::target::{Is, Target};
use super::value::{self, Value};
use crate::course::Course;

/// One setting and the values that it is given, in order.
#[derive(Clone, Debug, PartialEq)]
pub struct Axis {
    key: String,
    target: Target,
    values: Vec<Value>,
}

impl fmt::Display for Axis {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let values: Vec<&str> = self.values.iter().map(|value| value.shown.as_str()).collect();
        write!(f, "{} = {}", self.key, values.join(", "))
    }
}

impl Axis {
    /// Reads `KEY=VALUES` for a course. A key is a setting as courses write it, of everybody; `MEMBER.KEY` and `link.NAME.KEY` of some;
    /// `server.KEY`, `silence.KEY` or `guard.KEY`; `RULE.TUNABLE`; or `tick_rate`. Values are separated by commas; `A..B:STEP` is a range
    /// with both ends, `all` is every choice of what is one.
    ///
    /// # Errors
    /// When there is no such key, or it cannot have such a value: says what was expected, and the nearest word.
    pub fn read(text: &str, course: &Course) -> Result<Self, VaryError> {
        let Some((key, values)) = text.split_once('=') else {
            return Err(VaryError(format!("expected KEY=VALUES, such as latency=0ms..200ms:20ms; found `{text}`")));
        };
        let (key, values) = (key.trim(), values.trim());
        let target = Target::read(key, course)?;
        let values = value::all(&target, values, course).map_err(|why| VaryError(format!("{key}: {why}")))?;
        Ok(Self { key: key.to_owned(), target, values })
    }

    /// Its key, as it was written.
    pub fn key(&self) -> &str {
        &self.key
    }

    /// How many values there are; at least one.
    pub fn len(&self) -> usize {
        self.values.len()
    }

    /// Whether there is none: never.
    pub fn is_empty(&self) -> bool {
        self.values.is_empty()
    }

    /// Whether two of its values are the same.
    fn is_same(&self, one: usize, other: usize) -> bool {
        self.values[one] == self.values[other]
    }

    /// The values that these axes of one length have in step twice, as they are shown.
    pub(super) fn twice(axes: &[Self]) -> Option<String> {
        let count = axes.iter().map(Self::len).min().unwrap_or_default();
        let earlier = |at: usize| (0..at).any(|before| axes.iter().all(|axis| axis.is_same(before, at)));
        let at = (0..count).find(|at| earlier(*at))?;
        Some(axes.iter().map(|axis| axis.values[at].shown.as_str()).collect::<Vec<_>>().join(", "))
    }

    /// It and its values, as they are shown.
    pub(super) fn shown(&self) -> GridAxis {
        let unit = self.values[0].unit();
        let number = |value: &Value| value.number().ok().filter(|_| value.unit() == unit);
        let numbers: Option<Vec<f64>> = self.values.iter().map(number).collect();
        GridAxis {
            key: self.key.clone(),
            values: self.values.iter().map(|value| value.shown.clone()).collect(),
            unit: unit.to_owned(),
            numbers,
        }
    }

    /// In which order settings are set.
    pub(super) fn order(&self) -> (u8, u8) {
        self.target.order()
    }

    /// Whether the course has to be read again with it.
    pub(super) const fn is_text(&self) -> bool {
        matches!(self.target, Target::Text(_))
    }

    /// Sets a value in the text of a course, where it is set there.
    pub(super) fn edit(&self, place: usize, table: &mut Table, course: &Course) {
        if let (Target::Text(key), Is::Text(value)) = (&self.target, &self.values[place].is) {
            key.edit(value, table, course);
        }
    }

    /// Sets a value in a course that was read, where it is set there; the first `cast` members are no copies.
    pub(super) fn apply(&self, place: usize, course: &mut Course, cast: usize) {
        self.target.apply(&self.values[place].is, course, cast);
    }
}
