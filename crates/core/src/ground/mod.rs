//! The world a body moves through: upright prisms, a floor, an edge, and surfaces.
//!
//! A [`Ground`] is built once and never changes; a machine that knows a different world is given a different ground.
//! Solids keep the same [`SolidId`] in every ground of a course, so that two machines' contacts can be compared.
//!
//! - [`sweep`](Ground::sweep) answers whether a body can go straight from here to there.
//! - [`slide()`] moves a body as far as it goes, along what it meets.
//!
//! A slide keeps a small distance from everything ([`SKIN`]), a sweep tests the body's true size: a move that was
//! found free is therefore found free again, from its end too, whatever the rounding.

mod cast;
mod grid;
mod slide;

pub use slide::{Slid, Slide, slide};

use cast::{Ray, cast_plane, cast_prism};
use grid::Grid;

use crate::motion::Body;
use crate::vec3::Vec3;

/// How far a slide stays from what it meets, in metres.
pub const SKIN: f32 = 0.002;

/// Names a solid across all grounds of a course.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct SolidId(pub u16);

impl SolidId {
    /// The floor.
    pub const FLOOR: Self = Self(u16::MAX);
    /// The edge of the world.
    pub const EDGE: Self = Self(u16::MAX - 1);
}

/// An upright box: a rectangle of any yaw with a height range.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Solid {
    /// Its name.
    pub id: SolidId,
    /// Middle, in metres.
    pub x: f32,
    /// Middle, in metres.
    pub y: f32,
    /// Half its extent along its own first axis.
    pub half_x: f32,
    /// Half its extent along its own second axis.
    pub half_y: f32,
    /// Turn of its first axis from east, counter-clockwise, in radians.
    pub yaw: f32,
    /// Bottom, in metres.
    pub low: f32,
    /// Top, in metres.
    pub high: f32,
}

/// How a surface treats feet.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Surface {
    /// Share of the rule's grip that holds here.
    pub grip: f32,
    /// Share of the rule's speed that is reached here.
    pub pace: f32,
}

impl Surface {
    /// Dry stone.
    pub const PLAIN: Self = Self { grip: 1.0, pace: 1.0 };
}

/// A level rectangle of another surface.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Zone {
    /// West and south corner.
    pub min: (f32, f32),
    /// East and north corner.
    pub max: (f32, f32),
    /// What it does. Where zones overlap the later one counts.
    pub surface: Surface,
}

/// Where the world ends and how low its floor lies.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bounds {
    /// West and south corner, in metres.
    pub min: (f32, f32),
    /// East and north corner, in metres.
    pub max: (f32, f32),
    /// Height of the floor.
    pub floor: f32,
}

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
        self.prisms.iter().find(|p| p.depth(at, body) > 0.0).map(|p| p.id)
    }

    /// The earliest contact along a ray; ties go to the floor, the edge, then the solid listed first.
    fn first(&self, ray: &Ray) -> Option<cast::Found> {
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

#[cfg(test)]
mod tests;
