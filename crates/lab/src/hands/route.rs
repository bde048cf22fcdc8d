//! A script that walks a route, round and round.

use velocitas_core::{InputKind, Schema, State, Vec3, wrap_angle};
use velocitas_record::controls::{Acts, Controls, first, is_pitch, is_point, is_stick, spare_axes, steering};
use velocitas_record::time::LabTime;

use super::seen::Seen;

/// A place on a route.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Waypoint {
    /// Where, in metres.
    pub at: (f32, f32),
    /// How high, for rules that can climb.
    pub height: Option<f32>,
    /// How far the stick or the throttle is pushed on the way there, 0 to 1; without it what is steered goes at 0.7.
    pub pace: Option<f32>,
    /// How long to stand there.
    pub wait: LabTime,
    /// What is held on the way there, and pressed once when it is near.
    pub acts: Acts,
}

/// Somebody on a route.
#[derive(Clone, Debug, Default)]
pub(crate) struct Walk {
    next: usize,
    stand_until: LabTime,
    /// Nearest it has been to the next place, and when.
    nearest: Option<(f32, LabTime)>,
    pressed: bool,
    facing: Option<f32>,
    /// Where it last sent what is given orders: that holds while it waits.
    ordered: Option<Vec3>,
    /// Places it has come to.
    reached: u64,
}

/// Near enough to a place to have reached it.
const REACHED_M: f32 = 0.6;
/// The same for what is steered and does not stop on a spot.
const REACHED_STEERED_M: f32 = 2.5;
/// How near to a place the presses on the way to it are made.
const PRESSED_M: f32 = 3.0;
/// How long a bot tries to get nearer before it gives a place up.
const GIVE_UP: LabTime = LabTime(2_500_000_000);
/// Hands do not know when a frame falls: after a wait they move up to so much later than it ends.
const LOOSE: LabTime = LabTime(20_000_000);
/// How fast eyes turn, in radians a frame of a sixtieth of a second.
pub(super) const TURN: f32 = 0.09;
/// How far what is steered is pushed where the course does not say.
const STEERED_PACE: f32 = 0.7;

/// The way to a place.
struct Way {
    distance: f32,
    /// Above where it is; 0 where the rule cannot climb or the place has no height.
    up: f32,
    /// The direction, in radians.
    wanted: f32,
}

impl Way {
    fn to(place: &Waypoint, at: Vec3, schema: &Schema) -> Self {
        let (dx, dy) = (place.at.0 - at.x, place.at.1 - at.y);
        let climbs = first(schema, is_pitch).is_some() || spare_axes(schema).next().is_some();
        let up = place.height.filter(|_| climbs).map_or(0.0, |height| height - at.z);
        Self { distance: libm::sqrtf(dx * dx + dy * dy), up, wanted: libm::atan2f(dy, dx) }
    }

    /// How far it is in all.
    fn left(&self) -> f32 {
        if self.up == 0.0 { self.distance } else { libm::sqrtf(self.distance * self.distance + self.up * self.up) }
    }
}

impl Walk {
    /// Leaves out the next place, so that the way there may lead through what the route goes around.
    pub(crate) fn cut_corner(&mut self) {
        let Self { next, facing, ordered, reached, .. } = *self;
        *self = Self { next: next + 1, facing, ordered, reached, ..Self::default() };
    }

    /// Until when it last stood: from then on its hands move.
    pub(crate) const fn stood_until(&self) -> LabTime {
        self.stand_until
    }

    /// The controls for a frame, given where the bot believes itself to be. `luck` (0 to 1) says of each place reached how loose
    /// the hands are.
    pub(crate) fn controls(&mut self, route: &[Waypoint], seen: &Seen<'_>, luck: impl Fn(u64) -> f64) -> Controls {
        let Seen { now, own: Some(own), schema, .. } = *seen else { return Controls::default() };
        let Some(place) = route.get(self.next % route.len().max(1)) else { return Controls::default() };
        let way = Way::to(place, own.vec3(0), schema);
        let steered = steering(schema).next().is_some();
        let turned = self.turned(&way, own, schema, steered);
        self.facing = Some(turned);
        let standing = Controls { facing: turned, order: self.ordered, ..Controls::default() };

        if now < self.stand_until {
            return standing;
        }
        let distance = way.left();
        let stuck = match self.nearest {
            Some((nearest, since)) if distance > nearest - 0.05 => now.minus(GIVE_UP) > since,
            _ => {
                self.nearest = Some((distance, now));
                false
            }
        };
        if distance < if steered { REACHED_STEERED_M } else { REACHED_M } || stuck {
            self.arrive(route, (place, stuck), now, luck);
            return standing;
        }
        let takes_orders = first(schema, is_point).is_some();
        self.ordered = place.acts.order.or(if takes_orders { Some(there(place)) } else { self.ordered });
        let mut controls = Controls { order: self.ordered, ..standing };
        // The way to go, seen from where the eyes point.
        let off = wrap_angle(way.wanted - turned);
        controls.stick = if steered {
            // Hard over when it lies abeam; slower the more there is to turn, but never without way on.
            let rudder = (-off * 1.4).clamp(-1.0, 1.0);
            let ahead = velocitas_core::max(libm::cosf(off), 0.35);
            (rudder, ahead * place.pace.unwrap_or(STEERED_PACE))
        } else {
            let pace = place.pace.unwrap_or(1.0);
            (-libm::sinf(off) * pace, libm::cosf(off) * pace)
        };
        self.climb(&way, schema, &mut controls);
        place.acts.hold(&mut controls.given, schema);
        if !self.pressed && !place.acts.press.is_empty() && distance < PRESSED_M {
            self.pressed = true;
            place.acts.press(&mut controls.given, schema);
        }
        controls
    }

    /// Where the eyes point now.
    fn turned(&mut self, way: &Way, own: &State, schema: &Schema, steered: bool) -> f32 {
        match schema.bearing_lane().filter(|_| steered) {
            // What is steered looks where its bow points.
            Some(bow) => own.real(bow),
            None => {
                let facing = *self.facing.get_or_insert(way.wanted);
                wrap_angle(facing + wrap_angle(way.wanted - facing).clamp(-TURN, TURN))
            }
        }
    }

    /// Goes up or down: where the eyes point, and with the first axis that does not steer.
    fn climb(&self, way: &Way, schema: &Schema, controls: &mut Controls) {
        if way.up == 0.0 {
            return;
        }
        controls.pitch = libm::atan2f(way.up, way.distance);
        if let Some(f) = spare_axes(schema).next() {
            controls.given.set_real(f.lane, way.up.clamp(-1.0, 1.0));
        }
    }

    fn arrive(
        &mut self,
        route: &[Waypoint],
        (place, stuck): (&Waypoint, bool),
        now: LabTime,
        luck: impl Fn(u64) -> f64,
    ) {
        let waits = !stuck && place.wait > LabTime::ZERO;
        let loose = || LabTime((LOOSE.0 as f64 * luck(self.reached)) as u64);
        *self = Self {
            next: (self.next + 1) % route.len(),
            stand_until: if waits { now.plus(place.wait).plus(loose()) } else { now },
            facing: self.facing,
            ordered: self.ordered,
            reached: self.reached + 1,
            ..Self::default()
        };
    }

    /// What a route leaves to others: the inputs of a rule that walking it moves by itself.
    pub(crate) fn moves(schema: &Schema, name: &str) -> bool {
        let by_kind = |f: &velocitas_core::InputField| match f.kind {
            InputKind::Stick { .. } => first(schema, is_stick).is_some_and(|stick| stick.name == f.name),
            InputKind::Axis { .. } => steering(schema).any(|axis| axis.name == f.name),
            InputKind::Bearing { .. } | InputKind::Point { .. } => true,
            _ => false,
        };
        schema.input.iter().any(|f| f.name == name && by_kind(f))
    }
}

fn there(place: &Waypoint) -> Vec3 {
    velocitas_core::vec3(place.at.0, place.at.1, place.height.unwrap_or(0.0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_core::walker::{Walker, input_lane, state_lane};
    use velocitas_core::{Bounds, InputField, InputKind, Motion, vec3};

    fn east() -> Waypoint {
        let acts = Acts { press: vec!["hop".to_owned()], hold: vec!["sprint".to_owned()], ..Acts::default() };
        Waypoint { at: (10.0, 0.0), wait: LabTime(500_000_000), acts, ..Waypoint::default() }
    }

    fn home() -> Waypoint {
        Waypoint::default()
    }

    fn feet() -> Schema {
        Walker::new().schema().clone()
    }

    fn at(x: f32, y: f32) -> State {
        Walker::new().spawn(vec3(x, y, 0.0), 0.0)
    }

    /// With hands that are not loose at all.
    fn walk(walk: &mut Walk, route: &[Waypoint], secs: f64, own: Option<&State>, schema: &Schema) -> Controls {
        let bounds = Bounds { min: (-99.0, -99.0), max: (99.0, 99.0), floor: 0.0 };
        walk.controls(route, &Seen { now: LabTime::from_secs(secs), own, schema, bounds }, |_| 0.0)
    }

    fn sprints(controls: &Controls) -> bool {
        controls.given.flag(input_lane::SPRINT)
    }

    #[test]
    fn a_bot_goes_waits_where_it_should_and_goes_on() {
        let (mut bot, route, feet) = (Walk::default(), [east(), home()], feet());
        let mut seen_at = |secs, x| walk(&mut bot, &route, secs, Some(&at(x, 0.0)), &feet);
        let going = seen_at(0.0, 0.0);
        assert!(sprints(&going) && going.stick.1 > 0.99);
        assert_eq!(seen_at(1.0, 8.0).given.int(input_lane::HOP), 1);
        assert_eq!(seen_at(1.1, 8.5).given.int(input_lane::HOP), 0, "one hop on the way");
        seen_at(1.5, 9.9);
        assert_eq!(seen_at(1.8, 9.9).stick, (0.0, 0.0));
        let back = seen_at(2.2, 9.9);
        assert!(!sprints(&back) && back.stick != (0.0, 0.0));
    }

    #[test]
    fn a_bot_that_is_stuck_gives_the_place_up() {
        let (mut bot, route, feet) = (Walk::default(), [east(), home()], feet());
        let turned_back = (1..60)
            .find(|tenth| !sprints(&walk(&mut bot, &route, f64::from(*tenth) / 10.0, Some(&at(4.0, 3.0)), &feet)));
        assert!(turned_back.is_some_and(|t| (25..30).contains(&t)), "{turned_back:?}");
    }

    #[test]
    fn who_has_no_route_or_no_body_yet_rests() {
        let (mut bot, feet) = (Walk::default(), feet());
        assert_eq!(walk(&mut bot, &[], 0.0, Some(&at(0.0, 0.0)), &feet), Controls::default());
        assert_eq!(walk(&mut bot, &[east()], 0.0, None, &feet), Controls::default());
    }

    fn with(kinds: &[(&'static str, InputKind)]) -> Schema {
        let field = |(lane, &(name, kind)): (usize, &(&'static str, InputKind))| InputField { name, lane, kind };
        Schema { input: kinds.iter().enumerate().map(field).collect(), ..feet() }
    }

    const AXIS: InputKind = InputKind::Axis { bits: 7 };

    #[test]
    fn what_is_steered_turns_its_bow_to_the_place_and_keeps_way_on() {
        let helm = with(&[("throttle", AXIS), ("rudder", AXIS)]);
        let route = [Waypoint { at: (0.0, 50.0), pace: Some(1.0), ..home() }];
        let steer = |bow: f32| {
            let mut state = at(0.0, 0.0);
            state.set_real(state_lane::FACING, bow);
            walk(&mut Walk::default(), &route, 0.0, Some(&state), &helm).stick
        };
        use std::f32::consts::{FRAC_PI_2, PI};
        let (north, east, west, south) = (FRAC_PI_2, 0.0, PI, -FRAC_PI_2);
        assert!(steer(north).0.abs() < 1e-3 && steer(north).1 > 0.99, "straight on at full ahead");
        assert!(steer(east).0 < -0.9 && steer(west).0 > 0.9, "to port when it lies to port");
        assert!([east, west, south].iter().all(|&bow| steer(bow).1 >= 0.35), "never without way on");
        // Near enough is nearer for feet than for a hull.
        let near = |schema: &Schema| walk(&mut Walk::default(), &route, 0.0, Some(&at(0.0, 48.0)), schema).stick;
        assert_eq!(near(&helm), (0.0, 0.0));
        assert_ne!(near(&feet()), (0.0, 0.0));
    }

    #[test]
    fn a_height_is_climbed_to_by_who_can() {
        let glider =
            with(&[("look", InputKind::Pitch { bits: 8 }), ("throttle", AXIS), ("rudder", AXIS), ("lift", AXIS)]);
        let route =
            [Waypoint { at: (10.0, 0.0), height: Some(10.0), ..home() }, Waypoint { at: (50.0, 0.0), ..home() }];
        let climbing = walk(&mut Walk::default(), &route, 0.0, Some(&at(0.0, 0.0)), &glider);
        assert!((climbing.pitch - std::f32::consts::FRAC_PI_4).abs() < 1e-6, "{}", climbing.pitch);
        assert_eq!(climbing.given.real(3), 1.0, "the first axis that does not steer");
        let below = walk(&mut Walk::default(), &route, 0.0, Some(&at(10.0, 0.0)), &glider);
        assert_ne!(below.given.real(3), 0.0, "below the place is not there yet");
        let walking = walk(&mut Walk::default(), &route, 0.0, Some(&at(9.9, 0.0)), &feet());
        assert_eq!(walking.stick, (0.0, 0.0), "who walks has come there");
    }

    #[test]
    fn a_pace_is_how_far_the_stick_is_pushed() {
        let route = [Waypoint { at: (10.0, 0.0), pace: Some(0.25), ..home() }];
        let controls = walk(&mut Walk::default(), &route, 0.0, Some(&at(0.0, 0.0)), &feet());
        assert!((controls.stick.1 - 0.25).abs() < 1e-6);
    }
}
