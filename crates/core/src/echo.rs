//! The two echoes of what an owner does.
//!
//! The raw one is what the authority has: it leaps where a claim makes up for those that came late, or where inputs that were waited for are
//! used together. The smooth one is what others are sent where that is asked for. It walks after the raw one no faster than its rule allows by a
//! tenth, and never through solids. Where it cannot keep near for half a second it is put there, as it is by a teleport, a return and a new owner.
//!
//! The guard judges the raw one only, and no owner is ever corrected to the smooth one, unless that is to bind it.

use crate::data::State;
use crate::float::{clamp, min};
use crate::ground::{Slide, slide};
use crate::motion::{Motion, Scene};
use crate::vec3::{Vec3, vec3};

/// Which echo others are sent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum EchoBy {
    /// The raw one.
    #[default]
    Raw,
    /// The smooth one.
    Smooth,
    /// The smooth one, and an owner who is too far ahead of it for too long is put back to it.
    Binding,
}

impl EchoBy {
    /// All of them, the usual one first.
    pub const ALL: [Self; 3] = [Self::Raw, Self::Smooth, Self::Binding];
}

/// How much faster than its rule the smooth echo may walk.
const FASTER: f32 = 1.1;
/// What is nearer than this many metres is there: nobody sees less.
pub(crate) const THERE_M: f32 = 0.005;

/// The smooth echo of an entity.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Echo {
    pub(crate) state: State,
    /// The count of teleports, and of cuts, when it was last moved.
    pub(crate) teleports: u8,
    pub(crate) cuts: u8,
    /// Whether it was where the raw one was.
    pub(crate) is_there: bool,
    /// For how many ticks it was further away than its leash.
    pub(crate) apart: u32,
}

impl Echo {
    /// One that is where the raw one is.
    pub(crate) const fn at(state: State, (teleports, cuts): (u8, u8)) -> Self {
        Self { state, teleports, cuts, is_there: true, apart: 0 }
    }

    /// How far it is from a state, in metres.
    pub(crate) fn away(&self, raw: &State) -> f32 {
        self.state.vec3(0).distance(raw.vec3(0))
    }

    /// Walks after a state as far as a tick allows. All but its place and velocity is that state's.
    pub(crate) fn follow(&mut self, raw: &State, scene: &Scene<'_>, motion: &dyn Motion) {
        let (from, to) = (self.state.vec3(0), raw.vec3(0));
        self.state = *raw;
        let way = to - from;
        let dt = scene.dt;
        let travel = allowed(way, scene, motion);
        // From where the raw one was it goes as that went.
        if travel == way && self.is_there {
            return;
        }
        let body = motion.body();
        let grounded = way.z.abs() <= body.step;
        let at = slide(scene.ground, &body, Slide { from, travel, velocity: travel * (1.0 / dt), grounded }).position;
        if at.distance(to) < THERE_M {
            return;
        }
        self.state.set_vec3(0, at);
        if let Some(lane) = motion.schema().velocity_lane() {
            self.state.set_vec3(lane, (at - from) * (1.0 / dt));
        }
    }
}

/// As much of a way as a rule allows in a tick, and a tenth more.
fn allowed(way: Vec3, scene: &Scene<'_>, motion: &dyn Motion) -> Vec3 {
    let limits = motion.limits(scene.tunables);
    let reach = |speed: f32| speed * scene.dt * FASTER;
    let level = vec3(way.x, way.y, 0.0).length();
    let share = if level > 0.0 { min(1.0, reach(limits.level) / level) } else { 1.0 };
    vec3(way.x * share, way.y * share, clamp(way.z, -reach(limits.down), reach(limits.up)))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::ground::{Bounds, Ground, Solid, SolidId};
    use crate::tick::Tick;
    use crate::walker::Walker;

    const DT: f32 = 1.0 / 60.0;

    /// A wall from south to north through the middle.
    fn walled() -> Ground {
        let bounds = Bounds { min: (-20.0, -20.0), max: (20.0, 20.0), floor: 0.0 };
        let (id, yaw) = (SolidId(7), 0.0);
        let wall = Solid { id, x: 0.0, y: 0.0, half_x: 0.2, half_y: 4.0, yaw, low: 0.0, high: 3.0 };
        Ground::new(bounds, vec![wall], Vec::new())
    }

    fn walker_at(rule: &Walker, place: Vec3) -> State {
        rule.spawn(place, 0.5)
    }

    /// Follows raw states tick by tick; calls back with where it was, where it is, and the raw place.
    fn follow(ground: &Ground, places: &[Vec3], mut each: impl FnMut(Vec3, Vec3, Vec3)) -> Echo {
        let rule = Walker::new();
        let tunables: Vec<f32> = rule.tunables().iter().map(|tunable| tunable.default).collect();
        let mut echo = Echo::at(walker_at(&rule, places[0]), (0, 0));
        for place in places {
            let scene = Scene { tick: Tick(1), dt: DT, ground, tunables: &tunables };
            let (raw, before) = (walker_at(&rule, *place), echo.state.vec3(0));
            echo.follow(&raw, &scene, &rule);
            echo.is_there = echo.away(&raw) < THERE_M;
            each(before, echo.state.vec3(0), *place);
        }
        echo
    }

    /// The farthest it may go along the ground in a tick.
    fn reach() -> f32 {
        let rule = Walker::new();
        let tunables: Vec<f32> = rule.tunables().iter().map(|tunable| tunable.default).collect();
        rule.limits(&tunables).level * DT * FASTER
    }

    #[test]
    fn who_keeps_to_the_rule_has_one_echo() {
        let places: Vec<Vec3> = (0..120).map(|n| vec3(-15.0 + n as f32 * reach() * 0.9, -10.0, 0.0)).collect();
        follow(&walled(), &places, |_, at, raw| assert_eq!(at, raw));
    }

    #[test]
    fn after_a_leap_it_walks_there_and_looks_as_the_raw_one_does_meanwhile() {
        let mut places = vec![vec3(-10.0, -10.0, 0.0); 2];
        places.extend([vec3(-8.0, -10.0, 0.0); 60]);
        let mut ticks = 0;
        let echo = follow(&walled(), &places, |_, at, raw| ticks += u32::from(at != raw));
        assert!((2.0 / reach() - f32::from(ticks as u16)).abs() <= 1.5, "{ticks} ticks for two metres");
        assert_eq!(echo.state, walker_at(&Walker::new(), places[61]));
    }

    proptest! {
        #[test]
        fn it_is_never_faster_than_the_rule_and_a_tenth_and_never_in_a_solid(
            leaps in prop::collection::vec((-3.0f32..3.0, -3.0f32..3.0, 1usize..40), 1..12),
        ) {
            let (ground, body) = (walled(), Walker::new().body());
            let mut place = vec3(-2.0, 0.0, 0.0);
            let mut places = vec![place];
            for (x, y, holds) in leaps {
                let next = vec3(clamp(place.x + x, -19.0, 19.0), clamp(place.y + y, -19.0, 19.0), 0.0);
                place = if ground.overlap(&body, next).is_some() { place } else { next };
                places.extend(std::iter::repeat_n(place, holds));
            }
            let mut wrong = None;
            follow(&ground, &places, |before, at, _| {
                let far = vec3(at.x - before.x, at.y - before.y, 0.0).length() > reach() + THERE_M;
                let inside = ground.overlap(&body.thinner(0.01), at + vec3(0.0, 0.0, 0.01)).is_some();
                let through = (before.x < -0.2) != (at.x < -0.2) && before.y.abs() < 3.5 && at.y.abs() < 3.5;
                if far || inside || through {
                    wrong = Some((before, at, far, inside, through));
                }
            });
            prop_assert!(wrong.is_none(), "{wrong:?}");
        }
    }
}
