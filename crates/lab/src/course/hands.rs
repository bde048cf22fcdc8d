//! What the hands of a member do, as its course says.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use toml::Spanned;
use velocitas_core::{InputField, InputKind, Motion, Vec3, vec3};
use velocitas_record::controls::Acts;
use velocitas_record::time::LabTime;

use super::resolve::{Resolver, Result, time};
use super::{Course, file, pair, script};
use crate::hands::{Script, Stroke, Strokes, Waypoint};
use crate::track::Track;

/// The shortest that something is done for.
const LEAST: LabTime = LabTime(1_000_000);

/// What is done to inputs by name, as it is written.
struct Said<'f> {
    press: &'f [Spanned<String>],
    hold: &'f [Spanned<String>],
    axis: &'f BTreeMap<String, Spanned<f64>>,
    order: &'f Option<Spanned<pair::PositionValue>>,
}

impl Resolver<'_> {
    pub(super) fn script(&self, course: &Course, kind: u8, cast: &file::Cast) -> Result<Script> {
        let said = [
            (cast.track.is_some(), cast.track.as_ref().map(Spanned::span)),
            (!cast.script.is_empty(), cast.script.first().map(Spanned::span)),
            (!cast.route.is_empty(), cast.route.first().map(|place| place.at.span())),
        ];
        if said.iter().filter(|(is, _)| *is).count() > 1 {
            let span = said.into_iter().find_map(|(_, span)| span).unwrap_or_default();
            return Err(self.wrong(span, "expected one of a route, a script and a track; found more"));
        }
        let route = cast.route.iter().map(|place| self.place_on_route(course, place)).collect::<Result<_>>()?;
        let all = cast.script.iter().map(|stroke| self.stroke(course, stroke)).collect::<Result<_>>()?;
        let random = cast.random.as_ref().map(|often| match often.get_ref().value {
            a_minute if a_minute > 0.0 => Ok(a_minute / 60.0),
            _ => Err(self.wrong(often.span(), "expected something to be done at random now and then; found never")),
        });
        let strokes = match &cast.track {
            Some(track) => self.track(course, kind, track)?,
            None => Strokes { all, again: true },
        };
        let track = cast.track.as_ref().map(|track| track.get_ref().clone());
        Ok(Script { route, strokes: Arc::new(strokes), track, random: random.transpose()?, exercise: cast.exercise })
    }

    fn track(&self, course: &Course, kind: u8, path: &Spanned<String>) -> Result<Strokes> {
        let name = path.get_ref();
        let wrong = |why: String| self.wrong(path.span(), format!("expected the track `{name}`: {why}"));
        let text = (self.read)(name).map_err(wrong)?;
        let track = Track::parse(&text).and_then(|track| track.strokes(course.kinds.motion(kind)));
        track.map_err(|e| wrong(e.to_string()))
    }

    fn place_on_route(&self, course: &Course, place: &script::Waypoint) -> Result<Waypoint> {
        let script::Waypoint { press, hold, axis, order, .. } = place;
        Ok(Waypoint {
            at: self.inside(course, &place.at)?,
            height: place.height.map(|height| course.world.bounds.floor + height.value as f32),
            pace: place.pace.as_ref().map(|pace| self.within(pace, 0.0)).transpose()?,
            wait: place.wait.map_or(LabTime::ZERO, time),
            acts: self.acts(course, &Said { press, hold, axis, order })?,
        })
    }

    fn stroke(&self, course: &Course, spanned: &Spanned<script::Stroke>) -> Result<Stroke> {
        let stroke = spanned.get_ref();
        let script::Stroke { press, hold, axis, order, .. } = stroke;
        let lasts = time(stroke.lasts);
        if lasts < LEAST {
            return Err(self.wrong(spanned.span(), "expected `lasts` to be at least 1 ms"));
        }
        let stick = match &stroke.stick {
            Some(stick) if stick.get_ref().0.iter().any(|x| !(-1.0..=1.0).contains(x)) => {
                return Err(self.wrong(stick.span(), "expected two numbers from -1 to 1: to the right, and ahead"));
            }
            stick => stick.as_ref().map_or((0.0, 0.0), |stick| stick.get_ref().0.into()),
        };
        Ok(Stroke {
            lasts,
            stick,
            facing: stroke.facing.map(|q| q.value as f32),
            pitch: stroke.pitch.map(|q| q.value as f32),
            acts: self.acts(course, &Said { press, hold, axis, order })?,
            given: Vec::new(),
        })
    }

    /// A number from `least` to 1.
    fn within(&self, number: &Spanned<f64>, least: f64) -> Result<f32> {
        let x = *number.get_ref();
        if (least..=1.0).contains(&x) {
            return Ok(x as f32);
        }
        Err(self.wrong(number.span(), format!("expected a number from {least} to 1; found {x}")))
    }

    fn acts(&self, course: &Course, said: &Said<'_>) -> Result<Acts> {
        let names = |all: &[Spanned<String>]| all.iter().map(|name| name.get_ref().clone()).collect();
        let axes = said.axis.iter().map(|(name, x)| Ok((name.clone(), self.within(x, -1.0)?)));
        let order = said.order.as_ref().map(|order| self.order(course, order)).transpose()?;
        Ok(Acts { press: names(said.press), hold: names(said.hold), axes: axes.collect::<Result<_>>()?, order })
    }

    fn order(&self, course: &Course, order: &Spanned<pair::PositionValue>) -> Result<Vec3> {
        let pair::PositionValue(at, up) = *order.get_ref();
        let (x, y) = self.inside(course, &Spanned::new(order.span(), pair::Pair(at)))?;
        Ok(vec3(x, y, up))
    }
}

/// Inputs that a member's script names and its rule has not, or of another kind: each with its place and what was expected. That
/// is no mistake, since the rule may be about to get them.
pub(super) fn unknown_inputs(cast: &file::Cast, rule: &dyn Motion) -> Vec<(Range<usize>, String)> {
    let strokes = cast.script.iter().map(Spanned::get_ref);
    let acts = cast
        .route
        .iter()
        .map(|place| (&place.press, &place.hold, &place.axis))
        .chain(strokes.map(|stroke| (&stroke.press, &stroke.hold, &stroke.axis)));
    let mut found = Vec::new();
    for (press, hold, axis) in acts {
        let axes = axis.iter().map(|(name, x)| (x.span(), name.as_str(), InputKind::Axis { bits: 2 }));
        let press = press.iter().map(|name| (name.span(), name.get_ref().as_str(), InputKind::Press));
        let hold = hold.iter().map(|name| (name.span(), name.get_ref().as_str(), InputKind::Held));
        let all = press.chain(hold).chain(axes);
        found.extend(all.filter_map(|(span, name, wanted)| Some((span, unknown(rule, name, wanted)?))));
    }
    found
}

/// Why a rule cannot be given an input of this name and kind, if it cannot.
fn unknown(rule: &dyn Motion, name: &str, wanted: InputKind) -> Option<String> {
    let inputs = &rule.schema().input;
    let alike = |f: &&InputField| std::mem::discriminant(&f.kind) == std::mem::discriminant(&wanted);
    let known: Vec<String> = inputs.iter().filter(alike).map(|f| format!("`{}`", f.name)).collect();
    if inputs.iter().filter(alike).any(|f| f.name == name) {
        return None;
    }
    let is = match inputs.iter().find(|f| f.name == name) {
        Some(other) => format!("`{name}` of `{}` is of kind {}, not {}", rule.name(), other.kind.name(), wanted.name()),
        None => format!("`{}` has no input `{name}`", rule.name()),
    };
    let has = if known.is_empty() {
        format!("none of kind {}", wanted.name())
    } else {
        format!("{} of kind {}", known.join(", "), wanted.name())
    };
    Some(format!("{is}, so this does nothing: it has {has}"))
}
