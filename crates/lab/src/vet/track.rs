//! A sequence of inputs that can be kept, read and run again: JSON, documented in `docs/gait.md`.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use thiserror::Error;
use velocitas_core::{Input, InputKind, Motion, Rate, Schema, Vec3, vec3};
use velocitas_gait::printable;

use super::grounds::{GROUNDS, TestGround};
use super::{Trial, defaults};

/// The format this program reads and writes.
const FORMAT: u32 = 1;
/// The longest track: ten minutes at 1000 ticks a second.
const MOST_TICKS: u64 = 600_000;

/// So many ticks with one input.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Span {
    /// How many.
    pub ticks: u32,
    /// Values by field; what is left out is at rest. A press is given once, in the first of the ticks.
    #[serde(flatten)]
    pub fields: BTreeMap<String, Value>,
}

/// Inputs by span, with where and how fast they are to be run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Track {
    /// Of this file.
    pub format: u32,
    /// The rule they are for.
    pub gait: String,
    /// Ticks a second.
    pub tick_rate: u32,
    /// One of the test grounds.
    pub ground: String,
    /// Where it begins, in metres.
    #[serde(default)]
    pub from: [f32; 3],
    /// What it shows, for people.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub about: String,
    /// The inputs.
    pub inputs: Vec<Span>,
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

/// Where a track leads: the position and, where the rule has one, the velocity after every tick.
#[derive(Clone, Debug, PartialEq)]
pub struct Walked {
    /// Ticks a second.
    pub rate: Rate,
    /// Where it began.
    pub from: Vec3,
    /// By tick, from the beginning.
    pub path: Vec<(Vec3, Option<Vec3>)>,
    /// Steps that came out non-finite and were rejected.
    pub faults: u32,
}

fn misfit<T>(expected: impl Into<String>, found: impl Into<String>) -> Result<T, TrackError> {
    Err(TrackError::Misfit { expected: printable(&expected.into()), found: shortened(&found.into()) })
}

/// The beginning of what was found: enough to find it again.
fn shortened(found: &str) -> String {
    const MOST: usize = 160;
    let cut: String = found.chars().take(MOST).collect();
    printable(&if cut.len() < found.len() { cut + "\u{2026}" } else { cut })
}

impl Track {
    /// From text.
    ///
    /// # Errors
    /// What is wrong with it and where.
    pub fn parse(text: &str) -> Result<Self, TrackError> {
        let track: Self = serde_json::from_str(text).map_err(|e| TrackError::Shape {
            line: e.line(),
            column: e.column(),
            message: shortened(&e.to_string()),
        })?;
        if track.format != FORMAT {
            return misfit(format!("format {FORMAT}"), track.format.to_string());
        }
        let ticks: u64 = track.inputs.iter().map(|s| u64::from(s.ticks)).sum();
        if ticks > MOST_TICKS {
            return misfit(format!("at most {MOST_TICKS} ticks"), ticks.to_string());
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

    /// A track of inputs one by one, those alike put together.
    pub fn of(rule: &dyn Motion, rate: Rate, ground: &TestGround, about: String, inputs: &[Input]) -> Self {
        let mut spans: Vec<Span> = Vec::new();
        let mut before: Option<&Input> = None;
        let pressed = |i: &Input| rule.schema().held_on(i) != *i;
        for input in inputs {
            match spans.last_mut().filter(|_| before == Some(input) && !pressed(input)) {
                Some(span) => span.ticks += 1,
                None => spans.push(Span { ticks: 1, fields: fields(rule.schema(), input) }),
            }
            before = Some(input);
        }
        Self {
            format: FORMAT,
            gait: rule.name().to_owned(),
            tick_rate: rate.hz(),
            ground: ground.name.to_owned(),
            from: [0.0; 3],
            about,
            inputs: spans,
        }
    }

    /// The inputs tick by tick, for a rule.
    ///
    /// # Errors
    /// When a field is none of the rule's, or its value does not fit.
    pub fn inputs(&self, schema: &Schema) -> Result<Vec<Input>, TrackError> {
        let mut out = Vec::new();
        for span in &self.inputs {
            let input = read(schema, &span.fields)?;
            let held = schema.held_on(&input);
            out.extend((0..span.ticks).map(|i| if i == 0 { input } else { held }));
        }
        Ok(out)
    }

    /// Runs it with the rule's own tunables, from a standing start in the middle of its ground.
    ///
    /// # Errors
    /// When it is for another rule, or its rate, ground or inputs do not fit.
    pub fn walk(&self, rule: &dyn Motion) -> Result<Walked, TrackError> {
        if self.gait != rule.name() {
            return misfit(format!("a track for `{}`", rule.name()), format!("one for `{}`", self.gait));
        }
        let Some(rate) = Rate::new(self.tick_rate) else {
            return misfit("a tick rate from 1 to 1000", self.tick_rate.to_string());
        };
        let Some(ground) = TestGround::named(&self.ground) else {
            let names: Vec<&str> = GROUNDS.iter().map(|g| g.name).collect();
            return misfit(format!("a ground ({})", names.join(", ")), format!("`{}`", self.ground));
        };
        let [x, y, z] = self.from;
        let from = vec3(x, y, z);
        if !from.is_finite() || from.level().length() > 390.0 || !(0.0..=1000.0).contains(&z) {
            return misfit("a beginning within 390 m and 0 m to 1000 m high", format!("{:?}", self.from));
        }
        let (ground, tunables) = (ground.ground(), defaults(rule));
        let mut trial = Trial::new(rule, &ground, &tunables, rate, rule.spawn(from, 0.0));
        let velocity = rule.schema().velocity_lane();
        let mut path = Vec::new();
        for input in self.inputs(rule.schema())? {
            trial.step(&input);
            path.push((trial.state.vec3(0), velocity.map(|lane| trial.state.vec3(lane))));
        }
        Ok(Walked { rate, from, path, faults: trial.faults })
    }
}

impl Walked {
    /// The greatest displacement over so many ticks, as a speed: along the ground, up, down.
    pub fn fastest(&self, ticks: usize) -> (f32, f32, f32) {
        let begin = (self.from, None);
        let whole: Vec<Vec3> = std::iter::once(&begin).chain(&self.path).map(|(at, _)| *at).collect();
        let seconds = ticks as f32 * self.rate.dt();
        let ways = whole.windows(ticks + 1).map(|w| w[ticks] - w[0]);
        ways.fold((0.0, 0.0, 0.0), |(level, up, down), way| {
            use velocitas_core::max;
            (max(level, way.level().length() / seconds), max(up, way.z / seconds), max(down, -way.z / seconds))
        })
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

/// East, to begin with.
pub(super) fn ahead(schema: &Schema) -> Input {
    let mut input = Input::default();
    for f in &schema.input {
        match f.kind {
            InputKind::Stick { .. } => input.set_real(f.lane + 1, 1.0),
            InputKind::Held => input.set_flag(f.lane, true),
            InputKind::Point { .. } => f.give(&mut input, vec3(300.0, 0.0, 0.0)),
            _ => {}
        }
    }
    if let Some(throttle) = schema.input.iter().find(|f| matches!(f.kind, InputKind::Axis { .. })) {
        input.set_real(throttle.lane, 1.0);
    }
    // Without a bearing ahead is not east but north: the stick is already in the world.
    if !schema.input.iter().any(|f| matches!(f.kind, InputKind::Bearing { .. }))
        && let Some(stick) = schema.input.iter().find(|f| matches!(f.kind, InputKind::Stick { .. }))
    {
        input.set_real(stick.lane, 1.0);
        input.set_real(stick.lane + 1, 0.0);
    }
    input
}
