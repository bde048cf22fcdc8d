//! What a sound course probably does not mean: events without effect, things outside the world, places nobody can reach,
//! settings that hide each other. Each is told with its place and changes nothing.

use std::ops::Range;

use toml::Spanned;
use velocitas_analysis::fault::Fault;
use velocitas_core::{Body, Bounds, Ground, Solid, vec3};
use velocitas_record::quantity::{Dimension, Quantity};

use super::error::CourseError;
use super::file::File;
use super::hands::unknown_inputs;
use super::settings::Link;
use super::{Course, KnownTo, script};

/// How thin a body is taken for when it is asked whether a place lies in a wall: whoever comes near a place has reached
/// it.
const THIN: f32 = 0.05;

/// Everything suspicious, in the order of the file's sections.
pub(super) fn suspicions(name: &str, text: &str, file: &File, course: &Course) -> Vec<CourseError> {
    let mut s = Suspicions { name, text, found: Vec::new() };
    let bounds = &course.world.bounds;
    for (written, solid) in file.solid.iter().zip(&course.world.solids) {
        if is_outside(extent(&solid.solid), bounds) {
            s.say(written.at.span(), format!("`{}` lies outside the world: nobody can meet it", solid.name));
        }
    }
    for (written, zone) in file.zone.iter().zip(&course.world.zones) {
        let z = &zone.zone;
        if is_outside([z.min.0, z.min.1, z.max.0, z.max.1], bounds) {
            s.say(written.min.span(), format!("`{}` lies outside the world: nobody can step on it", zone.name));
        }
    }
    s.physics(file, course);
    s.links(file);
    for (name, link) in &file.link {
        s.traces(name, link, course);
    }
    s.tunes(file);
    // What one side alone knows may be in the way on purpose.
    let ground = course.ground(KnownTo::All);
    for (written, member) in file.cast.iter().zip(&course.cast) {
        let step = course.kinds.motion(member.kind).body().step;
        for (span, message) in unknown_inputs(written, course.kinds.motion(member.kind)) {
            s.say(span, message);
        }
        s.faults(&written.faults, member);
        for place in &written.route {
            s.waypoint(&ground, place, member.spawn.z + step, course);
        }
    }
    for event in &file.event {
        s.event(event);
    }
    s.found
}

struct Suspicions<'a> {
    name: &'a str,
    text: &'a str,
    found: Vec<CourseError>,
}

/// West, south, east and north end of a turned box.
fn extent(s: &Solid) -> [f32; 4] {
    let (sin, cos) = (libm::fabsf(libm::sinf(s.yaw)), libm::fabsf(libm::cosf(s.yaw)));
    let (x, y) = (s.half_x * cos + s.half_y * sin, s.half_x * sin + s.half_y * cos);
    [s.x - x, s.y - y, s.x + x, s.y + y]
}

fn is_outside([west, south, east, north]: [f32; 4], b: &Bounds) -> bool {
    east <= b.min.0 || west >= b.max.0 || north <= b.min.1 || south >= b.max.1
}

fn is_nothing<D: Dimension>(q: Option<Quantity<D>>) -> bool {
    q.is_none_or(|q| q.value == 0.0)
}

impl Suspicions<'_> {
    fn say(&mut self, span: Range<usize>, message: impl Into<String>) {
        self.found.push(CourseError::at(self.name, self.text, span, message));
    }

    fn physics(&mut self, file: &File, course: &Course) {
        if let Some((written, physics)) = file.physics.as_ref().zip(course.physics).filter(|(_, p)| !p.is_in_step()) {
            let message = format!(
                "physics out of step with {} ticks a second: what moves evenly goes further in some ticks than in others",
                physics.rate.hz()
            );
            self.say(written.span(), message);
        }
    }

    /// Who says itself where it is holds nothing against snapshots.
    fn faults(&mut self, written: &[Spanned<String>], member: &super::Member) {
        for (written, fault) in written.iter().zip(&member.faults) {
            let reconciles = member.arrangement.owner() == velocitas_core::OwnerSide::Predict;
            if matches!(fault, Fault::Present | Fault::OneDistance) && !reconciles {
                let message = format!(
                    "`{}` has no effect: the arrangement of `{}` reconciles nothing",
                    fault.spec().key,
                    member.name
                );
                self.say(written.span(), message);
            }
        }
    }

    fn links(&mut self, file: &File) {
        for name in file.link.keys() {
            let used = file.cast.iter().any(|c| c.link.as_ref().is_some_and(|l| l.get_ref() == name));
            if !used {
                let at = self.text.find(&format!("[link.{name}]")).map_or(0..0, |i| i + 6..i + 6 + name.len());
                self.say(at, format!("nobody uses the link `{name}`"));
            }
        }
    }

    /// A trace that ends begins again: that is said.
    fn traces(&mut self, name: &str, link: &Link, course: &Course) {
        for written in link.traces() {
            if let Some(trace) = course.traces.iter().find(|trace| trace.name == *written.get_ref()) {
                let lasts = trace.lasts().secs();
                self.say(written.span(), format!("`{name}` follows this trace for {lasts} s, then it begins again"));
            }
        }
    }

    /// The later of two settings of one tunable counts; told where it hides the earlier one wholly.
    fn tunes(&mut self, file: &File) {
        let side = |t: &script::Tune| t.known_to.as_ref().map_or_else(|| "all".to_owned(), |w| w.get_ref().clone());
        for (i, later) in file.tune.iter().enumerate() {
            if later.set.is_empty() {
                self.say(later.rule.span(), "this sets nothing");
            }
            for (name, setting) in &later.set {
                let hides = |earlier: &&script::Tune| {
                    earlier.rule.get_ref() == later.rule.get_ref()
                        && earlier.set.contains_key(name)
                        && (side(later) == "all" || side(later) == side(earlier))
                };
                if file.tune[..i].iter().any(|earlier| hides(&earlier)) {
                    let message = format!("`{name}` is set a second time: the first setting has no effect");
                    self.say(setting.span(), message);
                }
            }
        }
    }

    fn waypoint(&mut self, ground: &Ground, place: &script::Waypoint, height: f32, course: &Course) {
        let [x, y] = place.at.get_ref().0;
        let body = Body { radius: THIN, height: THIN, step: 0.0 };
        let Some(id) = ground.overlap(&body, vec3(x, y, height)) else { return };
        let name = course.solid(id).map_or("the edge of the world", |s| s.name.as_str());
        self.say(place.at.span(), format!("this place lies in `{name}`, which everybody knows: nobody gets there"));
    }

    fn event(&mut self, event: &Spanned<script::Event>) {
        let e = event.get_ref();
        if e.push.as_ref().is_some_and(|p| is_nothing(p.east) && is_nothing(p.north) && is_nothing(p.up)) {
            self.say(event.span(), "a push of nothing: give it a speed, such as east = \"5 m/s\"");
        }
        if e.freeze.as_ref().is_some_and(|f| f.lasts.value == 0.0) {
            self.say(event.span(), "a freeze of no time: nothing stands still");
        }
    }
}
