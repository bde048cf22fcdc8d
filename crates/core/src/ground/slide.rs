//! Moving a body as far as it goes, along what it meets, and up small edges.

use super::cast::{Found, Ray, dot, wide};
use super::contacts::Contacts;
use super::solid::{SKIN, SolidId};
use super::sweep::Ground;
use crate::body::Body;
use crate::vec3::{Vec3, vec3};

/// Surfaces met in one tick before the rest of the way is given up.
const BOUNCES: usize = 4;
/// A contact is found at half the skin and resolved to the whole of it: the other half absorbs all rounding.
const INNER: f64 = SKIN as f64 * 0.5;
/// How far one tick may push a body out of what it overlaps.
const PUSH_OUT: f64 = 0.05;
/// A surface counts as ground if its normal points up at least this much.
const UPRIGHT: f64 = 0.7;

/// What to move.
#[derive(Clone, Copy, Debug)]
pub struct Slide {
    /// Middle of the base before.
    pub from: Vec3,
    /// Wanted displacement, in metres.
    pub travel: Vec3,
    /// Velocity afterwards if nothing is met.
    pub velocity: Vec3,
    /// Whether the body stands and means to go on standing: it then steps up and down small edges.
    pub grounded: bool,
}

/// What came of it.
#[derive(Clone, Copy, Debug)]
pub struct Slid {
    /// Middle of the base after.
    pub position: Vec3,
    /// Velocity with what ran into surfaces taken out.
    pub velocity: Vec3,
    /// Whether it stands on something now.
    pub grounded: bool,
    /// What was met.
    pub contacts: Contacts,
    /// Outward normal of what was met last on the way; zero if nothing was.
    pub normal: Vec3,
}

/// A move in progress, in double precision.
#[derive(Clone, Copy)]
struct Going {
    at: [f64; 3],
    velocity: [f64; 3],
    contacts: Contacts,
    landed: bool,
    walled: bool,
    normal: [f64; 3],
}

/// Moves `body` through `ground`.
///
/// 1. Slide along up to four surfaces.
/// 2. If it stands and met something upright, try the same way lifted by the step height and take it if it leads
///    further and ends on ground.
/// 3. If it stands, look for ground within a step below and stay on it.
pub fn slide(ground: &Ground, body: &Body, wanted: Slide) -> Slid {
    let start = Going {
        at: wide(wanted.from),
        velocity: wide(wanted.velocity),
        contacts: Contacts::default(),
        landed: false,
        walled: false,
        normal: [0.0; 3],
    };
    let mut done = go(ground, body, start, wide(wanted.travel));
    let mut grounded = done.landed;
    if wanted.grounded {
        if done.walled
            && let Some(higher) = over_the_edge(ground, body, start, wide(wanted.travel), &done)
        {
            done = higher;
        }
        grounded = stay_down(ground, body, &mut done);
    }
    Slid {
        position: narrow(done.at),
        velocity: narrow(done.velocity),
        grounded,
        contacts: done.contacts,
        normal: narrow(done.normal),
    }
}

fn narrow(v: [f64; 3]) -> Vec3 {
    vec3(v[0] as f32, v[1] as f32, v[2] as f32)
}

fn add(a: [f64; 3], b: [f64; 3], k: f64) -> [f64; 3] {
    [a[0] + b[0] * k, a[1] + b[1] * k, a[2] + b[2] * k]
}

fn cross(a: [f64; 3], b: [f64; 3]) -> [f64; 3] {
    [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]
}

/// `v` without what points into any of the surfaces; along the crease of two; nothing between three.
fn clipped(v: [f64; 3], normals: &[[f64; 3]]) -> [f64; 3] {
    let into = |v: [f64; 3]| normals.iter().position(|n| dot(v, *n) < -1e-9);
    let Some(first) = into(v) else { return v };
    let along = add(v, normals[first], -dot(v, normals[first]));
    let Some(second) = into(along) else { return along };
    let crease = cross(normals[first], normals[second]);
    let length = dot(crease, crease);
    if length < 1e-12 {
        return [0.0; 3];
    }
    let along = add([0.0; 3], crease, dot(v, crease) / length);
    if into(along).is_some() { [0.0; 3] } else { along }
}

/// Straight on until something is met, along it, and so on.
fn go(ground: &Ground, body: &Body, start: Going, travel: [f64; 3]) -> Going {
    let mut now = start;
    let mut left = travel;
    let mut normals = [[0.0; 3]; BOUNCES];
    for met in 0..BOUNCES {
        if dot(left, left) < 1e-16 {
            return now;
        }
        let ray = Ray::new(now.at, left, body, INNER);
        let Some(found) = ground.first(&ray) else {
            now.at = add(now.at, left, 1.0);
            return now;
        };
        left = stop_before(&mut now.at, left, &found);
        now.contacts.add(found.solid);
        now.landed |= found.normal[2] > UPRIGHT;
        now.walled |= found.normal[2].abs() < UPRIGHT;
        normals[met] = found.normal;
        now.normal = found.normal;
        left = clipped(left, &normals[..=met]);
        now.velocity = clipped(now.velocity, &normals[..=met]);
    }
    now
}

/// Moves to a skin's distance before what was found and gives back what is left of the way.
fn stop_before(at: &mut [f64; 3], left: [f64; 3], found: &Found) -> [f64; 3] {
    let approach = -dot(left, found.normal);
    let back = (f64::from(SKIN) - INNER) / approach;
    if found.t > back {
        let share = found.t - back;
        *at = add(*at, left, share);
        add([0.0; 3], left, 1.0 - share)
    } else {
        // Nearer than the skin already: out to the skin, a little at a time if it overlaps deeply.
        let out = f64::from(SKIN) - INNER - found.t * approach + found.depth;
        *at = add(*at, found.normal, if out < PUSH_OUT { out } else { PUSH_OUT });
        left
    }
}

/// The same way one step higher, if that leads further over the level and ends on ground.
fn over_the_edge(ground: &Ground, body: &Body, start: Going, travel: [f64; 3], plain: &Going) -> Option<Going> {
    let step = f64::from(body.step);
    if step <= 0.0 {
        return None;
    }
    let mut raised = start;
    raised.at = straight(ground, body, start.at, [0.0, 0.0, step]).0;
    let lift = raised.at[2] - start.at[2];
    let mut raised = go(ground, body, raised, [travel[0], travel[1], 0.0]);
    let (down, found) = straight(ground, body, raised.at, [0.0, 0.0, -lift - step]);
    let found = found.filter(|f| f.normal[2] > UPRIGHT)?;
    raised.at = down;
    raised.contacts.add(found.solid);
    raised.landed = true;
    let progress = |g: &Going| {
        let (x, y) = (g.at[0] - start.at[0], g.at[1] - start.at[1]);
        x * x + y * y
    };
    (progress(&raised) > progress(plain) + 1e-8).then_some(raised)
}

/// Follows ground that falls away by no more than a step. Says whether there is any.
fn stay_down(ground: &Ground, body: &Body, now: &mut Going) -> bool {
    let reach = f64::from(body.step) + f64::from(SKIN);
    let (down, found) = straight(ground, body, now.at, [0.0, 0.0, -reach]);
    let under = found.filter(|f| f.normal[2] > UPRIGHT);
    if let Some(found) = under {
        now.at = down;
        // The floor is everywhere and tells nothing; something else underfoot may be known to one side only.
        if found.solid != SolidId::FLOOR {
            now.contacts.add(found.solid);
        }
        if now.velocity[2] < 0.0 {
            now.velocity[2] = 0.0;
        }
    }
    under.is_some()
}

/// As far as it goes without turning.
fn straight(ground: &Ground, body: &Body, at: [f64; 3], way: [f64; 3]) -> ([f64; 3], Option<Found>) {
    let Some(found) = ground.first(&Ray::new(at, way, body, INNER)) else { return (add(at, way, 1.0), None) };
    let mut to = at;
    let _ = stop_before(&mut to, way, &found);
    (to, Some(found))
}
