//! The world as one machine knows it, and what stands in a straight way through it.

use super::cast::{self, Ray, cast_plane, cast_prism};
use super::grid::Grid;
use super::solid::{Bounds, SKIN, Solid, SolidId, Surface, Zone};
use crate::body::Body;
use crate::vec3::Vec3;

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
        if at.z > self.bounds.floor + 0.1 {
            return Surface::PLAIN;
        }
        let inside = |z: &&Zone| at.x >= z.min.0 && at.x <= z.max.0 && at.y >= z.min.1 && at.y <= z.max.1;
        self.zones.iter().rev().find(inside).map_or(Surface::PLAIN, |z| z.surface)
    }

    /// The first thing an upright cylinder of `body`'s size meets on the straight way, if any.
    ///
    /// A body that already overlaps something is stopped only on its way further in.
    pub fn sweep(&self, body: &Body, from: Vec3, to: Vec3) -> Option<Hit> {
        let ray = Ray::between(from, to, body, 0.0);
        self.first(&ray).map(|found| Hit {
            fraction: found.t.clamp(0.0, 1.0) as f32,
            normal: found.normal_f32(),
            solid: found.solid,
        })
    }

    /// What a body at `at` overlaps, if anything. Touching is not overlapping.
    pub fn overlap(&self, body: &Body, at: Vec3) -> Option<SolidId> {
        let b = &self.bounds;
        let r = body.radius;
        if at.z < b.floor - SKIN {
            return Some(SolidId::FLOOR);
        }
        if at.x - r < b.min.0 || at.x + r > b.max.0 || at.y - r < b.min.1 || at.y + r > b.max.1 {
            return Some(SolidId::EDGE);
        }
        let mut first: Option<usize> = None;
        self.grid.visit(&Ray::between(at, at, body, 0.0), |i| {
            if first.is_none_or(|f| i < f) && self.prisms[i].depth(at, body) > 0.0 {
                first = Some(i);
            }
        });
        first.map(|i| self.prisms[i].id)
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

    /// The earliest contact along a ray; ties go to the floor, the edge, then the solid listed first.
    pub(super) fn first(&self, ray: &Ray) -> Option<cast::Found> {
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
        offer(cast_plane(ray, 2, 1.0, f64::from(b.floor), SolidId::FLOOR));
        offer(cast_plane(ray, 0, 1.0, f64::from(b.min.0) + r, SolidId::EDGE));
        offer(cast_plane(ray, 0, -1.0, f64::from(b.max.0) - r, SolidId::EDGE));
        offer(cast_plane(ray, 1, 1.0, f64::from(b.min.1) + r, SolidId::EDGE));
        offer(cast_plane(ray, 1, -1.0, f64::from(b.max.1) - r, SolidId::EDGE));
        self.grid.visit(ray, |i| {
            // A solid may be visited once for each cell it shares with the ray: the same answer again is no matter.
            offer(cast_prism(ray, &self.prisms[i]));
        });
        best
    }
}
