//! Sweep: whether anything solid is in the way of what is claimed, and whether it could be gone round.

use super::case::{Check, ClaimCase, Finding};
use crate::body::Body;
use crate::float::{max, min};
use crate::ground::{SKIN, Solid, SolidId, touching};
use crate::motion::Scene;
use crate::vec3::{Vec3, vec3};
use crate::verdict::Rule;

/// Things in the way of a way round something that are gone round themselves.
const NESTED: u32 = 2;
/// Sweeps for one claim at most: what takes more is not found.
const SWEEPS: u32 = 400;
/// Points on the arc round a corner.
const ARC: usize = 7;

/// The rule.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Sweep;

impl Check for Sweep {
    /// Sweeps the body along what is claimed, and looks whether its end lies in something, however low.
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let moved = case.start.distance(case.end);
        match case.meets_solid() {
            None => {}
            // Nobody knows which way it took through a hole.
            Some(_) if case.has_hole() => return Finding::Hole(None),
            Some(_) if case.goes_under() || case.goes_round() => {}
            // It is met or it is not: there is no share of a wall.
            Some(share) => return Finding::Beyond(case.evidence(Rule::Sweep, moved, moved * share), None),
        }
        if case.around.is_deeper() {
            return Finding::Beyond(case.evidence(Rule::Sweep, max(moved, f32::MIN_POSITIVE), 0.0), None);
        }
        match case.lies_in(case.end) {
            None => Finding::Nothing,
            // It was put there: the sweep says that it goes no further in.
            within if within == case.lies_in(case.start) => Finding::Nothing,
            Some(_) => Finding::Beyond(case.evidence(Rule::Sweep, max(moved, f32::MIN_POSITIVE), 0.0), None),
        }
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}

impl ClaimCase<'_> {
    /// What a thinner body at a place would be in: also after a step up it stands on what it climbed, never in it.
    pub(super) fn lies_in(&self, at: Vec3) -> Option<SolidId> {
        let thinner = touching(self.quantum());
        let thin = self.motion.body().thinner(thinner);
        self.scene.ground.overlap_past(self.around.ids(), &thin, at + vec3(0.0, 0.0, thinner))
    }

    /// Where on the way a thinner, lifted body meets something.
    fn meets_solid(&self) -> Option<f32> {
        self.probe().first(self.start, self.end).map(|(fraction, _)| fraction)
    }

    /// Whether it landed and went on, below what lies between: a tick of which the first part leads down.
    fn goes_under(&self) -> bool {
        let (probe, down) = (self.probe(), vec3(self.start.x, self.start.y, self.end.z));
        self.end.z < self.start.z && probe.first(self.start, down).is_none() && probe.first(down, self.end).is_none()
    }

    /// Whether the rule could have gone round what is in the way: where one of its ticks may be several moves, a bent way
    /// is lawful if it is no longer than a straight one may be.
    fn goes_round(&self) -> bool {
        let moves = self.motion.moves();
        if moves < 2 {
            return false;
        }
        let (probe, quantum) = (self.probe(), self.quantum());
        let climbs = self.motion.body().step * moves as f32 + quantum;
        let lawful = self.lawful_way();
        probe.over(self.start, self.end, climbs)
            || probe.way(self.start, self.end, NESTED, &mut { SWEEPS }).is_some_and(|way| way <= lawful)
    }

    fn probe(&self) -> Probe<'_> {
        let quantum = self.quantum();
        let body = self.motion.body();
        let thinner = touching(quantum);
        let lift = body.step + 2.0 * quantum;
        let thin = Body { height: max(body.height - lift - 2.0 * quantum, Body::LEAST), ..body.thinner(thinner) };
        Probe { scene: self.scene, past: self.around.ids(), body: thin, lift: vec3(0.0, 0.0, lift) }
    }
}

/// A body a little thinner than the real one, a step above the ground.
struct Probe<'a> {
    scene: &'a Scene<'a>,
    /// These are not in the way.
    past: &'a [SolidId],
    body: Body,
    lift: Vec3,
}

impl Probe<'_> {
    /// The share of the way after which something is met, and what.
    fn first(&self, from: Vec3, to: Vec3) -> Option<(f32, SolidId)> {
        let hit = self.scene.ground.sweep_past(self.past, &self.body, from + self.lift, to + self.lift)?;
        Some((hit.fraction, hit.solid))
    }

    /// Up or down a flight of edges: level at the height of the upper end, which is no more than `climbs` above the lower.
    fn over(&self, from: Vec3, to: Vec3, climbs: f32) -> bool {
        let upper = max(from.z, to.z);
        let at = |p: Vec3| vec3(p.x, p.y, upper);
        let rises = upper - min(from.z, to.z);
        rises <= climbs
            && self.first(from, at(from)).is_none()
            && self.first(at(from), at(to)).is_none()
            && self.first(at(to), to).is_none()
    }

    /// The length of a short way along the ground that meets nothing: straight, or tight round what is in the way, one way
    /// or the other.
    fn way(&self, from: Vec3, to: Vec3, nested: u32, sweeps: &mut u32) -> Option<f32> {
        *sweeps = sweeps.checked_sub(1)?;
        let Some((_, met)) = self.first(from, to) else { return Some((to - from).level().length()) };
        if nested == 0 {
            return None;
        }
        let solid = self.scene.ground.solids().iter().find(|s| s.id == met)?;
        let ways = around(&self.outline(solid), from, to)?;
        let mut shortest: Option<f32> = None;
        for way in ways {
            let mut length = 0.0;
            let whole = way.windows(2).all(|leg| match self.way(leg[0], leg[1], nested - 1, sweeps) {
                Some(more) => {
                    length += more;
                    true
                }
                None => false,
            });
            if whole {
                shortest = Some(shortest.map_or(length, |known| min(known, length)));
            }
        }
        shortest
    }

    /// Where the middle of the body is when it goes round a box: straight along its sides, an arc round its corners.
    fn outline(&self, s: &Solid) -> Vec<(f32, f32)> {
        const QUARTER: f32 = std::f32::consts::FRAC_PI_2;
        let (sin, cos) = (libm::sinf(s.yaw), libm::cosf(s.yaw));
        let between = QUARTER / (ARC - 1) as f32;
        // The points lie so far out that the lines between them keep their distance.
        let out = (self.body.radius + SKIN) / libm::cosf(between / 2.0);
        let corners = [(1.0, 1.0), (-1.0, 1.0), (-1.0, -1.0), (1.0, -1.0)];
        let point = |(corner, i): (usize, usize)| {
            let (east, north): (f32, f32) = corners[corner];
            let angle = QUARTER * corner as f32 + between * i as f32;
            let (x, y) = (east * s.half_x + out * libm::cosf(angle), north * s.half_y + out * libm::sinf(angle));
            (s.x + x * cos - y * sin, s.y + x * sin + y * cos)
        };
        (0..4).flat_map(|corner| (0..ARC).map(move |i| (corner, i))).map(point).collect()
    }
}

/// The two tight ways from one place to another round a convex outline: the two sides of the convex hull of all three.
/// `None` when a place lies inside.
fn around(outline: &[(f32, f32)], from: Vec3, to: Vec3) -> Option<[Vec<Vec3>; 2]> {
    let (a, b) = ((from.x, from.y), (to.x, to.y));
    let hull = hull(outline.iter().copied().chain([a, b]).collect());
    let (start, end) = (hull.iter().position(|p| *p == a)?, hull.iter().position(|p| *p == b)?);
    let at = |i: usize| {
        let (x, y) = hull[i % hull.len()];
        vec3(x, y, from.z)
    };
    let steps = (end + hull.len() - start) % hull.len();
    let mut left: Vec<Vec3> = (start..=start + steps).map(at).collect();
    let mut right: Vec<Vec3> = (end..=end + hull.len() - steps).map(at).rev().collect();
    for way in [&mut left, &mut right] {
        if let Some(last) = way.last_mut() {
            *last = to;
        }
    }
    Some([left, right])
}

/// The convex hull, counter-clockwise (Andrew's monotone chain).
fn hull(mut points: Vec<(f32, f32)>) -> Vec<(f32, f32)> {
    points.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.total_cmp(&b.1)));
    points.dedup();
    let turns_right = |o: (f32, f32), a: (f32, f32), b: (f32, f32)| {
        let wide = |p: (f32, f32)| (f64::from(p.0), f64::from(p.1));
        let (o, a, b) = (wide(o), wide(a), wide(b));
        (a.0 - o.0) * (b.1 - o.1) - (a.1 - o.1) * (b.0 - o.0) <= 0.0
    };
    let half = |points: &mut dyn Iterator<Item = (f32, f32)>| {
        let mut side: Vec<(f32, f32)> = Vec::new();
        for p in points {
            while side.len() >= 2 && turns_right(side[side.len() - 2], side[side.len() - 1], p) {
                side.pop();
            }
            side.push(p);
        }
        side.pop();
        side
    };
    let mut hull = half(&mut points.iter().copied());
    hull.extend(half(&mut points.iter().rev().copied()));
    hull
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::altered::Altered;
    use crate::ground::{Bounds, Ground};
    use crate::motion::Motion;
    use crate::server::guard::around::Around;
    use crate::server::guard::reach::Reach;
    use crate::tick::{Rate, Tick};

    /// Whether a claim from one place to another, a fifth of a second later, round a crate of one metre is lawful.
    fn lawful(moves: u32, start: Vec3, end: Vec3) -> bool {
        let solid = Solid { id: SolidId(0), x: 0.0, y: 0.0, half_x: 0.5, half_y: 0.5, yaw: 0.0, low: 0.0, high: 3.0 };
        let bounds = Bounds { min: (-50.0, -50.0), max: (50.0, 50.0), floor: 0.0 };
        let ground = Ground::new(bounds, vec![solid], Vec::new());
        let motion = Altered { moves, ..Altered::named("sub-stepped") };
        let scene = Scene { tick: Tick(9), dt: 0.2, ground: &ground, tunables: &[] };
        let rate = Rate::new(5).unwrap();
        let limits = motion.limits(&[]);
        let case = ClaimCase {
            scene: &scene,
            motion: &motion,
            limits: &limits,
            rate,
            from: Tick(8),
            tick: Tick(9),
            arrived: Tick(9),
            start,
            end,
            before: &crate::data::State::default(),
            ago: 0,
            allowed: &crate::policy::AS_SAID,
            told: None,
            carried: 0.0,
            around: Around::NOTHING,
            lately: &[],
        };
        let holds = |finding| matches!(finding, Finding::Nothing | Finding::Within(_));
        holds(Reach.judge(&case)) && holds(Sweep.judge(&case))
    }

    #[test]
    fn a_corner_is_turned_within_a_tick_by_sub_steps_and_by_nothing_else() {
        // Walk times haste for a fifth of a second: 1.34 m. Round the corner it is a little over 1.
        let (before, after) = (vec3(0.2, 0.87, 0.0), vec3(0.87, 0.2, 0.0));
        assert!(lawful(4, before, after));
        assert!(!lawful(1, before, after), "a single move turns no corner");
        // Through the crate from side to side: the way round it is longer than any tick.
        assert!(!lawful(64, vec3(-0.87, 0.0, 0.0), vec3(0.4, 0.0, 0.0)));
        assert!(!lawful(64, vec3(0.0, 0.87, 0.0), vec3(0.0, -0.3, 0.0)));
    }

    #[test]
    fn a_tight_way_is_as_long_as_a_string_round_the_corner() {
        let square: Vec<(f32, f32)> = vec![(1.0, 1.0), (-1.0, 1.0), (-1.0, -1.0), (1.0, -1.0)];
        let ways = around(&square, vec3(-3.0, 0.0, 0.0), vec3(3.0, 0.0, 2.0)).expect("outside");
        for way in ways {
            let length: f32 = way.windows(2).map(|l| (l[1] - l[0]).level().length()).sum();
            assert!((length - (2.0 + 2.0 * libm::sqrtf(5.0))).abs() < 1e-5, "{length}");
            assert_eq!((way[0], way[way.len() - 1]), (vec3(-3.0, 0.0, 0.0), vec3(3.0, 0.0, 2.0)));
        }
        assert!(around(&square, vec3(0.0, 0.5, 0.0), vec3(3.0, 0.0, 0.0)).is_none(), "inside");
    }
}
