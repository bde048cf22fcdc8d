//! Settings of links and members: their keys, how they are written and what they mean stand in the table of knobs.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;
use std::ops::Range;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::de::{Deserialize, Deserializer, Error, MapAccess, Visitor};
use toml::{Spanned, Value};
use velocitas_record::knob::{Accessor, KnobValue, Knobs, Range as Steps};
use velocitas_record::quantity::{Quantity, Takes, Time, measure_of};
use velocitas_record::settings::{KnobSpec, LONGEST, SETTINGS};
use velocitas_record::{Choice, Conditions, TraceNumber, listed};

use super::Turned;
use super::error::nearest;
use crate::cheat::{CHEATS, Cheat};
use crate::profile::{PROFILES, Profile};

/// Values by key, each with its place.
pub(super) type Written = BTreeMap<Spanned<String>, Spanned<Value>>;

/// Both directions of a link, and what differs on the way down.
#[derive(Clone, Default)]
pub(super) struct Link {
    written: Written,
    /// The kind of link that all this is over.
    profile: Option<Spanned<String>>,
    /// What was recorded of a link, to be followed.
    trace: Option<Spanned<String>>,
    /// What differs on the way down, with the place of its key.
    down: Option<(Range<usize>, Box<Self>)>,
}

/// Netcode settings.
#[derive(Default, serde::Deserialize)]
#[serde(transparent)]
pub(super) struct Settings(Written);

/// A mistake: where, what, and what may be meant.
pub(super) type Mistake = (Range<usize>, String, Option<String>);
type Result<T> = std::result::Result<T, Mistake>;

/// The key of what differs on the way down.
const DOWN: &str = "down";
/// The key of a named kind of link.
const PROFILE: &str = "profile";
/// The key of a recorded trace.
const TRACE: &str = "trace";

/// Reads the trace in a file, or finds it among those read.
pub(super) type ReadTrace<'a> = dyn FnMut(&Spanned<String>) -> Result<TraceNumber> + 'a;

const fn is_of_link(spec: &KnobSpec) -> bool {
    matches!(spec.accessor, Accessor::Link { .. })
}

fn rows(of_link: bool) -> impl Iterator<Item = &'static KnobSpec> {
    SETTINGS.iter().filter(move |spec| is_of_link(spec) == of_link)
}

fn row(key: &Spanned<String>, of_link: bool) -> Result<&'static KnobSpec> {
    let found = key.get_ref();
    rows(of_link).find(|spec| spec.key == found).ok_or_else(|| {
        let known: Vec<&str> =
            rows(of_link).map(|spec| spec.key).chain([PROFILE, TRACE, DOWN].into_iter().filter(|_| of_link)).collect();
        let message = format!("expected one of the keys {}; found `{found}`", known.join(", "));
        (key.span(), message, nearest(found, known.into_iter()))
    })
}

/// How a value is called that is not what was wanted.
fn found(value: &Value) -> String {
    match value {
        Value::String(text) => format!("the text \"{text}\""),
        Value::Integer(n) => format!("the number {n}"),
        Value::Float(x) => format!("the number {x}"),
        Value::Boolean(on) => on.to_string(),
        Value::Array(_) => "a list".to_owned(),
        Value::Table(_) => "a table".to_owned(),
        Value::Datetime(_) => "a date".to_owned(),
    }
}

/// A value as the table keeps it.
fn value(spec: &KnobSpec, written: &Spanned<Value>) -> Result<KnobValue> {
    match (spec.takes, spec.range) {
        (_, Steps::Choice(choices)) => chosen(spec, choices, written),
        (Takes::Whole, Steps::Steps(steps) | Steps::AutoOr(steps)) => whole(spec.name, steps, written),
        (takes, Steps::Steps(steps) | Steps::AutoOr(steps)) if !is_of_link(spec) => {
            let value = plain(takes, written)?;
            in_range(spec, steps, value).map_err(|why| (written.span(), why, None))
        }
        (takes, _) => plain(takes, written),
    }
}

/// A setting's value, if it lies between the ends of its steps; a time may be longer.
fn in_range(spec: &KnobSpec, steps: &[f64], value: KnobValue) -> std::result::Result<KnobValue, String> {
    let KnobValue::Number(x) = value else { return Ok(value) };
    let is_time = matches!(spec.takes, Takes::Time | Takes::TimeOrAuto);
    let (least, last) = (steps[0], steps[steps.len() - 1]);
    let most = if is_time { last.max(LONGEST) } else { last };
    // A step is not told apart from what is a millionth beside it: a course writes one, and rounds.
    let (found, near) = (x * spec.knob.scale(), 1e-6);
    if (least - near..=most + near).contains(&found) {
        return Ok(value);
    }
    let (unit, found) = (spec.unit, (found * 1e3).round() / 1e3);
    Err(format!("expected {} from {least} {unit} to {most} {unit}; found {found} {unit}", spec.name))
}

/// One of several ways, by its name.
fn chosen(spec: &KnobSpec, choices: &[Choice], written: &Spanned<Value>) -> Result<KnobValue> {
    let expected = format!("expected {} in quotes", listed(choices));
    let Value::String(word) = written.get_ref() else {
        return Err((written.span(), format!("{expected}; found {}", found(written.get_ref())), None));
    };
    spec.knob.named(word).ok_or_else(|| {
        let meant = nearest(word, choices.iter().map(|choice| choice.name));
        (written.span(), format!("{expected}; found \"{word}\""), meant)
    })
}

/// A whole number between the ends of these steps.
fn whole(name: &str, steps: &[f64], written: &Spanned<Value>) -> Result<KnobValue> {
    let (least, most) = (steps[0] as i64, steps[steps.len() - 1] as i64);
    let message = match written.get_ref() {
        Value::Integer(n) if (least..=most).contains(n) => return Ok(KnobValue::Number(*n as f64)),
        Value::Integer(n) => format!("expected {name} from {least} to {most}; found {n}"),
        other => format!("expected a whole number; found {}", found(other)),
    };
    Err((written.span(), message, None))
}

/// A value whose range is that of its dimension.
pub(super) fn plain(takes: Takes, written: &Spanned<Value>) -> Result<KnobValue> {
    let wrong = |message: String| (written.span(), message, None);
    let Some(measure) = measure_of(takes) else {
        return match (takes, written.get_ref()) {
            (Takes::Switch, Value::Boolean(on)) => Ok(KnobValue::Switch(*on)),
            (Takes::Switch, other) => Err(wrong(format!("expected true or false; found {}", found(other)))),
            _ => whole("a number", &[0.0, f64::from(u32::MAX)], written),
        };
    };
    let Value::String(text) = written.get_ref() else {
        return Err(wrong(format!(
            "expected {} in quotes with its unit, such as \"{}\"; found {}",
            measure.name,
            measure.example,
            found(written.get_ref())
        )));
    };
    let may_be_auto = takes == Takes::TimeOrAuto;
    if may_be_auto && text == "auto" {
        return Ok(KnobValue::Auto);
    }
    let or = if may_be_auto { "; or \"auto\"" } else { "" };
    (measure.parse)(text).map(KnobValue::Number).map_err(|why| wrong(format!("{why}{or}")))
}

impl<'de> Deserialize<'de> for Link {
    fn deserialize<D: Deserializer<'de>>(from: D) -> std::result::Result<Self, D::Error> {
        from.deserialize_map(LinkVisitor)
    }
}

struct LinkVisitor;

impl<'de> Visitor<'de> for LinkVisitor {
    type Value = Link;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a table")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> std::result::Result<Link, A::Error> {
        let mut link = Link::default();
        while let Some(key) = map.next_key::<Spanned<String>>()? {
            link.take(key, &mut map)?;
        }
        Ok(link)
    }
}

/// A change of a member's link.
#[derive(Default)]
pub(super) struct LinkChange {
    who: Option<Spanned<String>>,
    /// Where the first of its keys stands.
    place: Range<usize>,
    link: Link,
}

impl<'de> Deserialize<'de> for LinkChange {
    fn deserialize<D: Deserializer<'de>>(from: D) -> std::result::Result<Self, D::Error> {
        from.deserialize_map(LinkChangeVisitor)
    }
}

struct LinkChangeVisitor;

impl<'de> Visitor<'de> for LinkChangeVisitor {
    type Value = LinkChange;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a table")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> std::result::Result<LinkChange, A::Error> {
        let mut change = LinkChange::default();
        while let Some(key) = map.next_key::<Spanned<String>>()? {
            if change.place.is_empty() {
                change.place = key.span();
            }
            match key.get_ref().as_str() {
                "who" => change.who = Some(map.next_value()?),
                _ => change.link.take(key, &mut map)?,
            }
        }
        Ok(change)
    }
}

impl LinkChange {
    /// Whose link.
    pub(super) fn who(&self) -> Result<&Spanned<String>> {
        self.who
            .as_ref()
            .ok_or_else(|| (self.place.clone(), "expected the key `who`: whose link it is".to_owned(), None))
    }

    /// What is set anew, up and down.
    pub(super) fn turned(&self) -> Result<Turned> {
        if let Some(trace) = self.link.traces().next() {
            let message = "expected no trace: a link follows one from the beginning or not at all";
            return Err((trace.span(), message.to_owned(), None));
        }
        let turned = self.link.turned()?;
        if turned.down.is_empty() {
            let message = "expected something of the link to be set; found nothing";
            return Err((self.place.clone(), message.to_owned(), None));
        }
        Ok(turned)
    }
}

/// What is wrong with a way down that has one itself.
const NESTED: &str = "expected a `down` without a `down` of its own; found one";

impl Link {
    fn take<'de, A: MapAccess<'de>>(&mut self, key: Spanned<String>, map: &mut A) -> std::result::Result<(), A::Error> {
        match key.get_ref().as_str() {
            DOWN => self.down = Some((key.span(), map.next_value()?)),
            PROFILE => self.profile = Some(map.next_value()?),
            TRACE => self.trace = Some(map.next_value()?),
            _ => drop(self.written.insert(key, map.next_value()?)),
        }
        Ok(())
    }

    /// Everything that is set on either way: all of a profile, what is written, then what differs on the way down.
    fn turned(&self) -> Result<Turned> {
        let Turned { up, mut down } = self.set()?;
        if let Some((place, differs)) = &self.down {
            if differs.down.is_some() {
                return Err((place.clone(), NESTED.to_owned(), None));
            }
            down.extend(differs.set()?.down);
        }
        Ok(Turned { up, down })
    }

    /// The same without what differs.
    fn set(&self) -> Result<Turned> {
        let all = |conditions: Conditions| {
            rows(true).filter_map(move |spec| match spec.accessor {
                Accessor::Link { get, .. } => Some((spec.knob, get(&conditions))),
                _ => None,
            })
        };
        let (mut up, mut down): (Vec<_>, Vec<_>) = (Vec::new(), Vec::new());
        if let Some(profile) = self.profile()? {
            up.extend(all(profile.up));
            down.extend(all(profile.down));
        }
        for (key, written) in &self.written {
            let spec = row(key, true)?;
            if let KnobValue::Number(x) = value(spec, written)? {
                up.push((spec.knob, x));
                down.push((spec.knob, x));
            }
        }
        Ok(Turned { up, down })
    }

    /// Both directions, up and down, over a perfect link.
    pub(super) fn conditions(&self, read: &mut ReadTrace<'_>) -> Result<(Conditions, Conditions)> {
        let (mut up, mut down) = (Conditions::PERFECT, Conditions::PERFECT);
        self.turned()?.apply(&mut up, &mut down);
        if let Some(trace) = &self.trace {
            up.trace = Some(read(trace)?);
            down.trace = up.trace;
        }
        if let Some(trace) = self.down.as_ref().and_then(|(_, down)| down.trace.as_ref()) {
            down.trace = Some(read(trace)?);
        }
        Ok((up, down))
    }

    /// The traces that it follows on either way.
    pub(super) fn traces(&self) -> impl Iterator<Item = &Spanned<String>> {
        self.trace.iter().chain(self.down.iter().flat_map(|(_, down)| &down.trace))
    }

    fn profile(&self) -> Result<Option<&'static Profile>> {
        let Some(name) = &self.profile else { return Ok(None) };
        let known = PROFILES.iter().map(|profile| profile.name);
        Profile::named(name.get_ref()).map(Some).ok_or_else(|| {
            let list: Vec<&str> = known.clone().collect();
            let message = format!("expected a profile ({}); found `{}`", list.join(", "), name.get_ref());
            (name.span(), message, nearest(name.get_ref(), known))
        })
    }
}

impl Settings {
    /// Sets what is written.
    pub(super) fn apply(&self, knobs: &mut Knobs) -> Result<()> {
        for (key, written) in &self.0 {
            let spec = row(key, false)?;
            spec.accessor.apply(knobs, value(spec, written)?);
        }
        Ok(())
    }
}

/// A way to cheat and when.
#[derive(Default)]
pub(super) struct Trick {
    written: Written,
    /// From when.
    pub(super) at: Option<Quantity<Time>>,
    /// For how long.
    pub(super) lasts: Option<Quantity<Time>>,
    /// Again after so long.
    pub(super) every: Option<Quantity<Time>>,
}

impl<'de> Deserialize<'de> for Trick {
    fn deserialize<D: Deserializer<'de>>(from: D) -> std::result::Result<Self, D::Error> {
        from.deserialize_map(TrickVisitor)
    }
}

struct TrickVisitor;

impl<'de> Visitor<'de> for TrickVisitor {
    type Value = Trick;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a table")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> std::result::Result<Trick, A::Error> {
        let mut trick = Trick::default();
        while let Some(key) = map.next_key::<Spanned<String>>()? {
            match key.get_ref().as_str() {
                "at" => trick.at = Some(map.next_value()?),
                "lasts" => trick.lasts = Some(map.next_value()?),
                "every" => trick.every = Some(map.next_value()?),
                _ => drop(trick.written.insert(key, map.next_value()?)),
            }
        }
        if trick.at.is_none() {
            return Err(A::Error::missing_field("at"));
        }
        Ok(trick)
    }
}

impl Trick {
    /// The cheats written, each with how far.
    pub(super) fn cheats(&self) -> Result<Vec<Cheat>> {
        let mut cheats = Vec::new();
        for (key, written) in &self.written {
            let found = key.get_ref();
            let spec = CHEATS.iter().find(|spec| spec.key == found).ok_or_else(|| {
                let known: Vec<&str> = CHEATS.iter().map(|spec| spec.key).chain(["at", "lasts", "every"]).collect();
                let message = format!("expected one of the keys {}; found `{found}`", known.join(", "));
                (key.span(), message, nearest(found, known.into_iter()))
            })?;
            match plain(spec.takes, written)? {
                KnobValue::Number(x) => cheats.push(Cheat { spec, amount: x as f32 }),
                KnobValue::Switch(true) => cheats.push(Cheat { spec, amount: 1.0 }),
                KnobValue::Switch(false) | KnobValue::Auto | KnobValue::Choice(_) => {}
            }
        }
        Ok(cheats)
    }
}

/// How a value is written, for editors.
pub(super) fn written_as(takes: Takes, generator: &mut SchemaGenerator) -> Schema {
    match measure_of(takes).filter(|_| takes != Takes::TimeOrAuto) {
        Some(measure) => (measure.schema)(generator),
        None => {
            let plain = match takes {
                Takes::Whole => "integer",
                Takes::Switch => "boolean",
                _ => "string",
            };
            json_schema!({ "type": plain })
        }
    }
}

/// The words of a choice, for editors, each with what it does.
fn words(choices: &[Choice]) -> Schema {
    let word = |choice: &Choice| json_schema!({ "const": choice.name, "description": format!("{}.", choice.does) });
    json_schema!({ "oneOf": choices.iter().map(word).collect::<Vec<_>>() })
}

pub(super) fn described(mut schema: Schema, says: String) -> serde_json::Value {
    schema.insert("description".to_owned(), says.into());
    schema.to_value()
}

/// What may be written, for editors.
fn schema(generator: &mut SchemaGenerator, of_link: bool, says: &str) -> Schema {
    let mut properties = serde_json::Map::new();
    for spec in rows(of_link) {
        let says = format!("{}: {}.", spec.name, spec.help);
        let schema = match spec.range {
            Steps::Choice(choices) => words(choices),
            _ => written_as(spec.takes, generator),
        };
        properties.insert(spec.key.to_owned(), described(schema, says));
    }
    json_schema!({
        "type": "object",
        "description": says,
        "properties": properties,
        "additionalProperties": false,
    })
}

impl JsonSchema for Trick {
    fn schema_name() -> Cow<'static, str> {
        "Trick".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let mut properties = serde_json::Map::new();
        for spec in &CHEATS {
            let says = format!("{}.", spec.help);
            properties.insert(spec.key.to_owned(), described(written_as(spec.takes, generator), says));
        }
        for (key, says) in [("at", "From when."), ("lasts", "For how long."), ("every", "Again after so long.")] {
            properties.insert(key.to_owned(), described(written_as(Takes::Time, generator), says.to_owned()));
        }
        json_schema!({
            "type": "object",
            "description": "A way to cheat and when.",
            "properties": properties,
            "required": ["at"],
            "additionalProperties": false,
        })
    }
}

impl JsonSchema for Settings {
    fn schema_name() -> Cow<'static, str> {
        "Settings".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        schema(generator, false, "Netcode settings.")
    }
}

impl JsonSchema for LinkChange {
    fn schema_name() -> Cow<'static, str> {
        "LinkChange".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let mut change = Link::json_schema(generator);
        if let Some(properties) = change.get_mut("properties").and_then(|p| p.as_object_mut()) {
            properties.remove(TRACE);
            let who = json_schema!({ "type": "string", "description": "A member of the cast." });
            properties.insert("who".to_owned(), who.to_value());
        }
        change.insert("required".to_owned(), serde_json::json!(["who"]));
        change
    }
}

impl JsonSchema for Link {
    fn schema_name() -> Cow<'static, str> {
        "Link".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let mut both = schema(generator, true, "Both directions, and what differs on the way down.");
        if let Some(properties) = both.get_mut("properties").and_then(|p| p.as_object_mut()) {
            let names: Vec<&str> = PROFILES.iter().map(|profile| profile.name).collect();
            let profile =
                json_schema!({ "enum": names, "description": "The kind of link that all else here is over." });
            properties.insert(PROFILE.to_owned(), profile.to_value());
            let trace = json_schema!({ "type": "string", "description": "A recorded trace (CSV) of delays and losses, to be followed." });
            properties.insert(TRACE.to_owned(), trace.to_value());
            let down = generator.subschema_for::<Self>();
            properties.insert(DOWN.to_owned(), down.to_value());
        }
        both
    }
}
