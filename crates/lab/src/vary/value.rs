//! Values that a setting is given: lists, ranges, and all choices.

use velocitas_analysis::cause::shown;
use velocitas_core::{Arrangement, Rate};
use velocitas_gait::read_quantity;
use velocitas_record::knob::{KnobValue, Range};
use velocitas_record::settings::Knob;

use super::edit::TextKey;
use super::target::{Is, Target};
use crate::course::{Course, nearest};
use crate::naive::NAIVE;
use crate::profile::{PROFILES, Profile};

/// The most values of a setting.
const MOST_VALUES: usize = 10_000;

/// A value of a setting.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Value {
    /// With its unit.
    pub(super) shown: String,
    /// As it is set.
    pub(super) is: Is,
}

/// The values that a text stands for.
///
/// # Errors
/// What was expected of it, and what was found.
pub(super) fn all(target: &Target, text: &str, course: &Course) -> Result<Vec<Value>, String> {
    if text == "all" {
        return choices(target);
    }
    let mut values = Vec::new();
    for part in text.split(',').map(str::trim) {
        match part.split_once("..") {
            Some((from, rest)) => values.extend(range(target, from, rest, course)?),
            None => values.push(one(target, part, course)?),
        }
        if values.len() > MOST_VALUES {
            return Err(format!("expected at most {MOST_VALUES} values; found more"));
        }
    }
    Ok(values)
}

/// Every value of what is a choice.
fn choices(target: &Target) -> Result<Vec<Value>, String> {
    let texts = |names: &[&str]| {
        let text = |name: &&str| Value { shown: (*name).to_owned(), is: Is::Text((*name).into()) };
        Ok(names.iter().map(text).collect())
    };
    match target {
        Target::Knob(knob, _) if matches!(knob.spec().range, Range::Switch) => {
            Ok([true, false].map(|on| knob_of(*knob, KnobValue::Switch(on))).to_vec())
        }
        Target::Knob(knob, _) if !knob.choices().is_empty() => {
            let names = knob.choices().iter().filter_map(|choice| knob.named(choice.name));
            Ok(names.map(|value| knob_of(*knob, value)).collect())
        }
        Target::Profile(_) => Ok(PROFILES.iter().map(|profile| profile_of(profile.name)).collect()),
        Target::Text(TextKey::Arrangement(_)) => texts(&Arrangement::ALL.map(Arrangement::name)),
        Target::Text(TextKey::Server(path)) if path.join(".") == "guard.checks" => {
            let names: Vec<&str> = std::iter::once("full").chain(NAIVE.iter().map(|row| row.name)).collect();
            texts(&names)
        }
        _ => Err("expected values: `all` stands for what is a choice, such as on and off".to_owned()),
    }
}

/// With all digits: values that differ look different.
fn knob_of(knob: Knob, value: KnobValue) -> Value {
    let shown = match value {
        KnobValue::Number(x) => with_unit(x, knob.spec().unit),
        KnobValue::Auto => "auto".to_owned(),
        KnobValue::Switch(_) | KnobValue::Choice(_) => shown(knob, value),
    };
    Value { shown, is: Is::Knob(value) }
}

fn profile_of(name: &'static str) -> Value {
    Value { shown: name.to_owned(), is: Is::Profile(name) }
}

fn one(target: &Target, text: &str, course: &Course) -> Result<Value, String> {
    match target {
        Target::Knob(knob, _) => {
            let meant = || nearest(text, knob.choices().iter().map(|choice| choice.name));
            let wrong = |why: String| meant().map_or_else(|| why.clone(), |meant| format!("{why}; {meant}"));
            knob.read(text).map(|value| knob_of(*knob, value)).map_err(wrong)
        }
        Target::Profile(_) => Profile::named(text).map(|profile| profile_of(profile.name)).ok_or_else(|| {
            let known = PROFILES.iter().map(|profile| profile.name);
            let meant = nearest(text, known.clone()).map_or_else(String::new, |meant| format!("; {meant}"));
            format!("expected a profile ({}); found `{text}`{meant}", known.collect::<Vec<_>>().join(", "))
        }),
        Target::Tunable { kind, tunable } => tunable_of(*kind, *tunable, text, course),
        Target::Rate => {
            let number = text.strip_suffix("Hz").unwrap_or(text).trim();
            let rate = number.parse().ok().filter(|hz| *hz >= 5).and_then(Rate::new);
            let rate =
                rate.ok_or_else(|| format!("expected a whole tick rate from 5 Hz to 1000 Hz; found `{text}`"))?;
            Ok(Value { shown: format!("{} Hz", rate.hz()), is: Is::Rate(rate) })
        }
        Target::Text(TextKey::Copies(_)) => match text.parse::<i64>() {
            Ok(often @ 1..) => Ok(Value { shown: often.to_string(), is: Is::Text(often.into()) }),
            _ => Err(format!("expected how often, 1 or more; found `{text}`")),
        },
        Target::Text(_) => Ok(written(text)),
    }
}

/// A value as a course writes it: a whole number, a switch, or text.
fn written(text: &str) -> Value {
    let shown = match split(text) {
        Some((number, unit)) if !unit.is_empty() => format!("{number} {unit}"),
        _ => text.to_owned(),
    };
    let is = match text {
        "true" | "on" => true.into(),
        "false" | "off" => false.into(),
        text => text.parse::<i64>().map_or_else(|_| shown.as_str().into(), toml::Value::from),
    };
    Value { shown, is: Is::Text(is) }
}

fn tunable_of(kind: u8, tunable: usize, text: &str, course: &Course) -> Result<Value, String> {
    let rule = course.kinds.motion(kind);
    let tunable = &rule.tunables()[tunable];
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

/// From one value to another by steps, both ends included where a step falls on the last.
fn range(target: &Target, from: &str, rest: &str, course: &Course) -> Result<Vec<Value>, String> {
    let Some((to, by)) = rest.split_once(':') else {
        return Err(format!("expected a step behind a range, such as {from}..{rest}:STEP"));
    };
    let (first, last) = (one(target, from, course)?.number()?, one(target, to, course)?.number()?);
    let step = step(target, by, course)?;
    if !(last >= first && step > 0.0) {
        return Err(format!("expected a range that rises by a step above 0; found `{from}..{rest}`"));
    }
    let count = ((last - first) / step + 1e-9).floor() as usize + 1;
    if count > MOST_VALUES {
        return Err(format!("expected at most {MOST_VALUES} values; found {count}"));
    }
    let unit = unit(target, [from, to, by], course)?;
    (0..count).map(|n| one(target, &with_unit(first + step * n as f64, unit), course)).collect()
}

/// The size of a step, which need not be a value that can be set.
fn step(target: &Target, text: &str, course: &Course) -> Result<f64, String> {
    let step = one(target, text, course).and_then(|value| value.number());
    step.or_else(|why| text.trim().parse().map_err(|_| format!("a step: {why}")))
}

/// The unit in which the numbers of a range are written.
fn unit<'a>(target: &Target, parts: [&'a str; 3], course: &'a Course) -> Result<&'a str, String> {
    match target {
        Target::Knob(..) | Target::Rate | Target::Profile(_) => Ok(""),
        Target::Tunable { kind, tunable } => {
            let unit = course.kinds.motion(*kind).tunables()[*tunable].unit;
            Ok(if unit == "1" { "" } else { unit })
        }
        // A course's text is read with the unit that is written.
        Target::Text(_) => {
            let mut units = parts.into_iter().filter_map(split).map(|(_, unit)| unit).filter(|unit| !unit.is_empty());
            let Some(unit) = units.next() else { return Ok("") };
            match units.find(|other| *other != unit) {
                Some(other) => Err(format!("expected one unit in a range; found {unit} and {other}")),
                None => Ok(unit),
            }
        }
    }
}

/// A number as it can be read again. What steps lose in the last digits is no value of its own.
fn with_unit(number: f64, unit: &str) -> String {
    let number = (number * 1e6).round() / 1e6;
    if unit.is_empty() { number.to_string() } else { format!("{number} {unit}") }
}

/// A number and its unit, if a text begins with a number.
fn split(text: &str) -> Option<(f64, &str)> {
    let text = text.trim();
    let end = text.find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | '-' | '+'))).unwrap_or(text.len());
    text[..end].parse().ok().map(|number| (number, text[end..].trim()))
}

impl Value {
    /// Its unit, where it is a number.
    pub(super) fn unit(&self) -> &str {
        split(&self.shown).map_or("", |(_, unit)| unit)
    }

    /// As a number, in the unit that it is shown with.
    pub(super) fn number(&self) -> Result<f64, String> {
        match &self.is {
            Is::Knob(KnobValue::Number(x)) => Ok(*x),
            Is::Number(x) => Ok((*x).into()),
            Is::Rate(rate) => Ok(rate.hz().into()),
            Is::Text(_) if split(&self.shown).is_some() => Ok(split(&self.shown).map_or(0.0, |(number, _)| number)),
            _ => Err(format!("expected a number at the end of a range; found {}", self.shown)),
        }
    }
}
