//! What hands did, kept to be done again: inputs over seconds, as JSON. Documented in `docs/gait.md`.
//!
//! A track counts seconds, not ticks, so that one serves every tick rate.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use thiserror::Error;
use velocitas_core::{Input, InputKind, Motion, Rate, Schema};
use velocitas_gait::printable;
use velocitas_record::time::LabTime;

use crate::hands::{Given, Stroke, Strokes};

/// The format this program reads and writes.
const FORMAT: u32 = 2;
/// The longest track.
pub const LONGEST: LabTime = LabTime(3_600_000_000_000);
const NANOS: f64 = 1e9;

/// A number of seconds with one input.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Span {
    /// How many.
    pub seconds: f64,
    /// Values by field; what is left out is at rest. A press is given once, at its beginning.
    #[serde(flatten)]
    pub fields: BTreeMap<String, Value>,
}

/// Inputs by span, and what `vet` is to run them on.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Track {
    /// Of this file.
    pub format: u32,
    /// The rule they are for.
    pub gait: String,
    /// Ticks a second at which `vet` runs it.
    #[serde(default = "usual_rate")]
    pub tick_rate: u32,
    /// One of the test grounds.
    #[serde(default = "usual_ground")]
    pub ground: String,
    /// Where it begins there, in metres.
    #[serde(default)]
    pub from: [f32; 3],
    /// What it shows, for people.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub about: String,
    /// The inputs.
    pub inputs: Vec<Span>,
}

const fn usual_rate() -> u32 {
    60
}

fn usual_ground() -> String {
    "flat".to_owned()
}

/// Why a track cannot be run.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum TrackError {
    /// Not JSON of this shape.
    #[error("line {line}, column {column}: {message}")]
    Shape {
        /// From 1.
        line: usize,
        /// From 1.
        column: usize,
        /// What the reader says.
        message: String,
    },
    /// Something in it does not fit.
    #[error("expected {expected}; found {found}")]
    Misfit {
        /// What should be there.
        expected: String,
        /// What is there.
        found: String,
    },
}

/// That a track does not fit: what was expected, and what was found in its place.
///
/// # Errors
/// Always.
pub fn misfit<T>(expected: impl Into<String>, found: impl Into<String>) -> Result<T, TrackError> {
    Err(TrackError::Misfit { expected: printable(&expected.into()), found: shortened(&found.into()) })
}

/// The beginning of what was found: enough to find it again.
fn shortened(found: &str) -> String {
    const MOST: usize = 160;
    let cut: String = found.chars().take(MOST).collect();
    printable(&if cut.len() < found.len() { cut + "\u{2026}" } else { cut })
}

impl Span {
    fn lasts(&self) -> LabTime {
        LabTime((self.seconds * NANOS).round() as u64)
    }
}

impl Track {
    /// From text.
    ///
    /// # Errors
    /// What is wrong with it and where.
    pub fn parse(text: &str) -> Result<Self, TrackError> {
        let shape = |e: &serde_json::Error| TrackError::Shape {
            line: e.line(),
            column: e.column(),
            message: shortened(&e.to_string()),
        };
        // What another format says otherwise is no mistake of this one.
        let any: Value = serde_json::from_str(text).map_err(|e| shape(&e))?;
        if let Some(format) = any["format"].as_u64().filter(|format| *format != u64::from(FORMAT)) {
            let what = if format == 1 { "format 1, which counts ticks" } else { &format!("format {format}") };
            return misfit(format!("format {FORMAT}, which counts `seconds`"), what);
        }
        let track: Self = serde_json::from_str(text).map_err(|e| shape(&e))?;
        let (mut whole, longest) = (0.0, LONGEST.secs());
        for span in &track.inputs {
            if !span.seconds.is_finite() || span.seconds <= 0.0 {
                return misfit("spans of more than 0 seconds", span.seconds.to_string());
            }
            whole += span.seconds;
        }
        if whole > longest {
            return misfit(format!("at most {longest} seconds"), whole.to_string());
        }
        Ok(track)
    }

    /// As text, a span a line.
    pub fn to_text(&self) -> String {
        let spans: Vec<String> =
            self.inputs.iter().map(|s| format!("    {}", serde_json::to_string(s).unwrap_or_default())).collect();
        let head = [
            ("format", json!(self.format)),
            ("gait", json!(self.gait)),
            ("tick_rate", json!(self.tick_rate)),
            ("ground", json!(self.ground)),
            ("from", json!(self.from)),
            ("about", json!(self.about)),
        ];
        let head: Vec<String> = head.iter().map(|(k, v)| format!("  \"{k}\": {v},\n")).collect();
        format!("{{\n{}  \"inputs\": [\n{}\n  ]\n}}\n", head.concat(), spans.join(",\n"))
    }

    /// A track of inputs tick by tick, those alike put together.
    pub fn of_ticks(rule: &dyn Motion, rate: Rate, inputs: &[Input]) -> Self {
        let mut changes: Vec<(LabTime, Input)> = Vec::new();
        for (tick, input) in inputs.iter().enumerate() {
            let pressed = rule.schema().held_on(input) != *input;
            if pressed || changes.last().is_none_or(|(_, before)| before != input) {
                changes.push((LabTime(rate.due(tick as u64) as u64), *input));
            }
        }
        let end = LabTime(rate.due(inputs.len() as u64) as u64);
        let fields = changes.into_iter().map(|(at, input)| (at, fields(rule.schema(), &input)));
        Self::of_changes(rule, rate, &fields.collect::<Vec<_>>(), end)
    }

    /// A track of changes, each with when it was made, up to an end.
    fn of_changes(rule: &dyn Motion, rate: Rate, changes: &[(LabTime, BTreeMap<String, Value>)], end: LabTime) -> Self {
        let ends = changes.iter().skip(1).map(|(at, _)| *at).chain([end]);
        let spans = changes.iter().zip(ends).filter(|((at, _), end)| end > at);
        let seconds = |from: LabTime, to: LabTime| to.minus(from).0 as f64 / NANOS;
        Self {
            format: FORMAT,
            gait: rule.name().to_owned(),
            tick_rate: rate.hz(),
            ground: usual_ground(),
            from: [0.0; 3],
            about: String::new(),
            inputs: spans
                .map(|((at, fields), end)| Span { seconds: seconds(*at, end), fields: fields.clone() })
                .collect(),
        }
    }

    /// How long it is.
    pub fn lasts(&self) -> LabTime {
        self.inputs.iter().fold(LabTime::ZERO, |whole, span| whole.plus(span.lasts()))
    }

    /// Whether it is for a rule.
    ///
    /// # Errors
    /// When it is for another.
    pub fn fits(&self, rule: &dyn Motion) -> Result<(), TrackError> {
        if self.gait == rule.name() {
            return Ok(());
        }
        misfit(format!("a track for `{}`", rule.name()), format!("one for `{}`", self.gait))
    }

    /// The inputs tick by tick, for a rule. A span covers the ticks nearest to its ends; a press that falls between two ticks is
    /// given in the next one.
    ///
    /// # Errors
    /// When a field is none of the rule's, or its value does not fit.
    pub fn inputs(&self, schema: &Schema, rate: Rate) -> Result<Vec<Input>, TrackError> {
        let (mut out, mut at, mut waiting) = (Vec::new(), LabTime::ZERO, Input::default());
        for span in &self.inputs {
            let input = read(schema, &span.fields)?;
            let held = schema.held_on(&input);
            for f in schema.input.iter().filter(|f| f.kind == InputKind::Press) {
                waiting.set_int(f.lane, waiting.int(f.lane) + input.int(f.lane));
            }
            at = at.plus(span.lasts());
            let until = (at.0 as f64 / NANOS * f64::from(rate.hz())).round() as usize;
            while out.len() < until {
                let mut input = held;
                for f in schema.input.iter().filter(|f| f.kind == InputKind::Press) {
                    input.set_int(f.lane, waiting.int(f.lane));
                }
                out.push(input);
                waiting = Input::default();
            }
        }
        Ok(out)
    }

    /// What hands do that play it, once.
    ///
    /// # Errors
    /// When it is for another rule, or its inputs do not fit.
    pub fn strokes(&self, rule: &dyn Motion) -> Result<Strokes, TrackError> {
        self.fits(rule)?;
        let schema = rule.schema();
        let stroke = |span: &Span| {
            let input = read(schema, &span.fields)?;
            let given = schema.input.iter().map(|f| Given {
                name: f.name,
                kind: f.kind,
                lanes: (f.lane..f.lane + f.kind.lanes()).map(|lane| input.int(lane)).collect(),
            });
            Ok(Stroke { lasts: span.lasts(), given: given.collect(), ..Stroke::default() })
        };
        Ok(Strokes { all: self.inputs.iter().map(stroke).collect::<Result<_, _>>()?, again: false })
    }
}

/// What hands do, kept as it is done.
#[derive(Clone, Debug)]
pub struct Recorder {
    begun: LabTime,
    /// What was changed, and when since then.
    changes: Vec<(LabTime, BTreeMap<String, Value>)>,
}

impl Recorder {
    /// Begins with what hands do now.
    pub fn begin(now: LabTime, schema: &Schema, input: &Input) -> Self {
        Self { begun: now, changes: vec![(LabTime::ZERO, fields(schema, &schema.held_on(input)))] }
    }

    /// From when it counts.
    pub const fn begun(&self) -> LabTime {
        self.begun
    }

    /// Takes in what hands do from now on.
    pub fn note(&mut self, now: LabTime, schema: &Schema, input: &Input) {
        let (at, mut fields) = (now.minus(self.begun), fields(schema, input));
        if let Some((_, before)) = self.changes.pop_if(|(then, _)| *then == at) {
            // Of presses at one moment none is lost.
            for f in schema.input.iter().filter(|f| f.kind == InputKind::Press) {
                let count = |of: &BTreeMap<String, Value>| of.get(f.name).and_then(Value::as_u64).unwrap_or(0);
                let both = count(&before) + count(&fields);
                if both > 0 {
                    fields.insert(f.name.to_owned(), json!(both));
                }
            }
        }
        self.changes.push((at, fields));
    }

    /// Forgets what came after a moment: time was turned back.
    pub fn forget_after(&mut self, now: LabTime) {
        let at = now.minus(self.begun);
        self.changes.retain(|(then, _)| *then <= at);
    }

    /// What was kept up to a moment.
    pub fn track(&self, rule: &dyn Motion, rate: Rate, now: LabTime) -> Track {
        Track::of_changes(rule, rate, &self.changes, now.minus(self.begun))
    }
}

fn fields(schema: &Schema, input: &Input) -> BTreeMap<String, Value> {
    let mut out = BTreeMap::new();
    for f in &schema.input {
        let value = match f.kind {
            InputKind::Held if input.flag(f.lane) => json!(true),
            InputKind::Press if input.int(f.lane) > 0 => json!(input.int(f.lane)),
            InputKind::Held | InputKind::Press => continue,
            InputKind::Point { .. } if !input.flag(f.given_lane()) => continue,
            _ if f.kind.lanes() == 1 => json!(input.real(f.lane)),
            _ => json!((0..f.kind.real_lanes()).map(|i| input.real(f.lane + i)).collect::<Vec<_>>()),
        };
        out.insert(f.name.to_owned(), value);
    }
    out
}

fn read(schema: &Schema, fields: &BTreeMap<String, Value>) -> Result<Input, TrackError> {
    let mut input = Input::default();
    for (name, value) in fields {
        let Some(f) = schema.input.iter().find(|f| f.name == name) else {
            let names: Vec<&str> = schema.input.iter().map(|f| f.name).collect();
            return misfit(format!("an input ({})", names.join(", ")), format!("`{name}`"));
        };
        let number = |v: &Value| v.as_f64().map(|x| x as f32).filter(|x| x.is_finite());
        let lanes = if f.kind.real_lanes() > 0 { f.kind.real_lanes() } else { f.kind.lanes() };
        match (f.kind, value) {
            (InputKind::Held, Value::Bool(down)) => input.set_flag(f.lane, *down),
            (InputKind::Press, Value::Bool(down)) => input.set_int(f.lane, u32::from(*down)),
            (InputKind::Press, v) if v.as_u64().is_some_and(|n| n < 16) => {
                input.set_int(f.lane, v.as_u64().unwrap_or(0) as u32);
            }
            (InputKind::Held | InputKind::Press, v) => {
                return misfit(format!("`{name}` to be true or false"), v.to_string());
            }
            (_, v) if lanes == 1 => match number(v) {
                Some(x) => input.set_real(f.lane, x),
                None => return misfit(format!("`{name}` to be a number"), v.to_string()),
            },
            (_, v) => {
                let all: Option<Vec<f32>> = v.as_array().and_then(|a| a.iter().map(number).collect());
                match all.filter(|a| a.len() == lanes) {
                    Some(all) => {
                        all.iter().enumerate().for_each(|(i, x)| input.set_real(f.lane + i, *x));
                        if matches!(f.kind, InputKind::Point { .. }) {
                            input.set_flag(f.given_lane(), true);
                        }
                    }
                    None => return misfit(format!("`{name}` to be {lanes} numbers"), v.to_string()),
                }
            }
        }
    }
    Ok(input)
}
