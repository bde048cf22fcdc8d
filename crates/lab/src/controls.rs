//! What hands do, before any rule gives it meaning, and who moves them: a script or the keyboard.

use velocitas_core::{Input, InputKind, Schema, State, Vec3, wrap_angle};

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
}

/// Near enough to a place to have reached it.
const REACHED_M: f32 = 0.6;
/// Without getting nearer for so long, a bot gives the place up.
const GIVE_UP: LabTime = LabTime(2_500_000_000);
/// How fast eyes turn, in radians a frame of a sixtieth of a second.
const TURN: f32 = 0.09;

impl Bot {
    /// Leaves out the next place, so that the way there may lead through what the route goes around.
    pub fn cut_corner(&mut self) {
        *self = Self { next: self.next + 1, facing: self.facing, ..Self::default() };
    }

    /// The controls for a frame at `now`, given where the bot believes itself to be.
    pub fn controls(&mut self, route: &[Waypoint], now: LabTime, own: Option<&State>) -> Controls {
        let Some(own) = own else { return Controls::default() };
        let Some(place) = route.get(self.next % route.len().max(1)) else { return Controls::default() };
        let at: Vec3 = own.vec3(0);
        let (dx, dy) = (place.at.0 - at.x, place.at.1 - at.y);
        let distance = libm::sqrtf(dx * dx + dy * dy);
        let wanted = libm::atan2f(dy, dx);
        let facing = *self.facing.get_or_insert(wanted);
        let turned = wrap_angle(facing + wrap_angle(wanted - facing).clamp(-TURN, TURN));
        self.facing = Some(turned);
        let standing = Controls { facing: turned, ..Controls::default() };

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
        if distance < REACHED_M || stuck {
            *self = Self {
                next: (self.next + 1) % route.len(),
                stand_until: now.plus(if stuck { LabTime::ZERO } else { place.wait }),
                facing: self.facing,
                ..Self::default()
            };
            return standing;
        }
        // The way to go, seen from where the eyes point.
        let off = wrap_angle(wanted - turned);
        let hops = u32::from(place.hop && !self.hopped && distance < 3.0);
        self.hopped |= hops > 0;
        Controls { stick: (-libm::sinf(off), libm::cosf(off)), sprint: place.sprint, hops, facing: turned }
    }
}
