//! What the hands of a member do, as its course says.

use std::collections::BTreeMap;
use std::sync::Arc;

use toml::Spanned;
use velocitas_core::{InputField, InputKind, Vec3, vec3};

use super::Course;
use super::file;
use super::resolve::{Resolver, Result, time};
use crate::controls::Acts;
use crate::hands::{Script, Stroke, Strokes, Waypoint};
use crate::time::LabTime;

/// The shortest that something is done for.
const LEAST: LabTime = LabTime(1_000_000);

/// What is done to inputs by name, as it is written.
struct Said<'f> {
    press: &'f [Spanned<String>],
    hold: &'f [Spanned<String>],
    axis: &'f BTreeMap<String, Spanned<f64>>,
    order: &'f Option<Spanned<file::Place>>,
}

impl Resolver<'_> {
    pub(super) fn script(&self, course: &Course, kind: u8, cast: &file::Cast) -> Result<Script> {
        if let Some(script) = cast.script.first().filter(|_| !cast.route.is_empty()) {
            return Err(self.wrong(script.span(), "expected a route or a script; found both"));
        }
        let route = cast.route.iter().map(|place| self.place_on_route(course, kind, place)).collect::<Result<_>>()?;
        let all = cast.script.iter().map(|stroke| self.stroke(course, kind, stroke)).collect::<Result<_>>()?;
        let random = cast.random.as_ref().map(|often| match often.get_ref().value {
            a_minute if a_minute > 0.0 => Ok(a_minute / 60.0),
            _ => Err(self.wrong(often.span(), "expected something to be done at random now and then; found never")),
        });
        let strokes = Arc::new(Strokes { all, again: true });
        Ok(Script { route, strokes, random: random.transpose()?, exercise: cast.exercise })
    }

    fn place_on_route(&self, course: &Course, kind: u8, place: &file::Waypoint) -> Result<Waypoint> {
        let file::Waypoint { press, hold, axis, order, .. } = place;
        Ok(Waypoint {
            at: self.inside(course, &place.at)?,
            height: place.height.map(|height| course.world.bounds.floor + height.value as f32),
            pace: place.pace.as_ref().map(|pace| self.within(pace, 0.0)).transpose()?,
            wait: place.wait.map_or(LabTime::ZERO, time),
            acts: self.acts(course, kind, &Said { press, hold, axis, order })?,
        })
    }

    fn stroke(&self, course: &Course, kind: u8, spanned: &Spanned<file::Stroke>) -> Result<Stroke> {
        let stroke = spanned.get_ref();
        let file::Stroke { press, hold, axis, order, .. } = stroke;
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
            acts: self.acts(course, kind, &Said { press, hold, axis, order })?,
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

    fn acts(&self, course: &Course, kind: u8, said: &Said<'_>) -> Result<Acts> {
        let press = said.press.iter().map(|name| self.input(course, kind, name, InputKind::Press));
        let hold = said.hold.iter().map(|name| self.input(course, kind, name, InputKind::Held));
        let axes = said.axis.iter().map(|(name, x)| {
            let name = Spanned::new(x.span(), name.clone());
            Ok((self.input(course, kind, &name, InputKind::Axis { bits: 2 })?, self.within(x, -1.0)?))
        });
        let order = said.order.as_ref().map(|order| self.order(course, order)).transpose()?;
        Ok(Acts {
            press: press.collect::<Result<_>>()?,
            hold: hold.collect::<Result<_>>()?,
            axes: axes.collect::<Result<_>>()?,
            order,
        })
    }

    fn order(&self, course: &Course, order: &Spanned<file::Place>) -> Result<Vec3> {
        let file::Place(at, up) = *order.get_ref();
        let (x, y) = self.inside(course, &Spanned::new(order.span(), file::Pair(at)))?;
        Ok(vec3(x, y, up))
    }

    /// The input of that name and kind of the member's own rule.
    fn input(&self, course: &Course, kind: u8, name: &Spanned<String>, wanted: InputKind) -> Result<&'static str> {
        let alike = |f: &&InputField| std::mem::discriminant(&f.kind) == std::mem::discriminant(&wanted);
        let of = |kind: u8| course.kinds.motion(kind).schema().input.iter().filter(alike);
        if let Some(found) = of(kind).find(|f| f.name == name.get_ref()) {
            return Ok(found.name);
        }
        let rule = course.kinds.motion(kind);
        let what = wanted.name();
        let found = rule.schema().input.iter().find(|f| f.name == name.get_ref());
        let found = found.map_or_else(
            || format!("`{}`", name.get_ref()),
            |f| format!("`{}`, which is of kind {}", f.name, f.kind.name()),
        );
        let known: Vec<String> = of(kind).map(|f| format!("`{}`", f.name)).collect();
        let expected = match &known[..] {
            [] => format!("expected an input of kind {what}, of which `{}` has none", rule.name()),
            known => format!("expected an input of `{}` of kind {what} ({})", rule.name(), known.join(", ")),
        };
        Err(self.wrong(name.span(), format!("{expected}; found {found}")))
    }
}
