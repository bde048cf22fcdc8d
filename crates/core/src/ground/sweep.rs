//! The world as one machine knows it, and what stands in a straight way through it.

use super::cast::{self, Ray, cast_plane, cast_prism};
use super::grid::Grid;
use super::solid::{Bounds, SKIN, Solid, SolidId, Surface, Underfoot, Zone};
use crate::body::Body;
use crate::vec3::{Vec3, vec3};

/// What a sweep met first.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Hit {
    /// Share of the way, 0 to 1.
    pub fraction: f32,
    /// Outward normal of what was met.
    pub normal: Vec3,
    /// What it was.
    pub solid: SolidId,
}

/// Above this, over the floor, nothing of the floor is underfoot any more, in metres.
const FEET: f32 = 0.1;

/// The world as one machine knows it.
#[derive(Clone, Debug)]
pub struct Ground {
    bounds: Bounds,
    solids: Vec<Solid>,
    prisms: Vec<cast::Prism>,
    zones: Vec<Zone>,
    grid: Grid,
}

impl Ground {
    /// A ground of these solids and zones.
    pub fn new(bounds: Bounds, solids: Vec<Solid>, zones: Vec<Zone>) -> Self {
        let prisms: Vec<_> = solids.iter().map(cast::Prism::new).collect();
        let grid = Grid::new(&bounds, &prisms);
        Self { bounds, solids, prisms, zones, grid }
    }

    /// A flat floor without anything on it, `half` metres in each direction.
    pub fn flat(half: f32) -> Self {
        Self::new(Bounds { min: (-half, -half), max: (half, half), floor: 0.0 }, Vec::new(), Vec::new())
    }

    /// Where the world ends.
    pub const fn bounds(&self) -> &Bounds {
        &self.bounds
    }

    /// The solids of this ground.
    pub fn solids(&self) -> &[Solid] {
        &self.solids
    }

    /// The zones of this ground.
    pub fn zones(&self) -> &[Zone] {
        &self.zones
    }

    /// What is underfoot at a point on the floor; plain stone above it.
    pub fn surface(&self, at: Vec3) -> Surface {
        if at.z > self.bounds.floor + FEET {
            return Surface::PLAIN;
        }
        let inside = |z: &&Zone| at.x >= z.min.0 && at.x <= z.max.0 && at.y >= z.min.1 && at.y <= z.max.1;
        self.zones.iter().rev().find(inside).map_or(Surface::PLAIN, |z| z.surface)
    }

    /// What is underfoot somewhere in a box.
    pub fn underfoot(&self, low: Vec3, high: Vec3) -> Underfoot {
        let inside = |z: &&Zone| high.x >= z.min.0 && low.x <= z.max.0 && high.y >= z.min.1 && low.y <= z.max.1;
        let covers = |z: &&Zone| low.x >= z.min.0 && high.x <= z.max.0 && low.y >= z.min.1 && high.y <= z.max.1;
        let feet = self.bounds.floor + FEET;
        let mut found: Option<Underfoot> = (high.z > feet).then_some(Underfoot::of(Surface::PLAIN));
        if low.z <= feet {
            let mut add = |surface| found = Some(found.map_or(Underfoot::of(surface), |found| found.or(surface)));
            let mut is_covered = false;
            // The later ones lie on top.
            for zone in self.zones.iter().rev().filter(inside) {
                add(zone.surface);
                is_covered = covers(&zone);
                if is_covered {
                    break;
                }
            }
            if !is_covered {
                add(Surface::PLAIN);
            }
        }
        found.unwrap_or(Underfoot::of(Surface::PLAIN))
    }

    /// The first thing an upright cylinder of `body`'s size meets on the straight way, if any.
    ///
    /// A body that already overlaps something is stopped only on its way further in.
    pub fn sweep(&self, body: &Body, from: Vec3, to: Vec3) -> Option<Hit> {
        self.sweep_past(&[], body, from, to)
    }

    /// The same, if some solids were not there.
    pub fn sweep_past(&self, past: &[SolidId], body: &Body, from: Vec3, to: Vec3) -> Option<Hit> {
        let ray = Ray::between(from, to, body, 0.0);
        self.first_past(past, &ray).map(|found| Hit {
            fraction: found.t.clamp(0.0, 1.0) as f32,
            normal: found.normal_f32(),
            solid: found.solid,
        })
    }

    /// What a body at `at` overlaps, if anything. Touching is not overlapping.
    pub fn overlap(&self, body: &Body, at: Vec3) -> Option<SolidId> {
        self.overlap_past(&[], body, at)
    }

    /// The same, if some solids were not there.
    pub fn overlap_past(&self, past: &[SolidId], body: &Body, at: Vec3) -> Option<SolidId> {
        let b = &self.bounds;
        if at.z < b.floor - SKIN && !past.contains(&SolidId::FLOOR) {
            return Some(SolidId::FLOOR);
        }
        if self.beyond_edge(body, at).0 > 0.0 && !past.contains(&SolidId::EDGE) {
            return Some(SolidId::EDGE);
        }
        let mut first: Option<usize> = None;
        self.grid.visit(&Ray::between(at, at, body, 0.0), |i| {
            if first.is_none_or(|f| i < f) && !past.contains(&self.prisms[i].id) && self.prisms[i].depth(at, body) > 0.0
            {
                first = Some(i);
            }
        });
        first.map(|i| self.prisms[i].id)
    }

    /// How deep a body at `at` lies in a solid, in metres, 0 or less where it does not, and the shortest way out. `None` where there is no
    /// such solid; of the floor and the edge of the world, how far beyond.
    pub fn depth(&self, solid: SolidId, body: &Body, at: Vec3) -> Option<(f32, Vec3)> {
        match solid {
            SolidId::FLOOR => return Some((self.bounds.floor - at.z, vec3(0.0, 0.0, 1.0))),
            SolidId::EDGE => return Some(self.beyond_edge(body, at)),
            _ => {}
        }
        let prism = self.prisms.iter().find(|prism| prism.id == solid)?;
        let (depth, out) = prism.depth_and_out(at, body);
        Some((depth as f32, vec3(out[0] as f32, out[1] as f32, out[2] as f32)))
    }

    /// How far beyond the edge of the world a body reaches, 0 or less where it does not, and the way back.
    fn beyond_edge(&self, body: &Body, at: Vec3) -> (f32, Vec3) {
        let (b, r) = (&self.bounds, body.radius);
        let sides = [
            (b.min.0 - (at.x - r), vec3(1.0, 0.0, 0.0)),
            (at.x + r - b.max.0, vec3(-1.0, 0.0, 0.0)),
            (b.min.1 - (at.y - r), vec3(0.0, 1.0, 0.0)),
            (at.y + r - b.max.1, vec3(0.0, -1.0, 0.0)),
        ];
        sides.into_iter().fold(sides[0], |most, side| if side.0 > most.0 { side } else { most })
    }

    /// Whether there is a solid of this name.
    pub fn has(&self, solid: SolidId) -> bool {
        self.prisms.iter().any(|prism| prism.id == solid)
    }

    /// Whether a body at `at` stands on something: the floor, or what ends at most `near` above or below its base and reaches as near
    /// to it from the side.
    pub fn carries(&self, body: &Body, at: Vec3, near: f32) -> bool {
        let mut carries = at.z - self.bounds.floor <= near;
        self.grid.visit(&Ray::between(at, at, body, f64::from(near)), |i| {
            carries = carries || self.prisms[i].carries(at, body, near);
        });
        carries
    }

    /// Whether something begins at most `near` above or below the head of a body at `at`, and reaches as near to it from the side.
    pub fn caps(&self, body: &Body, at: Vec3, near: f32) -> bool {
        let mut caps = false;
        self.grid.visit(&Ray::between(at, at, body, f64::from(near)), |i| {
            caps = caps || self.prisms[i].caps(at, body, near);
        });
        caps
    }

    /// The earliest contact along a ray; ties go to the floor, the edge, then the solid listed first.
    pub(super) fn first(&self, ray: &Ray) -> Option<cast::Found> {
        self.first_past(&[], ray)
    }

    fn first_past(&self, past: &[SolidId], ray: &Ray) -> Option<cast::Found> {
        let mut best: Option<cast::Found> = None;
        let mut offer = |found: Option<cast::Found>| {
            if let Some(f) = found
                && best.is_none_or(|b| f.t < b.t)
            {
                best = Some(f);
            }
        };
        let b = &self.bounds;
        let r = ray.radius;
        if !past.contains(&SolidId::FLOOR) {
            offer(cast_plane(ray, 2, 1.0, f64::from(b.floor), SolidId::FLOOR));
        }
        if !past.contains(&SolidId::EDGE) {
            offer(cast_plane(ray, 0, 1.0, f64::from(b.min.0) + r, SolidId::EDGE));
            offer(cast_plane(ray, 0, -1.0, f64::from(b.max.0) - r, SolidId::EDGE));
            offer(cast_plane(ray, 1, 1.0, f64::from(b.min.1) + r, SolidId::EDGE));
            offer(cast_plane(ray, 1, -1.0, f64::from(b.max.1) - r, SolidId::EDGE));
        }
        self.grid.visit(ray, |i| {
            if past.contains(&self.prisms[i].id) {
                return;
            }
            // A solid may be visited once for each cell it shares with the ray: the same answer again is no matter.
            offer(cast_prism(ray, &self.prisms[i]));
        });
        best
    }
}
