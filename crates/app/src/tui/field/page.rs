//! The field on a page: the ground as areas, paths, echoes with their names; a plot for each screen.

use velocitas_core::{Vec3, vec3};
use velocitas_lab::moment::Trail;
use velocitas_lab::{ActorId, KnownTo, Material};
use velocitas_report::about;
use velocitas_report::drawing::{Axis, Drawing, Mark, Plot, Shape, Tone};

use super::camera::Side;
use super::ground;
use super::look::Look;
use crate::tui::stage::Stage;

/// Several screens of one moment.
pub(super) fn drawing(stage: &Stage, from: Side, looks: &[Look<'_>], near: Vec3) -> Drawing {
    Drawing {
        title: format!("{}: {} {}", stage.run.course().name, stage.subject_name(), from.name()),
        facts: about(&stage.run, stage.entity, (stage.at, stage.at)),
        plots: looks.iter().map(|look| plot(look, near)).collect(),
    }
}

fn plot(look: &Look<'_>, near: Vec3) -> Plot {
    let (across, up) = look.view.extent();
    let names = match look.view.from {
        Side::Above => ("east", "north"),
        Side::South => ("east", "height"),
        Side::East => ("north", "height"),
    };
    let mut marks = areas(look, near);
    marks.extend(trails(look));
    marks.extend(echoes(look));
    Plot {
        name: format!("on {}'s screen", look.stage.name(look.viewer)),
        across: Axis::linear(names.0, "m", wide(across)),
        up: Axis::linear(names.1, "m", wide(up)),
        marks,
        legend: vec![
            (Tone::Owner, "predicted by its owner".to_owned()),
            (Tone::Authority, "the server's".to_owned()),
            (Tone::Viewer, "drawn".to_owned()),
        ],
        weight: 4,
        even: true,
    }
}

fn wide((from, to): (f32, f32)) -> (f64, f64) {
    (f64::from(from), f64::from(to))
}

fn areas(look: &Look<'_>, near: Vec3) -> Vec<Mark> {
    let (stage, from) = (look.stage, look.view.from);
    let world = &stage.run.course().world;
    let rectangle = |(left, bottom): (f32, f32), (right, top): (f32, f32)| {
        [(left, bottom), (right, bottom), (right, top), (left, top)].map(|(x, y)| (f64::from(x), f64::from(y))).to_vec()
    };
    let mut marks = Vec::new();
    for zone in world.zones.iter().filter(|_| from == Side::Above) {
        let tone = match zone.material {
            Material::Water => Tone::Water,
            Material::Ice => Tone::Ice,
            Material::Planks => Tone::Planks,
        };
        let corners = rectangle(zone.zone.min, zone.zone.max);
        marks.push(Mark::Area { series: zone.name.clone(), corners, tone });
    }
    let known = stage.moment().solids(stage.machine(look.viewer));
    for (named, known_to) in world.solids.iter().zip(known).filter(|(_, known)| *known != KnownTo::Nobody) {
        let solid = &named.solid;
        let tone = if known_to == KnownTo::All { Tone::Wall } else { Tone::OneSided };
        let (sin, cos) = (solid.yaw.sin(), solid.yaw.cos());
        let turned: Vec<Vec3> = [(-1.0, -1.0), (1.0, -1.0), (1.0, 1.0), (-1.0, 1.0)]
            .into_iter()
            .map(|(a, b)| {
                let (a, b) = (a * solid.half_x, b * solid.half_y);
                vec3(solid.x + a * cos - b * sin, solid.y + a * sin + b * cos, 0.0)
            })
            .collect();
        let corners = if from == Side::Above {
            turned.iter().map(|v| (f64::from(v.x), f64::from(v.y))).collect()
        } else if ground::is_near(from, solid, near) {
            let seen = turned.iter().map(|v| from.flat(*v).0);
            let (left, right) = (seen.clone().fold(f32::MAX, f32::min), seen.fold(f32::MIN, f32::max));
            rectangle((left, solid.low), (right, solid.high))
        } else {
            continue;
        };
        marks.push(Mark::Area { series: named.name.clone(), corners, tone });
    }
    if from != Side::Above {
        let floor = f64::from(world.bounds.floor);
        marks.push(Mark::Rule { series: "floor".to_owned(), at: floor, level: true, tone: Tone::Muted });
    }
    marks
}

fn trails(look: &Look<'_>) -> Vec<Mark> {
    let Some(subject) = look.stage.subject() else { return Vec::new() };
    let name = &look.stage.run.record().cast.actors[subject.index()].name;
    let path = |what: &str, trail: Trail, tone, dashed| {
        let points = trail.into_iter().map(|at| seen(look, at)).collect();
        Mark::Path { series: format!("{name}, {what}"), points, tone, dashed }
    };
    let (predicted, authority, drawn) = look.trails_of(subject);
    vec![
        path("drawn", drawn, Tone::Viewer, true),
        path("the server's", authority, Tone::Authority, true),
        path("predicted", predicted, Tone::Owner, false),
    ]
}

/// A place as it is seen, in metres.
fn seen(look: &Look<'_>, at: Vec3) -> (f64, f64) {
    let (x, y) = look.view.from.flat(at);
    (f64::from(x), f64::from(y))
}

fn echoes(look: &Look<'_>) -> Vec<Mark> {
    let mut marks = Vec::new();
    let mut all: Vec<ActorId> = look.stage.run.record().cast.actors().collect();
    // The selected one last: it lies on top.
    all.sort_by_key(|actor| look.stage.subject() == Some(*actor));
    for actor in all {
        let e = look.echoes(actor);
        let name = &look.stage.run.record().cast.actors[actor.index()].name;
        let kinds = [
            (e.drawn, Shape::Ring, Tone::Viewer, "drawn"),
            (e.authority, Shape::Diamond, Tone::Authority, "the server's"),
            (e.predicted, Shape::Dot, Tone::Owner, "predicted"),
        ];
        let there: Vec<_> = kinds.into_iter().filter_map(|(echo, s, t, w)| Some((echo?, s, t, w))).collect();
        let last = there.len().saturating_sub(1);
        for (i, (echo, shape, tone, what)) in there.into_iter().enumerate() {
            let label = if i == last { name.clone() } else { String::new() };
            let series = format!("{name}, {what}");
            marks.push(Mark::Point { series, at: seen(look, echo.pos), shape, tone, label });
        }
    }
    marks
}
