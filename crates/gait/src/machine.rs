//! Running a program: one entity, or several in step.
//!
//! The interpreter is written once, over [`Lane`]: a plain `f32`, or a row of them, one for each entity. Each operation
//! then costs its dispatch once for the whole row. Both give the same bits. Registers live on the stack; nothing is
//! allocated.

use velocitas_core::{
    Body, Contacts, Ground, INPUT_LANES, Input, Lanes, STATE_LANES, Scene, Slide, State, Step, Vec3, canonical_bits,
    clamp, max, min, mix, mix_angle, slide, vec3, wrap_angle,
};

use crate::arithmetic::{abs, div, sign, sqrt, truth};
use crate::lane::{Lane, ROW, Row, add, dot, mul, shorten, sin_cos, sub, toward, turn_stick, unit};
use crate::program::{Code, LaneKind, Op, Program, REGISTERS};

/// What operations may ask besides registers, and what they leave behind.
struct World<'a, const W: usize> {
    ground: &'a Ground,
    body: &'a Body,
    contacts: [Contacts; W],
    /// Entities that exist; the rest of the row is filled up.
    active: usize,
    /// Operations run.
    ran: u32,
}

/// N registers. N is a power of two, so that no index is out of bounds.
struct Registers<L, const N: usize>([L; N]);

impl<L: Lane, const N: usize> Registers<L, N> {
    #[inline(always)]
    fn get(&self, r: u8) -> L {
        self.0[usize::from(r) & (N - 1)]
    }

    #[inline(always)]
    fn set(&mut self, r: u8, x: L) {
        self.0[usize::from(r) & (N - 1)] = x;
    }

    #[inline(always)]
    fn two(&self, r: u8) -> [L; 2] {
        [self.get(r), self.get(r.wrapping_add(1))]
    }

    #[inline(always)]
    fn three(&self, r: u8) -> [L; 3] {
        [self.get(r), self.get(r.wrapping_add(1)), self.get(r.wrapping_add(2))]
    }

    #[inline(always)]
    fn set_all<const K: usize>(&mut self, r: u8, x: [L; K]) {
        for (i, x) in x.into_iter().enumerate() {
            self.set(r.wrapping_add(i as u8), x);
        }
    }

    fn vec3(&self, r: u8, i: usize) -> Vec3 {
        let [x, y, z] = self.three(r);
        vec3(x.get(i), y.get(i), z.get(i))
    }

    fn set_lane(&mut self, r: u8, i: usize, x: f32) {
        self.0[usize::from(r) & (N - 1)].set(i, x);
    }

    fn set_vec3(&mut self, r: u8, i: usize, v: Vec3) {
        self.set_lane(r, i, v.x);
        self.set_lane(r.wrapping_add(1), i, v.y);
        self.set_lane(r.wrapping_add(2), i, v.z);
    }
}

fn run<L: Lane, const N: usize, const W: usize>(ops: &[Op], r: &mut Registers<L, N>, world: &mut World<'_, W>) {
    let mut rest = ops.iter();
    while let Some(op) = rest.next() {
        if cfg!(test) {
            world.ran += 1;
        }
        // Looked at one by one, where they are wanted: taken apart at once they cost more than most operations.
        let Op { code, to, a, b, c } = op;
        match code {
            Code::Move => r.set(*to, r.get(*a)),
            Code::Add => r.set(*to, add(r.get(*a), r.get(*b))),
            Code::Sub => r.set(*to, sub(r.get(*a), r.get(*b))),
            Code::Mul => r.set(*to, mul(r.get(*a), r.get(*b))),
            Code::Div => r.set(*to, r.get(*a).zip(r.get(*b), div)),
            Code::Negate => r.set(*to, r.get(*a).map(|x| -x)),
            Code::Not => r.set(*to, r.get(*a).map(|x| truth(x == 0.0))),
            Code::And => r.set(*to, r.get(*a).zip(r.get(*b), |a, b| truth(a != 0.0 && b != 0.0))),
            Code::Or => r.set(*to, r.get(*a).zip(r.get(*b), |a, b| truth(a != 0.0 || b != 0.0))),
            Code::Less => r.set(*to, r.get(*a).zip(r.get(*b), |a, b| truth(a < b))),
            Code::LessEqual => r.set(*to, r.get(*a).zip(r.get(*b), |a, b| truth(a <= b))),
            Code::Equal => r.set(*to, r.get(*a).zip(r.get(*b), |a, b| truth(a == b))),
            Code::NotEqual => r.set(*to, r.get(*a).zip(r.get(*b), |a, b| truth(a != b))),
            Code::Select => r.set(*to, r.get(*c).zip3(r.get(*a), r.get(*b), |c, a, b| if c != 0.0 { a } else { b })),
            Code::Min => r.set(*to, r.get(*a).zip(r.get(*b), min)),
            Code::Max => r.set(*to, r.get(*a).zip(r.get(*b), max)),
            Code::Clamp => r.set(*to, r.get(*a).zip3(r.get(*b), r.get(*c), clamp)),
            Code::Abs => r.set(*to, r.get(*a).map(abs)),
            Code::Sign => r.set(*to, r.get(*a).map(sign)),
            Code::Sin => r.set(*to, r.get(*a).map(libm::sinf)),
            Code::Cos => r.set(*to, r.get(*a).map(libm::cosf)),
            Code::Atan2 => r.set(*to, r.get(*a).zip(r.get(*b), libm::atan2f)),
            Code::Sqrt => r.set(*to, r.get(*a).map(sqrt)),
            Code::Wrap => r.set(*to, r.get(*a).map(wrap_angle)),
            Code::Fade => r.set(*to, r.get(*a).zip(r.get(*b), |rate, dt| libm::expf(-(max(rate, 0.0) * dt)))),
            Code::Mix => r.set(*to, r.get(*a).zip3(r.get(*b), r.get(*c), |a, b, t| mix(a, b, clamp(t, 0.0, 1.0)))),
            Code::MixAngle => {
                r.set(*to, r.get(*a).zip3(r.get(*b), r.get(*c), |a, b, t| mix_angle(a, b, clamp(t, 0.0, 1.0))));
            }
            Code::Toward => r.set_all(*to, toward([r.get(*a)], [r.get(*b)], r.get(*c))),
            Code::Toward2 => r.set_all(*to, toward(r.two(*a), r.two(*b), r.get(*c))),
            Code::Toward3 => r.set_all(*to, toward(r.three(*a), r.three(*b), r.get(*c))),
            Code::TowardAngle => r.set(*to, r.get(*a).zip3(r.get(*b), r.get(*c), toward_angle)),
            Code::Dot2 => r.set(*to, dot(r.two(*a), r.two(*b))),
            Code::Dot3 => r.set(*to, dot(r.three(*a), r.three(*b))),
            Code::Cross2 => {
                let ([ax, ay], [bx, by]) = (r.two(*a), r.two(*b));
                r.set(*to, sub(mul(ax, by), mul(ay, bx)));
            }
            Code::Cross3 => {
                let ([ax, ay, az], [bx, by, bz]) = (r.three(*a), r.three(*b));
                let out = [sub(mul(ay, bz), mul(az, by)), sub(mul(az, bx), mul(ax, bz)), sub(mul(ax, by), mul(ay, bx))];
                r.set_all(*to, out);
            }
            Code::Unit2 => r.set_all(*to, unit(r.two(*a))),
            Code::Unit3 => r.set_all(*to, unit(r.three(*a))),
            Code::Shorten2 => r.set_all(*to, shorten(r.two(*a), r.get(*b))),
            Code::Shorten3 => r.set_all(*to, shorten(r.three(*a), r.get(*b))),
            Code::TurnStick => {
                let (sin, cos) = sin_cos(r.get(*b));
                r.set_all(*to, turn_stick(r.two(*a), sin, cos));
            }
            Code::Turn2 => {
                let ((sin, cos), [x, y]) = (sin_cos(r.get(*b)), r.two(*a));
                r.set_all(*to, [sub(mul(x, cos), mul(y, sin)), add(mul(x, sin), mul(y, cos))]);
            }
            Code::Heading => {
                let (sin, cos) = sin_cos(r.get(*a));
                r.set_all(*to, [cos, sin]);
            }
            Code::Surface => {
                for i in 0..world.active {
                    let surface = world.ground.surface(r.vec3(*a, i));
                    r.set_lane(*to, i, surface.grip);
                    r.set_lane(*b, i, surface.pace);
                }
            }
            Code::Ahead => {
                let more = rest.next().unwrap_or(op);
                for i in 0..world.active {
                    let asked = r.get(more.c).get(i) != 0.0;
                    let found = if asked { ahead(world, r.vec3(*a, i), r.get(*b).get(i), r.vec3(*c, i)) } else { 0.0 };
                    r.set_lane(*to, i, found);
                }
            }
            Code::Slide => {
                let more = rest.next().unwrap_or(op);
                for i in 0..world.active {
                    if r.get(*c).get(i) != 0.0 {
                        slide_one(r, world, op, more, i);
                    }
                }
            }
            Code::More => {}
            Code::Repeat => {
                let (body, after) =
                    rest.as_slice().split_at_checked(usize::from(*a) + 256 * usize::from(*b)).unwrap_or_default();
                for _ in 0..*c {
                    run(body, r, world);
                }
                rest = after.iter();
            }
        }
    }
}

fn toward_angle(from: f32, to: f32, most: f32) -> f32 {
    let gap = wrap_angle(to - from);
    if abs(gap) <= most { wrap_angle(to) } else { wrap_angle(from + sign(gap) * max(most, 0.0)) }
}

/// How far the body can go.
fn ahead<const W: usize>(world: &World<'_, W>, way: Vec3, reach: f32, from: Vec3) -> f32 {
    let length = way.length();
    let reach = max(reach, 0.0);
    if length > 0.0 && length.is_finite() && reach.is_finite() && from.is_finite() {
        let to = from + way * (reach / length);
        world.ground.sweep(world.body, from, to).map_or(reach, |hit| hit.fraction * reach)
    } else {
        reach
    }
}

/// Moves one body by the mean of its velocity as the tick began and now.
///
/// A body that stood and does not rise goes on standing: gravity is met by the ground.
fn slide_one<L: Lane, const N: usize, const W: usize>(
    r: &mut Registers<L, N>,
    world: &mut World<'_, W>,
    op: &Op,
    more: &Op,
    i: usize,
) {
    let (from, mut end, mut start) = (r.vec3(op.to, i), r.vec3(op.a, i), r.vec3(op.b, i));
    // What was set without `kick` rises from the tick's end on: half of it counts in the tick itself.
    let stands = r.get(more.to).get(i) != 0.0 && start.z <= 0.0 && end.z <= 0.0;
    if stands {
        (start.z, end.z) = (0.0, 0.0);
    }
    let travel = (start + end) * (r.get(more.a).get(i) * 0.5);
    let moved = slide(world.ground, world.body, Slide { from, travel, velocity: end, grounded: stands });
    r.set_vec3(op.to, i, moved.position);
    r.set_vec3(op.a, i, moved.velocity);
    r.set_vec3(op.b, i, moved.velocity);
    r.set_lane(more.to, i, truth(moved.grounded));
    r.set_vec3(more.b, i, moved.normal);
    for id in moved.contacts.iter() {
        world.contacts[i].add(id);
    }
}

/// A real that came from outside: nothing but finite ones are believed.
#[inline(always)]
fn finite(bits: u32) -> f32 {
    let x = f32::from_bits(bits);
    if x.is_finite() { x } else { 0.0 }
}

/// A counter as a lane: whole numbers up to 2^24 are exact in a real.
fn counted(x: f32) -> u32 {
    clamp(libm::roundf(x), 0.0, 16_777_216.0) as u32
}

/// One lane of up to eight entities as a row.
#[inline(always)]
fn gather<const K: usize>(all: &[Lanes<K>], lane: usize, f: impl Fn(u32) -> f32) -> Row {
    let mut row = [0.0; ROW];
    for (x, lanes) in row.iter_mut().zip(all) {
        *x = f(lanes.bits()[lane % K]);
    }
    Row(row)
}

/// A row back into one lane of up to eight entities.
#[inline(always)]
fn scatter<const K: usize>(all: &mut [Lanes<K>], lane: usize, row: Row, f: impl Fn(f32) -> u32) {
    for (lanes, x) in all.iter_mut().zip(row.0) {
        lanes.set_int(lane % K, f(x));
    }
}

impl Program {
    #[inline(always)]
    fn load<L: Lane, const N: usize>(&self, r: &mut Registers<L, N>, scene: &Scene<'_>, defaults: &[f32]) {
        for (place, x) in r.0.iter_mut().zip(self.initial.iter()) {
            *place = L::splat(*x);
        }
        let given = if scene.tunables.len() >= defaults.len() { scene.tunables } else { defaults };
        let first = usize::from(self.tunes) & (N - 1);
        for (place, x) in r.0[first..].iter_mut().zip(&given[..defaults.len()]) {
            *place = L::splat(*x);
        }
        r.set(self.dt, L::splat(scene.dt));
    }

    /// Reads as many states and inputs as there are entities.
    #[inline(always)]
    fn take<const N: usize>(&self, r: &mut Registers<Row, N>, states: &[State], inputs: &[Input]) {
        for map in &self.inputs.maps {
            for k in 0..map.len {
                let lane = usize::from(map.lane + k);
                let x = match map.kind {
                    LaneKind::Flag => gather(inputs, lane, |bits| truth(bits != 0)),
                    LaneKind::Counter => gather(inputs, lane, |bits| bits as f32),
                    LaneKind::Unit => gather(inputs, lane, |bits| clamp(finite(bits), -1.0, 1.0)),
                    LaneKind::Real => gather(inputs, lane, finite),
                };
                r.set(map.register.wrapping_add(k), x);
            }
        }
        for map in &self.state.maps {
            for k in 0..map.len {
                let lane = usize::from(map.lane + k);
                let x = match map.kind {
                    LaneKind::Flag => gather(states, lane, |bits| truth(bits != 0)),
                    LaneKind::Counter => gather(states, lane, |bits| bits as f32),
                    _ => gather(states, lane, f32::from_bits),
                };
                r.set(map.register.wrapping_add(k), x);
            }
        }
        if let Some((velocity, begin)) = self.begin {
            r.set_all(begin, r.three(velocity));
        }
    }

    #[inline(always)]
    fn give<const N: usize>(&self, r: &Registers<Row, N>, states: &mut [State]) {
        states.fill(State::default());
        for map in &self.state.maps {
            for k in 0..map.len {
                let (lane, x) = (usize::from(map.lane + k), r.get(map.register.wrapping_add(k)));
                match map.kind {
                    LaneKind::Flag => scatter(states, lane, x, |x| u32::from(x != 0.0)),
                    LaneKind::Counter => scatter(states, lane, x, counted),
                    _ => scatter(states, lane, x, canonical_bits),
                }
            }
        }
    }

    /// Reads one state and input: all lanes at once, then those that are no plain reals.
    #[inline(always)]
    fn take_one<const N: usize>(&self, r: &mut Registers<f32, N>, state: &State, input: &Input) {
        let first = usize::from(self.inputs.first) & (N - 1);
        for (place, bits) in r.0[first..].iter_mut().zip(&input.bits()[..self.inputs.width]) {
            *place = finite(*bits);
        }
        for map in &self.inputs.special {
            let bits = input.bits()[usize::from(map.lane) % INPUT_LANES];
            let x = if map.kind == LaneKind::Unit { clamp(finite(bits), -1.0, 1.0) } else { truth(bits != 0) };
            r.set(map.register, x);
        }
        let first = usize::from(self.state.first) & (N - 1);
        for (place, bits) in r.0[first..].iter_mut().zip(&state.bits()[..self.state.width]) {
            *place = f32::from_bits(*bits);
        }
        for map in &self.state.special {
            let bits = state.bits()[usize::from(map.lane) % STATE_LANES];
            r.set(map.register, if map.kind == LaneKind::Counter { bits as f32 } else { truth(bits != 0) });
        }
        for lane in &self.state.holes {
            r.set(self.state.first.wrapping_add(*lane), 0.0);
        }
        if let Some((velocity, begin)) = self.begin {
            r.set_all(begin, r.three(velocity));
        }
    }

    #[inline(always)]
    fn give_one<const N: usize>(&self, r: &Registers<f32, N>) -> State {
        let mut bits = [0; STATE_LANES];
        let first = usize::from(self.state.first) & (N - 1);
        for (bits, x) in bits[..self.state.width].iter_mut().zip(&r.0[first..]) {
            *bits = canonical_bits(*x);
        }
        for map in &self.state.special {
            let x = r.get(map.register);
            bits[usize::from(map.lane) % STATE_LANES] =
                if map.kind == LaneKind::Counter { counted(x) } else { u32::from(x != 0.0) };
        }
        State::from_bits(bits)
    }

    /// One step of one entity, and in tests how many operations it took.
    pub(crate) fn step(&self, scene: &Scene<'_>, defaults: &[f32], body: &Body, s: &State, i: &Input) -> (Step, u32) {
        // A byte then names no register that is not there: clearing a few more costs less than to make sure.
        let mut r = Registers([0.0f32; REGISTERS]);
        self.load(&mut r, scene, defaults);
        self.take_one(&mut r, s, i);
        let mut world = World { ground: scene.ground, body, contacts: [Contacts::default()], active: 1, ran: 0 };
        run(&self.ops, &mut r, &mut world);
        let state = self.give_one(&r);
        (Step { state, contacts: world.contacts[0], teleported: false }, world.ran)
    }

    /// Rows one after the other. Constants, tunables and the tick's length are loaded once: no operation writes to them.
    fn rows<const N: usize>(&self, scene: &Scene<'_>, defaults: &[f32], body: &Body, s: &mut [State], i: &[Input]) {
        let mut r = Registers([Row([0.0; ROW]); N]);
        self.load(&mut r, scene, defaults);
        for (states, inputs) in s.chunks_mut(ROW).zip(i.chunks(ROW)) {
            let active = states.len().min(inputs.len());
            let states = &mut states[..active];
            self.take(&mut r, states, &inputs[..active]);
            if let Some(contact) = self.contact {
                r.set_all(contact, [Row([0.0; ROW]); 3]);
            }
            let mut world = World { ground: scene.ground, body, contacts: [Contacts::default(); ROW], active, ran: 0 };
            run(&self.ops, &mut r, &mut world);
            self.give(&r, states);
        }
    }

    /// One step of many entities of one rule, row by row: the same bits as one by one.
    pub(crate) fn step_many(&self, scene: &Scene<'_>, defaults: &[f32], body: &Body, s: &mut [State], i: &[Input]) {
        match self.initial.len() {
            0..=64 => self.rows::<64>(scene, defaults, body, s, i),
            65..=128 => self.rows::<128>(scene, defaults, body, s, i),
            _ => self.rows::<REGISTERS>(scene, defaults, body, s, i),
        }
    }

    /// The number in a register after running without a world: for limits, which read tunables only.
    pub(crate) fn number(&self, tunables: &[f32], defaults: &[f32], register: u8) -> f32 {
        let ground = Ground::flat(1.0);
        let scene = Scene { tick: velocitas_core::Tick(0), dt: 0.0, ground: &ground, tunables };
        let body = Body { radius: 0.1, height: 0.1, step: 0.0 };
        let mut r = Registers([0.0f32; REGISTERS]);
        self.load(&mut r, &scene, defaults);
        let mut world = World { ground: &ground, body: &body, contacts: [Contacts::default()], active: 1, ran: 0 };
        run(&self.ops, &mut r, &mut world);
        r.get(register)
    }
}
