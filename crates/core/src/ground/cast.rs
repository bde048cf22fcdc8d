//! Exact tests of one moving cylinder against one thing, in double precision.
//!
//! The cylinder is shrunk to the middle of its base and the thing grown by radius and height (a Minkowski sum), so a
//! sweep is a ray against a rounded rectangle with a height range. All shapes are convex: the ray is inside during one
//! interval, and what it meets is the surface it enters through.

use super::solid::{Solid, SolidId};
use crate::body::Body;
use crate::vec3::{Vec3, vec3};

/// A way to test, in f64, with the size of what moves.
#[derive(Clone, Copy, Debug)]
pub(super) struct Ray {
    pub(super) from: [f64; 3],
    pub(super) way: [f64; 3],
    /// Radius of the body, without the margin.
    pub(super) radius: f64,
    height: f64,
    /// How far from a surface the ray already counts as meeting it.
    margin: f64,
}

/// Where a ray meets something.
#[derive(Clone, Copy, Debug)]
pub(super) struct Found {
    /// Share of the way; 0 when it began inside and goes deeper.
    pub(super) t: f64,
    pub(super) normal: [f64; 3],
    /// Distance from the grown surface at the start if the ray began inside it; 0 otherwise.
    pub(super) depth: f64,
    pub(super) solid: SolidId,
}

impl Found {
    pub(super) fn normal_f32(&self) -> Vec3 {
        vec3(self.normal[0] as f32, self.normal[1] as f32, self.normal[2] as f32)
    }
}

pub(super) fn dot(a: [f64; 3], b: [f64; 3]) -> f64 {
    a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
}

pub(super) fn wide(v: Vec3) -> [f64; 3] {
    [f64::from(v.x), f64::from(v.y), f64::from(v.z)]
}

impl Ray {
    pub(super) fn new(from: [f64; 3], way: [f64; 3], body: &Body, margin: f64) -> Self {
        Self { from, way, radius: f64::from(body.radius), height: f64::from(body.height), margin }
    }

    pub(super) fn between(from: Vec3, to: Vec3, body: &Body, margin: f64) -> Self {
        let (a, b) = (wide(from), wide(to));
        Self::new(a, [b[0] - a[0], b[1] - a[1], b[2] - a[2]], body, margin)
    }

    /// The level area the body passes through.
    pub(super) fn reach(&self) -> ((f64, f64), (f64, f64)) {
        let r = self.radius + self.margin;
        let span = |i: usize| {
            let to = self.from[i] + self.way[i];
            let (low, high) = if to < self.from[i] { (to, self.from[i]) } else { (self.from[i], to) };
            (low - r, high + r)
        };
        let (x, y) = (span(0), span(1));
        ((x.0, y.0), (x.1, y.1))
    }
}

/// A [`Solid`] with what a cast needs worked out.
#[derive(Clone, Copy, Debug)]
pub(super) struct Prism {
    pub(super) id: SolidId,
    centre: (f64, f64),
    half: (f64, f64),
    axis: (f64, f64),
    low: f64,
    high: f64,
    pub(super) min: (f64, f64),
    pub(super) max: (f64, f64),
}

impl Prism {
    pub(super) fn new(s: &Solid) -> Self {
        let yaw = f64::from(s.yaw);
        let axis = (libm::cos(yaw), libm::sin(yaw));
        let (hx, hy) = (f64::from(s.half_x), f64::from(s.half_y));
        let reach = (hx * axis.0.abs() + hy * axis.1.abs(), hx * axis.1.abs() + hy * axis.0.abs());
        let centre = (f64::from(s.x), f64::from(s.y));
        Self {
            id: s.id,
            centre,
            half: (hx, hy),
            axis,
            low: f64::from(s.low),
            high: f64::from(s.high),
            min: (centre.0 - reach.0, centre.1 - reach.1),
            max: (centre.0 + reach.0, centre.1 + reach.1),
        }
    }

    fn local(&self, x: f64, y: f64) -> (f64, f64) {
        (x * self.axis.0 + y * self.axis.1, y * self.axis.0 - x * self.axis.1)
    }

    fn world(&self, x: f64, y: f64) -> [f64; 3] {
        [x * self.axis.0 - y * self.axis.1, x * self.axis.1 + y * self.axis.0, 0.0]
    }

    /// How deep a body overlaps, in metres; negative or 0 when it does not.
    pub(super) fn depth(&self, at: Vec3, body: &Body) -> f64 {
        self.depth_and_out(at, body).0
    }

    /// The same, and the shortest way out.
    pub(super) fn depth_and_out(&self, at: Vec3, body: &Body) -> (f64, [f64; 3]) {
        let ray = Ray::new(wide(at), [0.0; 3], body, 0.0);
        self.inside(&ray)
    }

    /// Whether its top is at most `near` above or below the base of a body, and it reaches below it or as near.
    pub(super) fn carries(&self, at: Vec3, body: &Body, near: f32) -> bool {
        (f64::from(at.z) - self.high).abs() <= f64::from(near) && self.is_level_with(at, body, near)
    }

    /// Whether its underside is at most `near` above or below the head of a body, and it reaches above it or as near.
    pub(super) fn caps(&self, at: Vec3, body: &Body, near: f32) -> bool {
        let head = f64::from(at.z) + f64::from(body.height);
        (head - self.low).abs() <= f64::from(near) && self.is_level_with(at, body, near)
    }

    /// Whether it is no further than `near` from a body, seen from above.
    fn is_level_with(&self, at: Vec3, body: &Body, near: f32) -> bool {
        let (x, y) = self.local(f64::from(at.x) - self.centre.0, f64::from(at.y) - self.centre.1);
        let over = [x.abs() - self.half.0, y.abs() - self.half.1].map(|o| if o > 0.0 { o } else { 0.0 });
        let reach = f64::from(body.radius) + f64::from(near);
        over[0] * over[0] + over[1] * over[1] <= reach * reach
    }

    /// Depth of the ray's start in the grown shape and the way out.
    fn inside(&self, ray: &Ray) -> (f64, [f64; 3]) {
        let (x, y) = self.local(ray.from[0] - self.centre.0, ray.from[1] - self.centre.1);
        let r = ray.radius + ray.margin;
        let over = (x.abs() - self.half.0, y.abs() - self.half.1);
        let (sx, sy) = (x.signum(), y.signum());
        let (level, out) = if over.0 > 0.0 && over.1 > 0.0 {
            let gap = libm::sqrt(over.0 * over.0 + over.1 * over.1);
            (r - gap, self.world(sx * over.0 / gap, sy * over.1 / gap))
        } else if over.0 > over.1 {
            (r - over.0, self.world(sx, 0.0))
        } else {
            (r - over.1, self.world(0.0, sy))
        };
        let above = self.high + ray.margin - ray.from[2];
        let below = ray.from[2] - (self.low - ray.height - ray.margin);
        let mut best = (level, out);
        if above < best.0 {
            best = (above, [0.0, 0.0, 1.0]);
        }
        if below < best.0 {
            best = (below, [0.0, 0.0, -1.0]);
        }
        best
    }
}

/// When the ray is inside a range on one axis.
fn slab(from: f64, way: f64, low: f64, high: f64) -> Option<(f64, f64)> {
    if way == 0.0 {
        return (from > low && from < high).then_some((f64::NEG_INFINITY, f64::INFINITY));
    }
    let (a, b) = ((low - from) / way, (high - from) / way);
    Some(if a < b { (a, b) } else { (b, a) })
}

fn overlap(a: (f64, f64), b: (f64, f64)) -> Option<(f64, f64)> {
    let low = if a.0 > b.0 { a.0 } else { b.0 };
    let high = if a.1 < b.1 { a.1 } else { b.1 };
    (low < high).then_some((low, high))
}

/// Level interval inside the rounded rectangle, with the local normal at entry.
fn rounded(prism: &Prism, x: f64, y: f64, dx: f64, dy: f64, r: f64) -> Option<(f64, f64, (f64, f64))> {
    let (hx, hy) = prism.half;
    let mut span = Span { found: None };
    let rectangle = |wx: f64, wy: f64| overlap(slab(x, dx, -wx, wx)?, slab(y, dy, -wy, wy)?);
    span.join(rectangle(hx + r, hy), (-dx.signum(), 0.0));
    span.join(rectangle(hx, hy + r), (0.0, -dy.signum()));
    let speed = dx * dx + dy * dy;
    for (cx, cy) in [(hx, hy), (hx, -hy), (-hx, hy), (-hx, -hy)] {
        let (px, py) = (x - cx, y - cy);
        if speed == 0.0 {
            let inside = px * px + py * py < r * r;
            span.join(inside.then_some((f64::NEG_INFINITY, f64::INFINITY)), (0.0, 0.0));
            continue;
        }
        let along = px * dx + py * dy;
        let root = along * along - speed * (px * px + py * py - r * r);
        if root > 0.0 {
            let root = libm::sqrt(root);
            let (enter, leave) = ((-along - root) / speed, (-along + root) / speed);
            span.join(Some((enter, leave)), ((px + dx * enter) / r, (py + dy * enter) / r));
        }
    }
    span.found
}

/// The union of intervals whose union is known to be one interval, and the normal at its beginning.
struct Span {
    found: Option<(f64, f64, (f64, f64))>,
}

impl Span {
    fn join(&mut self, interval: Option<(f64, f64)>, normal: (f64, f64)) {
        let Some((enter, leave)) = interval else { return };
        self.found = Some(match self.found {
            None => (enter, leave, normal),
            Some((low, high, known)) => (
                if enter < low { enter } else { low },
                if leave > high { leave } else { high },
                if enter < low { normal } else { known },
            ),
        });
    }
}

/// Where the ray enters a prism grown by the body.
pub(super) fn cast_prism(ray: &Ray, prism: &Prism) -> Option<Found> {
    let (min, max) = ray.reach();
    if max.0 < prism.min.0 || min.0 > prism.max.0 || max.1 < prism.min.1 || min.1 > prism.max.1 {
        return None;
    }
    let r = ray.radius + ray.margin;
    let tall = slab(ray.from[2], ray.way[2], prism.low - ray.height - ray.margin, prism.high + ray.margin)?;
    let (x, y) = prism.local(ray.from[0] - prism.centre.0, ray.from[1] - prism.centre.1);
    let (dx, dy) = prism.local(ray.way[0], ray.way[1]);
    let (enter, leave, normal) = rounded(prism, x, y, dx, dy, r)?;
    let (t, until) = overlap((enter, leave), tall)?;
    if t > 1.0 || until <= 0.0 {
        return None;
    }
    if t >= 0.0 {
        let normal = if enter >= tall.0 {
            prism.world(normal.0, normal.1)
        } else {
            [0.0, 0.0, if ray.way[2] > 0.0 { -1.0 } else { 1.0 }]
        };
        return Some(Found { t, normal, depth: 0.0, solid: prism.id });
    }
    let (depth, out) = prism.inside(ray);
    (dot(ray.way, out) < 0.0).then_some(Found { t: 0.0, normal: out, depth, solid: prism.id })
}

/// Where the ray enters the half-space behind an axis-aligned plane; `sign` says which side is free.
pub(super) fn cast_plane(ray: &Ray, axis: usize, sign: f64, at: f64, solid: SolidId) -> Option<Found> {
    let approach = ray.way[axis] * sign;
    if approach >= 0.0 {
        return None;
    }
    let gap = (ray.from[axis] - at) * sign - ray.margin;
    let mut normal = [0.0; 3];
    normal[axis] = sign;
    if gap < 0.0 {
        return Some(Found { t: 0.0, normal, depth: -gap, solid });
    }
    let t = gap / -approach;
    (t <= 1.0).then_some(Found { t, normal, depth: 0.0, solid })
}
