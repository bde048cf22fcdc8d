//! What hands do, before any rule gives it meaning, and who moves them: a script or the keyboard.

use velocitas_core::{Input, InputKind, Schema, State, Vec3, vec3, wrap_angle};

use crate::time::LabTime;

/// Hands on the controls during one frame.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Controls {
    /// To the right and ahead, each −1 to 1.
    pub stick: (f32, f32),
    /// Where the eyes point, in radians.
    pub facing: f32,
    /// Whether the fast key is down.
    pub sprint: bool,
    /// How often the hop key went down since the last frame.
    pub hops: u32,
    /// A place to go to, for rules that are given orders; `None` where no order is given.
    pub order: Option<(f32, f32)>,
}

impl Controls {
    /// As the input of a rule: the first field of each kind is meant; a rule without a bearing gets the stick already
    /// turned.
    pub fn to_input(self, schema: &Schema) -> Input {
        let mut input = Input::default();
        let first = |kind: fn(&InputKind) -> bool| schema.input.iter().find(|f| kind(&f.kind)).map(|f| f.lane);
        let bearing = first(|k| matches!(k, InputKind::Bearing { .. }));
        if let Some(lane) = first(|k| matches!(k, InputKind::Stick { .. })) {
            let (mut x, mut y) = self.stick;
            if bearing.is_none() {
                let (sin, cos) = (libm::sinf(self.facing), libm::cosf(self.facing));
                (x, y) = (y * cos + x * sin, y * sin - x * cos);
            }
            input.set_real(lane, x);
            input.set_real(lane + 1, y);
        }
        if let Some(lane) = bearing {
            input.set_real(lane, self.facing);
        }
        // A rule without a stick is steered: throttle ahead, rudder to the right.
        let axes = schema.input.iter().filter(|f| matches!(f.kind, InputKind::Axis { .. }));
        for (f, x) in axes.zip([self.stick.1, self.stick.0]) {
            input.set_real(f.lane, x);
        }
        let point = schema.input.iter().find(|f| matches!(f.kind, InputKind::Point { .. }));
        if let Some((field, (x, y))) = point.zip(self.order) {
            field.give(&mut input, vec3(x, y, 0.0));
        }
        if let Some(lane) = first(|k| matches!(k, InputKind::Held)) {
            input.set_flag(lane, self.sprint);
        }
        if let Some(lane) = first(|k| matches!(k, InputKind::Press)) {
            input.set_int(lane, self.hops);
        }
        input
    }
}

/// A place on a bot's route.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Waypoint {
    /// Where, in metres.
    pub at: (f32, f32),
    /// Whether to run there.
    pub sprint: bool,
    /// Whether to hop on the way, once.
    pub hop: bool,
    /// How long to stand there.
    pub wait: LabTime,
    /// On the way there, where it orders what it owns and what takes orders.
    pub order: Option<(f32, f32)>,
}

/// A script that walks a route, round and round.
#[derive(Clone, Debug, Default)]
pub struct Bot {
    next: usize,
    stand_until: LabTime,
    /// Nearest it has been to the next place, and when.
    nearest: Option<(f32, LabTime)>,
    hopped: bool,
    facing: Option<f32>,
    /// Where it last sent what is given orders: that holds while it waits.
    ordered: Option<(f32, f32)>,
    /// Places it has come to.
    reached: u64,
}

/// Near enough to a place to have reached it.
const REACHED_M: f32 = 0.6;
/// The same for what is steered and does not stop on a spot.
const REACHED_STEERED_M: f32 = 2.5;
/// Without getting nearer for so long, a bot gives the place up.
const GIVE_UP: LabTime = LabTime(2_500_000_000);
/// Hands do not know when a frame falls: after a wait they move up to so much later than it ends.
const LOOSE: LabTime = LabTime(20_000_000);
/// How fast eyes turn, in radians a frame of a sixtieth of a second.
const TURN: f32 = 0.09;

impl Bot {
    /// Leaves out the next place, so that the way there may lead through what the route goes around.
    pub fn cut_corner(&mut self) {
        let Self { next, facing, ordered, reached, .. } = *self;
        *self = Self { next: next + 1, facing, ordered, reached, ..Self::default() };
    }

    /// Until when it last stood: from then on its hands move.
    pub(crate) const fn stood_until(&self) -> LabTime {
        self.stand_until
    }

    /// The controls for a frame at `now`, given where the bot believes itself to be and what its rule reads. `luck` (0 to 1)
    /// says of each place reached how loose the hands are.
    pub fn controls(
        &mut self,
        route: &[Waypoint],
        now: LabTime,
        own: Option<&State>,
        schema: &Schema,
        luck: impl Fn(u64) -> f64,
    ) -> Controls {
        let Some(own) = own else { return Controls::default() };
        let Some(place) = route.get(self.next % route.len().max(1)) else { return Controls::default() };
        let at: Vec3 = own.vec3(0);
        let (dx, dy) = (place.at.0 - at.x, place.at.1 - at.y);
        let distance = libm::sqrtf(dx * dx + dy * dy);
        let wanted = libm::atan2f(dy, dx);
        let steered = !schema.input.iter().any(|f| matches!(f.kind, InputKind::Stick { .. }))
            && schema.input.iter().any(|f| matches!(f.kind, InputKind::Axis { .. }));
        let turned = match schema.bearing_lane().filter(|_| steered) {
            // What is steered looks where its bow points.
            Some(bow) => own.real(bow),
            None => {
                let facing = *self.facing.get_or_insert(wanted);
                wrap_angle(facing + wrap_angle(wanted - facing).clamp(-TURN, TURN))
            }
        };
        self.facing = Some(turned);
        let standing = Controls { facing: turned, order: self.ordered, ..Controls::default() };

        if now < self.stand_until {
            return standing;
        }
        let stuck = match self.nearest {
            Some((nearest, since)) if distance > nearest - 0.05 => now.minus(GIVE_UP) > since,
            _ => {
                self.nearest = Some((distance, now));
                false
            }
        };
        if distance < if steered { REACHED_STEERED_M } else { REACHED_M } || stuck {
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
            return standing;
        }
        let takes_orders = schema.input.iter().any(|f| matches!(f.kind, InputKind::Point { .. }));
        self.ordered = place.order.or(if takes_orders { Some(place.at) } else { self.ordered });
        // The way to go, seen from where the eyes point.
        let off = wrap_angle(wanted - turned);
        if steered {
            // Hard over when it lies abeam; slower the more there is to turn, but never without way on.
            let rudder = (-off * 1.4).clamp(-1.0, 1.0);
            let ahead = velocitas_core::max(libm::cosf(off), 0.35);
            let pace = if place.sprint { 1.0 } else { 0.7 };
            return Controls { stick: (rudder, ahead * pace), order: self.ordered, ..standing };
        }
        let hops = u32::from(place.hop && !self.hopped && distance < 3.0);
        self.hopped |= hops > 0;
        Controls {
            stick: (-libm::sinf(off), libm::cosf(off)),
            sprint: place.sprint,
            hops,
            facing: turned,
            order: self.ordered,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_core::walker::{Walker, input_lane};
    use velocitas_core::{InputField, Motion, vec3};

    const EAST: Waypoint =
        Waypoint { at: (10.0, 0.0), sprint: true, hop: true, wait: LabTime(500_000_000), order: None };
    const HOME: Waypoint = Waypoint { at: (0.0, 0.0), sprint: false, hop: false, wait: LabTime::ZERO, order: None };

    /// Hands that are not loose at all.
    fn even(_: u64) -> f64 {
        0.0
    }

    fn feet() -> Schema {
        Walker::new().schema().clone()
    }

    fn at(x: f32, y: f32) -> State {
        Walker::new().spawn(vec3(x, y, 0.0), 0.0)
    }

    #[test]
    fn controls_find_their_fields_in_any_schema() {
        let walker = Walker::new();
        let controls = Controls { stick: (0.5, -1.0), facing: 0.7, sprint: true, hops: 2, order: None };
        let input = controls.to_input(walker.schema());
        assert_eq!((input.real(input_lane::MOVE), input.real(input_lane::MOVE + 1)), (0.5, -1.0));
        assert_eq!((input.flag(input_lane::SPRINT), input.int(input_lane::HOP)), (true, 2));
        // A rule without a bearing gets the stick already turned: ahead, looking north, is north.
        let stick = InputField { name: "push", lane: 0, kind: InputKind::Stick { bits: 7 } };
        let schema = Schema { input: vec![stick], ..Schema::default() };
        let north = Controls { stick: (0.0, 1.0), facing: std::f32::consts::FRAC_PI_2, ..Controls::default() };
        let input = north.to_input(&schema);
        assert!(input.real(0).abs() < 1e-6 && (input.real(1) - 1.0).abs() < 1e-6);
    }

    #[test]
    fn a_bot_goes_waits_where_it_should_and_goes_on() {
        let mut bot = Bot::default();
        let route = [EAST, HOME];
        let going = bot.controls(&route, LabTime::ZERO, Some(&at(0.0, 0.0)), &feet(), even);
        assert!(going.sprint && going.stick.1 > 0.99);
        let near = bot.controls(&route, LabTime::from_secs(1.0), Some(&at(8.0, 0.0)), &feet(), even);
        assert_eq!(near.hops, 1);
        let again = bot.controls(&route, LabTime::from_secs(1.1), Some(&at(8.5, 0.0)), &feet(), even);
        assert_eq!(again.hops, 0, "one hop on the way");
        bot.controls(&route, LabTime::from_secs(1.5), Some(&at(9.9, 0.0)), &feet(), even);
        let waiting = bot.controls(&route, LabTime::from_secs(1.8), Some(&at(9.9, 0.0)), &feet(), even);
        assert_eq!(waiting.stick, (0.0, 0.0));
        let back = bot.controls(&route, LabTime::from_secs(2.2), Some(&at(9.9, 0.0)), &feet(), even);
        assert!(!back.sprint && back.stick != (0.0, 0.0));
    }

    #[test]
    fn a_bot_that_is_stuck_gives_the_place_up() {
        let mut bot = Bot::default();
        let route = [EAST, HOME];
        let stuck = at(4.0, 3.0);
        let mut turned_back = None;
        for tenth in 0..60 {
            let now = LabTime::from_secs(f64::from(tenth) / 10.0);
            if !bot.controls(&route, now, Some(&stuck), &feet(), even).sprint && turned_back.is_none() && tenth > 0 {
                turned_back = Some(tenth);
            }
        }
        assert!(turned_back.is_some_and(|t| (24..30).contains(&t)), "{turned_back:?}");
    }

    #[test]
    fn who_has_no_route_or_no_body_yet_rests() {
        let mut bot = Bot::default();
        assert_eq!(bot.controls(&[], LabTime::ZERO, Some(&at(0.0, 0.0)), &feet(), even), Controls::default());
        assert_eq!(bot.controls(&[EAST], LabTime::ZERO, None, &feet(), even), Controls::default());
    }

    fn helm() -> Schema {
        let axis = |name, lane| InputField { name, lane, kind: InputKind::Axis { bits: 7 } };
        let mut schema = Walker::new().schema().clone();
        schema.input = vec![axis("throttle", 0), axis("rudder", 1)];
        schema
    }

    #[test]
    fn axes_are_throttle_and_rudder_and_a_point_is_an_order() {
        let controls = Controls { stick: (-0.5, 0.75), order: Some((3.0, -4.0)), ..Controls::default() };
        let input = controls.to_input(&helm());
        assert_eq!((input.real(0), input.real(1)), (0.75, -0.5), "ahead is throttle, right is rudder");
        let point = InputField { name: "to", lane: 2, kind: InputKind::Point { bits: 14 } };
        let schema = Schema { input: vec![point], ..Schema::default() };
        let ordered = controls.to_input(&schema);
        assert_eq!((ordered.vec3(2), ordered.flag(5)), (vec3(3.0, -4.0, 0.0), true));
        let resting = Controls { order: None, ..controls };
        assert_eq!(resting.to_input(&schema), Input::default());
    }

    #[test]
    fn what_is_steered_turns_its_bow_to_the_place_and_keeps_way_on() {
        let route = [Waypoint { at: (0.0, 50.0), sprint: true, ..HOME }];
        let steer = |bow: f32| {
            let mut state = at(0.0, 0.0);
            state.set_real(velocitas_core::walker::state_lane::FACING, bow);
            Bot::default().controls(&route, LabTime::ZERO, Some(&state), &helm(), even).stick
        };
        use std::f32::consts::{FRAC_PI_2, PI};
        let (north, east, west, south) = (FRAC_PI_2, 0.0, PI, -FRAC_PI_2);
        assert!(steer(north).0.abs() < 1e-3 && steer(north).1 > 0.99, "straight on at full ahead");
        assert!(steer(east).0 < -0.9 && steer(west).0 > 0.9, "to port when it lies to port");
        assert!([east, west, south].iter().all(|&bow| steer(bow).1 >= 0.35), "never without way on");
        // Near enough is nearer for feet than for a hull.
        let near = |schema: &Schema| {
            let mut bot = Bot::default();
            bot.controls(&route, LabTime::ZERO, Some(&at(0.0, 48.0)), schema, even).stick
        };
        assert_eq!(near(&helm()), (0.0, 0.0));
        assert_ne!(near(&feet()), (0.0, 0.0));
    }
}
