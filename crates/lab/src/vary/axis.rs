//! One setting and the values that it is given.

use std::fmt;

use thiserror::Error;
use velocitas_analysis::cause::shown;
use velocitas_core::Rate;
use velocitas_gait::read_quantity;
use velocitas_record::ids::MemberId;
use velocitas_record::knob::{Accessor, KnobValue, Range};
use velocitas_record::settings::{Knob, SETTINGS};

use super::GridAxis;
use crate::course::{Course, KnownTo, Override, nearest};

/// The most values of a range.
const MOST_VALUES: usize = 10_000;

/// Why something cannot be varied.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct VaryError(pub String);

/// What is set.
#[derive(Clone, Debug, PartialEq)]
enum Target {
    /// A setting of links or clients, of these members.
    Knob(Knob, Whose),
    /// A tunable of a rule, for all.
    Tunable { kind: u8, tunable: usize },
    /// Ticks a second.
    Rate,
}

/// Of whom, from the widest on.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Whose {
    All,
    Link(String),
    Member(MemberId),
}

/// A value of an axis.
#[derive(Clone, Debug, PartialEq)]
struct Value {
    shown: String,
    is: Is,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Is {
    Knob(KnobValue),
    Number(f32),
    Rate(Rate),
}

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
    /// `RULE.TUNABLE`; or `tick_rate`. Values are separated by commas; `A..B:STEP` is a range with both ends, `all` is every choice of
    /// what can be switched.
    ///
    /// # Errors
    /// When there is no such key, or it cannot have such a value: says what was expected, and the nearest word.
    pub fn read(text: &str, course: &Course) -> Result<Self, VaryError> {
        let Some((key, values)) = text.split_once('=') else {
            return Err(VaryError(format!("expected KEY=VALUES, such as latency=0ms..200ms:20ms; found `{text}`")));
        };
        let (key, values) = (key.trim(), values.trim());
        let target = target(key, course)?;
        let values = target.values(values, course).map_err(|why| VaryError(format!("{key}: {why}")))?;
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

    /// It and its values, as they are shown.
    pub(super) fn shown(&self) -> GridAxis {
        let numbers: Option<Vec<f64>> = self.values.iter().map(|value| value.number().ok()).collect();
        let unit = numbers.as_ref().and_then(|_| self.values[0].shown.split_once(' ')).map_or("", |(_, unit)| unit);
        GridAxis {
            key: self.key.clone(),
            values: self.values.iter().map(|value| value.shown.clone()).collect(),
            unit: unit.to_owned(),
            numbers,
        }
    }

    /// What is narrower is set later.
    pub(super) fn narrowness(&self) -> u8 {
        match &self.target {
            Target::Knob(_, Whose::Link(_)) => 1,
            Target::Knob(_, Whose::Member(_)) => 2,
            _ => 0,
        }
    }

    pub(super) fn apply(&self, place: usize, course: &mut Course) {
        match (&self.target, self.values[place].is) {
            (Target::Knob(knob, whose), Is::Knob(value)) => {
                for (member, one) in (0..).zip(&mut course.cast) {
                    let is_meant = match whose {
                        Whose::All => true,
                        Whose::Link(link) => one.link.as_ref() == Some(link),
                        Whose::Member(who) => *who == MemberId::new(member),
                    };
                    if is_meant {
                        knob.set(&mut one.knobs, value);
                    }
                }
            }
            (Target::Tunable { kind, tunable }, Is::Number(value)) => {
                let (kind, tunable, known_to) = (*kind, *tunable, KnownTo::All);
                course.overrides.push(Override { kind, tunable, value, known_to });
            }
            (Target::Rate, Is::Rate(rate)) => course.rate = rate,
            _ => {}
        }
    }
}

/// What a key stands for.
fn target(key: &str, course: &Course) -> Result<Target, VaryError> {
    let knob = |key: &str| SETTINGS.iter().find(|spec| spec.key == key);
    let unknown = |found: &str, known: &mut dyn Iterator<Item = &str>| {
        let meant = nearest(found, known).map_or_else(String::new, |meant| format!("; {meant}"));
        Err(VaryError(format!("there is nothing called `{found}` to be varied{meant}")))
    };
    let keys = || SETTINGS.iter().map(|spec| spec.key);
    if key == "tick_rate" {
        return Ok(Target::Rate);
    }
    if let Some(spec) = knob(key) {
        return Ok(Target::Knob(spec.knob, Whose::All));
    }
    let Some((whose, rest)) = key.rsplit_once('.') else {
        return unknown(key, &mut keys().chain(["tick_rate"]));
    };
    if let Some(link) = whose.strip_prefix("link.") {
        let links = || course.cast.iter().filter_map(|member| member.link.as_deref());
        return match knob(rest) {
            Some(spec) if !matches!(spec.accessor, Accessor::Link { .. }) => {
                Err(VaryError(format!("`{rest}` is no setting of a link: leave out `{whose}.`")))
            }
            Some(spec) if links().any(|known| known == link) => {
                Ok(Target::Knob(spec.knob, Whose::Link(link.to_owned())))
            }
            Some(_) => unknown(link, &mut links()),
            None => unknown(rest, &mut keys()),
        };
    }
    if let Some(who) = course.member(whose) {
        return match knob(rest) {
            Some(spec) => Ok(Target::Knob(spec.knob, Whose::Member(who))),
            None => unknown(rest, &mut keys()),
        };
    }
    if let Some((kind, rule)) = course.kinds.iter().find(|(_, rule)| rule.name() == whose) {
        let tunables = rule.tunables();
        return match tunables.iter().position(|tunable| tunable.name == rest) {
            Some(tunable) => Ok(Target::Tunable { kind, tunable }),
            None => unknown(rest, &mut tunables.iter().map(|tunable| tunable.name)),
        };
    }
    let members = course.cast.iter().map(|member| member.name.as_str());
    unknown(whose, &mut members.chain(course.kinds.iter().map(|(_, rule)| rule.name())))
}

impl Target {
    /// The values that a text stands for.
    fn values(&self, text: &str, course: &Course) -> Result<Vec<Value>, String> {
        if text == "all" {
            return self.choices();
        }
        let mut values = Vec::new();
        for part in text.split(',').map(str::trim) {
            match part.split_once("..") {
                Some((from, rest)) => values.extend(self.range(from, rest, course)?),
                None => values.push(self.value(part, course)?),
            }
        }
        let twice = values.iter().enumerate().find(|(i, value)| values[..*i].contains(value));
        match twice {
            Some((_, value)) => Err(format!("expected each value once; found {} twice", value.shown)),
            None => Ok(values),
        }
    }

    /// Every value of what is a choice.
    fn choices(&self) -> Result<Vec<Value>, String> {
        match self {
            Self::Knob(knob, _) if matches!(knob.spec().range, Range::Switch) => {
                let value = |on| KnobValue::Switch(on);
                Ok([true, false].map(|on| Value { shown: shown(*knob, value(on)), is: Is::Knob(value(on)) }).to_vec())
            }
            _ => Err("expected values: `all` stands for the choices of what is on or off".to_owned()),
        }
    }

    fn value(&self, text: &str, course: &Course) -> Result<Value, String> {
        match self {
            Self::Knob(knob, _) => {
                let value = knob.read(text)?;
                Ok(Value { shown: shown(*knob, value), is: Is::Knob(value) })
            }
            Self::Tunable { kind, tunable } => {
                let rule = course.kinds.motion(*kind);
                let tunable = &rule.tunables()[*tunable];
                let (value, dimension) = read_quantity(text)?;
                let expected = read_quantity(&format!("1 {}", tunable.unit)).map(|(_, dimension)| dimension);
                if expected.is_ok_and(|expected| expected != dimension) {
                    return Err(format!("expected a value in {}; found `{text}`", tunable.unit));
                }
                let (value, range) = (value as f32, tunable.least..=tunable.most);
                if !range.contains(&value) {
                    let (least, most, unit) = (tunable.least, tunable.most, tunable.unit);
                    return Err(format!("expected {least} to {most} {unit}; found `{text}`"));
                }
                let unit = if tunable.unit == "1" { String::new() } else { format!(" {}", tunable.unit) };
                Ok(Value { shown: format!("{value}{unit}"), is: Is::Number(value) })
            }
            Self::Rate => {
                let number = text.strip_suffix("Hz").unwrap_or(text).trim();
                let rate = number.parse().ok().filter(|hz| *hz >= 5).and_then(Rate::new);
                let rate =
                    rate.ok_or_else(|| format!("expected a whole tick rate from 5 Hz to 1000 Hz; found `{text}`"))?;
                Ok(Value { shown: format!("{} Hz", rate.hz()), is: Is::Rate(rate) })
            }
        }
    }

    /// From one value to another by steps, both ends included where a step falls on the last.
    fn range(&self, from: &str, rest: &str, course: &Course) -> Result<Vec<Value>, String> {
        let Some((to, step)) = rest.split_once(':') else {
            return Err(format!("expected a step behind a range, such as {from}..{rest}:STEP"));
        };
        let (first, last) = (self.value(from, course)?.number()?, self.value(to, course)?.number()?);
        let step = self.step(step, course)?;
        if !(last >= first && step > 0.0) {
            return Err(format!("expected a range that rises by a step above 0; found `{from}..{rest}`"));
        }
        let count = ((last - first) / step + 1e-9).floor() as usize + 1;
        if count > MOST_VALUES {
            return Err(format!("expected at most {MOST_VALUES} values; found {count}"));
        }
        (0..count).map(|n| self.value(&self.written(first + step * n as f64, course), course)).collect()
    }

    /// The size of a step, which need not be a value that can be set.
    fn step(&self, text: &str, course: &Course) -> Result<f64, String> {
        let step = self.value(text, course).and_then(|value| value.number());
        step.or_else(|why| text.trim().parse().map_err(|_| format!("a step: {why}")))
    }

    /// A number as it can be read again.
    fn written(&self, number: f64, course: &Course) -> String {
        // What steps lose in the last digits is no value of its own.
        let number = (number * 1e6).round() / 1e6;
        match self {
            Self::Knob(..) | Self::Rate => number.to_string(),
            Self::Tunable { kind, tunable } => {
                let unit = course.kinds.motion(*kind).tunables()[*tunable].unit;
                if unit == "1" { number.to_string() } else { format!("{number} {unit}") }
            }
        }
    }
}

impl Value {
    fn number(&self) -> Result<f64, String> {
        match self.is {
            Is::Knob(KnobValue::Number(x)) => Ok(x),
            Is::Number(x) => Ok(x.into()),
            Is::Rate(rate) => Ok(rate.hz().into()),
            Is::Knob(_) => Err(format!("expected a number at the end of a range; found {}", self.shown)),
        }
    }
}
