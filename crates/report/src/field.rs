//! The field on a page: the ground as areas, paths, echoes with their names; a plot for each viewer's screen.

use velocitas_analysis::moment::{Moment, Trail};
use velocitas_core::{Bounds, Solid, Vec3, vec3};
use velocitas_lab::Run;
use velocitas_record::{ActorId, KnownTo, LabTime, Material, MemberId};

use crate::about::about;
use crate::drawing::{Axis, Drawing, Mark, Plot, Shape, Tone};

/// Metres below the floor and above it that can be seen from the side.
const BELOW: f32 = 2.0;
const ABOVE: f32 = 40.0;

/// From the side so far before and behind what is followed solids are seen.
const DEEP: f32 = 8.0;
/// How far trails go back.
const TRAIL: LabTime = LabTime(1_600_000_000);

/// From where the world is looked at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Side {
    /// North is up.
    #[default]
    Above,
    /// From the south: east is right, and height up.
    South,
    /// From the east: north is right, and height up.
    East,
}

impl Side {
    /// The next one.
    pub const fn next(self) -> Self {
        match self {
            Self::Above => Self::South,
            Self::South => Self::East,
            Self::East => Self::Above,
        }
    }

    /// In words.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Above => "from above",
            Self::South => "from the south",
            Self::East => "from the east",
        }
    }

    /// A place as it is seen: across, and up, in metres.
    pub const fn flat(self, at: Vec3) -> (f32, f32) {
        match self {
            Self::Above => (at.x, at.y),
            Self::South => (at.x, at.z),
            Self::East => (at.y, at.z),
        }
    }

    /// How far away it is: greater lies behind.
    pub const fn depth(self, at: Vec3) -> f32 {
        match self {
            Self::Above => -at.z,
            Self::South => at.y,
            Self::East => -at.x,
        }
    }

    /// What there is to be seen, across and up: from where to where.
    pub const fn extent(self, bounds: Bounds) -> ((f32, f32), (f32, f32)) {
        let height = (bounds.floor - BELOW, bounds.floor + ABOVE);
        match self {
            Self::Above => ((bounds.min.0, bounds.max.0), (bounds.min.1, bounds.max.1)),
            Self::South => ((bounds.min.0, bounds.max.0), height),
            Self::East => ((bounds.min.1, bounds.max.1), height),
        }
    }

    /// Whether a solid is seen: from the side those are that lie not far before or behind what is followed.
    pub fn shows(self, solid: &Solid, near: Vec3) -> bool {
        let reach = solid.half_x.max(solid.half_y);
        self == Self::Above || (self.depth(vec3(solid.x, solid.y, 0.0)) - self.depth(near)).abs() <= DEEP + reach
    }
}

/// What is drawn.
#[derive(Clone, Copy, Debug)]
pub struct FieldPage<'a> {
    /// At which moment.
    pub at: LabTime,
    /// From where.
    pub side: Side,
    /// Whose settings are told.
    pub member: MemberId,
    /// What has trails, and is followed.
    pub subject: Option<ActorId>,
    /// On whose screens, a plot each.
    pub viewers: &'a [MemberId],
    /// Across and up, from where to where, in metres.
    pub extent: ((f32, f32), (f32, f32)),
}

/// Several screens of one moment.
pub fn field(run: &Run, page: &FieldPage<'_>) -> Drawing {
    let actors = &run.record().cast.actors;
    let name = page.subject.map_or(run.course()[page.member].name.as_str(), |actor| &actors[actor.index()].name);
    Drawing {
        title: format!("{}: {name} {}", run.course().name, page.side.name()),
        facts: about(run, page.member, (page.at, page.at)),
        plots: page.viewers.iter().map(|viewer| Sight { run, page, viewer: *viewer }.plot()).collect(),
    }
}

/// Where an entity was in the last while: as predicted, as the server had it, as the viewer drew it; the last only where that is not
/// its owner's own screen.
pub fn trails(run: &Run, at: LabTime, (owner, viewer): (MemberId, MemberId), actor: ActorId) -> (Trail, Trail, Trail) {
    let moment = run.moment(at);
    let every = u32::from(run.lab().knobs(owner).served.snapshot_every).max(4);
    let own = run.record().cast.body(run.course().machine(viewer), at);
    let is_others = own != Some(actor);
    let drawn = if is_others { moment.drawn_trail(actor, run.course().machine(viewer), TRAIL) } else { Trail::new() };
    (moment.predicted_trail(actor, TRAIL), moment.authority_trail(actor, TRAIL, every), drawn)
}

/// The ground as somebody's machine knows it at a page's moment, and what only one side knows.
pub(crate) fn ground_known_to(run: &Run, page: &FieldPage<'_>, viewer: MemberId) -> Vec<Mark> {
    Sight { run, page, viewer }.areas()
}

/// One screen.
struct Sight<'a> {
    run: &'a Run,
    page: &'a FieldPage<'a>,
    viewer: MemberId,
}

impl Sight<'_> {
    fn moment(&self) -> Moment<'_> {
        self.run.moment(self.page.at)
    }

    fn plot(&self) -> Plot {
        let (across, up) = self.page.extent;
        let names = match self.page.side {
            Side::Above => ("east", "north"),
            Side::South => ("east", "height"),
            Side::East => ("north", "height"),
        };
        let mut marks = self.areas();
        marks.extend(self.trails());
        marks.extend(self.echoes());
        Plot {
            name: format!("on {}'s screen", self.run.course()[self.viewer].name),
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

    /// Where what is followed is: what lies far before or behind it is not seen from the side.
    fn near(&self) -> Vec3 {
        let echoes = self.page.subject.map(|actor| self.moment().echoes(actor, self.run.course().machine(self.viewer)));
        let echo = echoes.and_then(|e| e.predicted.or(e.authority).or(e.drawn));
        echo.map_or(self.run.course()[self.page.member].spawn, |echo| echo.pos)
    }

    fn areas(&self) -> Vec<Mark> {
        let (side, world, near) = (self.page.side, &self.run.course().world, self.near());
        let mut marks = Vec::new();
        for zone in world.zones.iter().filter(|_| side == Side::Above) {
            let tone = match zone.material {
                Material::Water => Tone::Water,
                Material::Ice => Tone::Ice,
                Material::Planks => Tone::Planks,
            };
            marks.push(Mark::Area {
                series: zone.name.clone(),
                corners: rectangle(zone.zone.min, zone.zone.max),
                tone,
            });
        }
        let known = self.moment().solids(self.run.course().machine(self.viewer));
        let there = world.solids.iter().zip(known).filter(|(_, known)| *known != KnownTo::Nobody);
        for (named, known_to) in there.filter(|(named, _)| side.shows(&named.solid, near)) {
            let tone = if known_to == KnownTo::All { Tone::Wall } else { Tone::OneSided };
            marks.push(Mark::Area { series: named.name.clone(), corners: outline(side, &named.solid), tone });
        }
        if side != Side::Above {
            let floor = f64::from(world.bounds.floor);
            marks.push(Mark::Rule { series: "floor".to_owned(), at: floor, level: true, tone: Tone::Muted });
        }
        marks
    }

    fn trails(&self) -> Vec<Mark> {
        let Some(subject) = self.page.subject else { return Vec::new() };
        let name = &self.run.record().cast.actors[subject.index()].name;
        let path = |what: &str, trail: Trail, tone, dashed| {
            let points = trail.into_iter().map(|at| self.seen(at)).collect();
            Mark::Path { series: format!("{name}, {what}"), points, tone, dashed }
        };
        let (predicted, authority, drawn) = trails(self.run, self.page.at, (self.page.member, self.viewer), subject);
        vec![
            path("drawn", drawn, Tone::Viewer, true),
            path("the server's", authority, Tone::Authority, true),
            path("predicted", predicted, Tone::Owner, false),
        ]
    }

    /// A place as it is seen, in metres.
    fn seen(&self, at: Vec3) -> (f64, f64) {
        let (x, y) = self.page.side.flat(at);
        (f64::from(x), f64::from(y))
    }

    fn echoes(&self) -> Vec<Mark> {
        let mut marks = Vec::new();
        let mut all: Vec<ActorId> = self.run.record().cast.actors().collect();
        // What is followed comes last: it lies on top.
        all.sort_by_key(|actor| self.page.subject == Some(*actor));
        for actor in all {
            let e = self.moment().echoes(actor, self.run.course().machine(self.viewer));
            let name = &self.run.record().cast.actors[actor.index()].name;
            let kinds = [
                (e.drawn, Shape::Ring, Tone::Viewer, "drawn"),
                (e.authority, Shape::Diamond, Tone::Authority, "the server's"),
                (e.predicted, Shape::Dot, Tone::Owner, "predicted"),
            ];
            let there: Vec<_> = kinds.into_iter().filter_map(|(echo, s, t, w)| Some((echo?, s, t, w))).collect();
            let last = there.len().saturating_sub(1);
            for (i, (echo, shape, tone, what)) in there.into_iter().enumerate() {
                let label = if i == last { name.clone() } else { String::new() };
                marks.push(Mark::Point {
                    series: format!("{name}, {what}"),
                    at: self.seen(echo.pos),
                    shape,
                    tone,
                    label,
                });
            }
        }
        marks
    }
}

fn wide((from, to): (f32, f32)) -> (f64, f64) {
    (f64::from(from), f64::from(to))
}

fn rectangle((left, bottom): (f32, f32), (right, top): (f32, f32)) -> Vec<(f64, f64)> {
    [(left, bottom), (right, bottom), (right, top), (left, top)].map(|(x, y)| (f64::from(x), f64::from(y))).to_vec()
}

/// The corners of a solid as it is seen: from the side it is as wide as its shadow.
fn outline(side: Side, solid: &Solid) -> Vec<(f64, f64)> {
    let (sin, cos) = (solid.yaw.sin(), solid.yaw.cos());
    let corners = [(-1.0, -1.0), (1.0, -1.0), (1.0, 1.0), (-1.0, 1.0)].map(|(a, b): (f32, f32)| {
        let (a, b) = (a * solid.half_x, b * solid.half_y);
        side.flat(vec3(solid.x + a * cos - b * sin, solid.y + a * sin + b * cos, 0.0))
    });
    if side == Side::Above {
        return corners.map(wide).to_vec();
    }
    let (left, right) = corners.iter().fold((f32::MAX, f32::MIN), |(l, r), (x, _)| (l.min(*x), r.max(*x)));
    rectangle((left, solid.low), (right, solid.high))
}

#[cfg(test)]
mod tests {
    use velocitas_lab::Course;

    use super::*;

    /// The demo after nine seconds, and a page of it about its first member, on two screens.
    fn drawn(side: Side) -> (Run, Drawing) {
        let mut run = Run::new(Course::demo()).expect("the demo fits");
        run.advance(LabTime::from_secs(9.0));
        let mut members = run.course().members();
        let (own, other) = (members.next().expect("a first"), members.next().expect("a second"));
        let subject = run.record().cast.body(run.course().machine(own), run.now());
        let extent = ((-50.0, 50.0), (-50.0, 50.0));
        let page = FieldPage { at: run.now(), side, member: own, subject, viewers: &[own, other], extent };
        let drawing = field(&run, &page);
        (run, drawing)
    }

    fn point(plot: &Plot, tone: Tone) -> Option<(f64, f64)> {
        plot.marks.iter().find_map(|mark| match mark {
            Mark::Point { at, tone: of, .. } if *of == tone => Some(*at),
            _ => None,
        })
    }

    #[test]
    fn every_viewer_has_a_plot_and_what_is_believed_stands_where_the_record_has_it() {
        let (run, drawing) = drawn(Side::Above);
        assert_eq!(drawing.plots.len(), 2);
        let members: Vec<MemberId> = run.course().members().take(2).collect();
        let subject = run.record().cast.body(run.course().machine(members[0]), run.now()).expect("it is there");
        for (plot, viewer) in drawing.plots.iter().zip(&members) {
            assert!(plot.name.contains(&run.course()[*viewer].name), "{}", plot.name);
            let echoes = run.moment(run.now()).echoes(subject, run.course().machine(*viewer));
            let truth = echoes.authority.expect("the server has it").pos;
            let shown: Vec<(f64, f64)> = plot
                .marks
                .iter()
                .filter_map(|mark| match mark {
                    Mark::Point { at, tone: Tone::Authority, .. } => Some(*at),
                    _ => None,
                })
                .collect();
            let near = |at: &(f64, f64)| (at.0 - f64::from(truth.x)).hypot(at.1 - f64::from(truth.y)) < 1e-3;
            assert!(shown.iter().any(near), "{truth:?} is not among {shown:?}");
        }
        assert!(point(&drawing.plots[1], Tone::Viewer).is_some(), "another's screen shows what it draws");
    }

    #[test]
    fn from_the_side_heights_stand_on_the_floor_and_zones_are_not_seen() {
        let (run, above) = drawn(Side::Above);
        let (_, south) = drawn(Side::South);
        let zone = &run.course().world.zones[0].name;
        let has = |drawing: &Drawing, name: &str| drawing.plots[0].marks.iter().any(|mark| mark.series() == name);
        assert!(has(&above, zone) && !has(&south, zone));
        assert!(has(&south, "floor") && !has(&above, "floor"));
        assert_eq!((south.plots[0].across.name.as_str(), south.plots[0].up.name.as_str()), ("east", "height"));
        let (_, height) = point(&south.plots[0], Tone::Authority).expect("it is drawn");
        assert!((-0.1..3.0).contains(&height), "{height} m");
    }
}
