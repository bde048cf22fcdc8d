//! Who was lawfully faster than is allowed now slows down as its rule has it slow down, and may until then.
//!
//! Less is allowed where a tunable was turned or a rule edited, where the ground is another, and to whoever came back, or took
//! something over, faster than it could have become here. From the tick at which its owner can know of it, the fastest that was
//! allowed before is stepped on by the rule itself, with whatever inputs keep it fastest: what comes of that is allowed, if it is
//! more than what is allowed anyway.

use std::sync::Arc;

use super::case::is_still;
use super::footing::stands;
use crate::data::{Input, State};
use crate::field::InputKind;
use crate::float::{clamp, max};
use crate::ground::{Bounds, Ground, Surface, Underfoot, Zone};
use crate::motion::{Limits, Motion, Scene, checked_step};
use crate::schema::Schema;
use crate::vec3::{Vec3, vec3};

/// Along the ground, up, down: what limits bound.
const AXES: usize = 3;
const LEVEL: usize = 0;
const UP: usize = 1;

/// How large the empty world is in which somebody slows down, in metres; and how high it is where it is in the air.
const WORLD: f32 = 1.0e6;
const HIGH: f32 = 1.0e5;

/// How far somebody may turn at once who stays fast, in radians: what is lost by that hardly changes in between.
const TURNS: [f32; 3] = [0.0, 0.55, 1.1];

/// For how many seconds its owner may have stood still whenever that cannot be told.
const LONGEST: f32 = 10.0;

/// What somebody is allowed beyond its limits.
#[derive(Clone, Debug, Default)]
pub struct Carry {
    /// What it was allowed in the claim before, and what may have been underfoot.
    before: Option<[f32; AXES]>,
    underfoot: Option<Underfoot>,
    /// For how many seconds more something counts as otherwise than before: over a hole what held before it is lawful as well, and of the
    /// state it then is in its owner may tell later.
    changed: f32,
    /// For how many seconds something has been allowed beyond each limit.
    lasts: [f32; AXES],
    /// Whether that is so for another reason than the state it is in.
    otherwise: bool,
    /// Whether it stood on something all through the claim before.
    stood: bool,
    slowing: [Option<Box<State>>; AXES],
    worlds: Worlds,
}

/// The circumstances of a claim.
#[derive(Clone, Copy)]
pub struct Going<'a> {
    /// What holds in its tick.
    pub scene: &'a Scene<'a>,
    /// The rule by which its owner moves.
    pub motion: &'a dyn Motion,
    /// The last state that was told before.
    pub before: &'a State,
    /// The one that is told now, if any is.
    pub told: Option<&'a State>,
    /// From where, and to where.
    pub way: (Vec3, Vec3),
    /// Ticks it took.
    pub ticks: u64,
    /// Whether rule, tunables or ground changed with this claim.
    pub changed: bool,
    /// What may have been underfoot.
    pub underfoot: &'a Underfoot,
}

impl Carry {
    /// Its owner was put somewhere, as fast as that state says.
    pub(super) fn clear(&mut self) {
        *self = Self { worlds: std::mem::take(&mut self.worlds), ..Self::default() };
    }

    /// Widens limits by what is still allowed. Gives back as fast as its owner may still be along the ground for another reason than the
    /// state it is in, 0 where that is nothing.
    pub fn widen(&mut self, going: &Going<'_>, limits: &mut Limits) -> f32 {
        self.changed = if going.changed { 1.0 } else { max(self.changed - going.ticks as f32 * going.scene.dt, 0.0) };
        let changed = self.changed > 0.0;
        let elsewhere = self.underfoot.replace(*going.underfoot) != Some(*going.underfoot);
        let now = [limits.level, limits.up, limits.down];
        // Who begins is as fast as the state says in which it begins.
        let begins = self.before.is_none();
        let before = self.before.unwrap_or_else(|| speeds(going));
        let mut all = now;
        let mut stands = None;
        // Who has just landed is in the air for one tick more.
        let stood = std::mem::take(&mut self.stood);
        for axis in 0..AXES {
            let otherwise = changed || elsewhere || begins;
            let slows = before[axis] > now[axis] && self.slowing[axis].is_none();
            let starts = slows && (otherwise || going.went(axis) > now[axis]);
            if starts {
                self.slowing[axis] = Some(Box::new(going.at(axis, before[axis])));
                self.lasts[axis] = 0.0;
            }
            let Some(mut slowing) = self.slowing[axis].take() else { continue };
            // Whoever slows down already may be overtaken by a change.
            self.otherwise |= otherwise;
            let was = going.speed(axis, &slowing);
            // Where it was put it may be in the air as well: that is no step of its own.
            self.stood =
                if going.is_still() { stood } else { going.ticks > 0 && *stands.get_or_insert_with(|| going.stands()) };
            // What makes it slow down may have come with the last of its ticks.
            let moved = if starts && going.ticks > 1 { 0 } else { self.moved(axis, going) };
            for _ in 0..moved {
                *slowing = going.slowed(axis, &slowing, stood && self.stood, &mut self.worlds);
            }
            let is = going.speed(axis, &slowing);
            // A tick's way is that of the mean of two speeds, or of the earlier.
            all[axis] = max(now[axis], max(was, is));
            if going.told.is_some() {
                // Which way it goes now, where to and on how much breath, is what it goes on with.
                *slowing = going.at(axis, is);
            }
            self.slowing[axis] = (is > now[axis]).then_some(slowing);
        }
        self.before = Some(all);
        [limits.level, limits.up, limits.down] = all;
        self.otherwise &= self.slowing[LEVEL].is_some();
        if self.otherwise { all[LEVEL] } else { 0.0 }
    }

    /// In how many of a claim's ticks its owner slowed down at least. A program that stood still went on afterwards as fast as it had
    /// been: that may be so of every tick in which nothing was sent, but not for ever.
    fn moved(&mut self, axis: usize, going: &Going<'_>) -> u64 {
        self.lasts[axis] += going.ticks as f32 * going.scene.dt;
        match going.told {
            _ if self.lasts[axis] > LONGEST => going.ticks,
            _ if going.is_still() => 0,
            _ => going.ticks.min(1),
        }
    }

    /// Something was added to its velocity: it may be faster by that.
    pub(super) fn push(&mut self, by: Vec3) {
        let Some(before) = &mut self.before else { return };
        let more = [by.level().length(), max(by.z, 0.0), max(-by.z, 0.0)];
        for (axis, more) in more.into_iter().enumerate() {
            before[axis] += more;
            self.slowing[axis] = None;
        }
        self.changed = 1.0;
    }
}

/// As fast as the state says in which somebody begins.
fn speeds(going: &Going<'_>) -> [f32; AXES] {
    let velocity = going.velocity(going.before);
    [velocity.level().length(), max(velocity.z, 0.0), max(-velocity.z, 0.0)]
}

impl Going<'_> {
    fn is_still(&self) -> bool {
        is_still(self.motion, self.told, self.way)
    }

    /// Whether it stands on something, before and after.
    fn stands(&self) -> bool {
        let stands = |at| stands(self.scene.ground, self.motion, at);
        stands(self.way.0) && stands(self.way.1)
    }

    fn velocity(&self, state: &State) -> Vec3 {
        self.motion.schema().velocity_lane().map_or(Vec3::ZERO, |lane| state.vec3(lane))
    }

    fn speed(&self, axis: usize, state: &State) -> f32 {
        let velocity = self.velocity(state);
        match axis {
            LEVEL => velocity.level().length(),
            UP => velocity.z,
            _ => -velocity.z,
        }
    }

    /// As fast as it claims to have gone.
    fn went(&self, axis: usize) -> f32 {
        let (went, seconds) = (self.way.1 - self.way.0, self.ticks as f32 * self.scene.dt);
        let went = match axis {
            LEVEL => went.level().length(),
            UP => went.z,
            _ => -went.z,
        };
        if seconds > 0.0 { went / seconds } else { 0.0 }
    }

    /// Somebody as it was told, but at this speed.
    fn at(&self, axis: usize, speed: f32) -> State {
        let mut state = *self.told.unwrap_or(self.before);
        let Some(lane) = self.motion.schema().velocity_lane() else { return state };
        let mut velocity = state.vec3(lane);
        match axis {
            LEVEL => {
                let told = velocity.level();
                let way = if told.length() > 0.1 { told } else { (self.way.1 - self.way.0).level() };
                let way = if way.length() > 1e-6 { way * (1.0 / way.length()) } else { vec3(1.0, 0.0, 0.0) };
                velocity = vec3(way.x * speed, way.y * speed, velocity.z);
            }
            UP => velocity.z = speed,
            _ => velocity.z = -speed,
        }
        state.set_vec3(lane, velocity);
        state
    }

    /// A tick later, with those inputs and on that ground on which it is fastest.
    fn slowed(&self, axis: usize, state: &State, stands: bool, worlds: &mut Worlds) -> State {
        let schema = self.motion.schema();
        let velocity = self.velocity(state).level();
        let ahead = if velocity.length() > 1e-6 { velocity * (1.0 / velocity.length()) } else { vec3(1.0, 0.0, 0.0) };
        // Who turns while it is too fast loses less of its speed by that.
        let turned = |turn: &f32| {
            let (sin, cos) = (libm::sinf(*turn), libm::cosf(*turn));
            vec3(ahead.x * cos - ahead.y * sin, ahead.x * sin + ahead.y * cos, 0.0)
        };
        let turns = if axis == LEVEL { &TURNS[..] } else { &TURNS[..1] };
        let mut all = vec![Input::default()];
        turns.iter().for_each(|turn| inputs(schema, turned(turn), state.vec3(0), &mut all));
        let in_the_air = (axis != LEVEL || !stands).then_some(None);
        let surface = |i: usize| Surface { grip: self.underfoot.grip[i], pace: self.underfoot.pace[i] };
        let (one, other) = (surface(0), surface(1));
        // Of one surface once is enough.
        let on_ground = std::iter::once(one).chain((other != one).then_some(other));
        let on_ground = on_ground.filter(|_| axis == LEVEL).map(Some);
        let mut best: Option<State> = None;
        for surface in in_the_air.into_iter().chain(on_ground) {
            let ground = worlds.of(surface);
            for next in all.iter().filter_map(|input| self.stepped(state, input, ground, surface.is_some())) {
                if best.is_none_or(|best| self.speed(axis, &best) < self.speed(axis, &next)) {
                    best = Some(next);
                }
            }
        }
        let mut next = best.unwrap_or(*state);
        // Where it is does not matter; goals that are places stay as far away as they are.
        next.set_vec3(0, state.vec3(0));
        next
    }

    /// A tick later, on that floor or in the air above it.
    fn stepped(&self, state: &State, input: &Input, ground: &Ground, stands: bool) -> Option<State> {
        let scene = Scene { ground, ..*self.scene };
        let (mut from, at) = (*state, state.vec3(0));
        from.set_vec3(0, vec3(at.x, at.y, if stands { 0.0 } else { HIGH }));
        if let Some(lane) = self.motion.schema().grounded_lane() {
            from.set_flag(lane, stands);
        }
        checked_step(self.motion, &scene, &from, input).ok().map(|step| step.state)
    }
}

/// Worlds of nothing but a floor, by what it is of: few are asked for, again and again.
#[derive(Clone, Debug, Default)]
struct Worlds(Vec<(Option<Surface>, Arc<Ground>)>);

impl Worlds {
    /// How many are kept.
    const MOST: usize = 4;

    fn of(&mut self, surface: Option<Surface>) -> &Ground {
        if let Some(place) = self.0.iter().position(|(of, _)| *of == surface) {
            return &self.0[place].1;
        }
        self.0.truncate(Self::MOST - 1);
        self.0.insert(0, (surface, Arc::new(empty(surface))));
        &self.0[0].1
    }
}

/// A world of nothing but a floor.
fn empty(surface: Option<Surface>) -> Ground {
    let bounds = Bounds { min: (-WORLD, -WORLD), max: (WORLD, WORLD), floor: 0.0 };
    let zone = |surface| Zone { min: bounds.min, max: bounds.max, surface };
    Ground::new(bounds, Vec::new(), surface.map(zone).into_iter().collect())
}

/// What hands could give to stay fast, each once: all there is that way, by each kind of input.
fn inputs(schema: &Schema, way: Vec3, at: Vec3, all: &mut Vec<Input>) {
    let bearing = libm::atan2f(way.y, way.x);
    let count = |is: fn(&InputKind) -> bool| schema.input.iter().filter(|f| is(&f.kind)).count();
    let sticks = count(|kind| matches!(kind, InputKind::Stick { .. })) > 0;
    let keys = count(|kind| matches!(kind, InputKind::Held));
    let axes = count(|kind| matches!(kind, InputKind::Axis { .. }));
    let mut give = |stick: (f32, f32), bearing: f32, held: Held, pressed: bool, axes: &dyn Fn(usize) -> f32| {
        let mut input = Input::default();
        let (mut axis, mut key) = (0, 0);
        for f in &schema.input {
            match f.kind {
                InputKind::Stick { .. } => {
                    input.set_real(f.lane, stick.0);
                    input.set_real(f.lane + 1, stick.1);
                }
                InputKind::Bearing { .. } => input.set_real(f.lane, bearing),
                InputKind::Pitch { .. } => {}
                InputKind::Axis { .. } => {
                    input.set_real(f.lane, clamp(axes(axis), -1.0, 1.0));
                    axis += 1;
                }
                InputKind::Held => {
                    input.set_flag(f.lane, held == Held::All || held == Held::One(key));
                    key += 1;
                }
                InputKind::Press => input.set_int(f.lane, u32::from(pressed)),
                InputKind::Point { .. } => f.give(&mut input, at + way * 1000.0),
            }
        }
        let input = schema.round_input(&input);
        if !all.contains(&input) {
            all.push(input);
        }
    };
    let none = |_: usize| 0.0;
    // One key may brake and another hasten.
    let alone = (0..keys).filter(|_| keys > 1).map(Held::One);
    for held in [Held::None, Held::All].into_iter().chain(alone) {
        if sticks {
            // As the world has it, or to the right and ahead of where the eyes point.
            give((way.x, way.y), 0.0, held, false, &none);
            give((0.0, 1.0), bearing, held, false, &none);
            give((0.0, 1.0), bearing, held, true, &none);
        } else {
            give((0.0, 0.0), bearing, held, false, &none);
            give((0.0, 0.0), bearing, held, true, &none);
        }
    }
    for axis in 0..axes {
        for sign in [-1.0, 1.0] {
            give((0.0, 1.0), bearing, Held::All, false, &|i| if i == axis { sign } else { 0.0 });
        }
    }
}

/// Which keys are down.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Held {
    None,
    All,
    One(usize),
}
