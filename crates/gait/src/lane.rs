//! What a register holds, of one entity or of a row of them, and arithmetic on it.

use velocitas_core::max;

use crate::arithmetic::{abs, div, sqrt, truth};

/// Entities run in one row.
pub(crate) const ROW: usize = 8;

/// A register: one number, or one for each entity of a row.
pub(crate) trait Lane: Copy {
    /// How many.
    const WIDTH: usize;
    fn splat(x: f32) -> Self;
    fn get(&self, i: usize) -> f32;
    fn set(&mut self, i: usize, x: f32);
    fn map(self, f: impl Fn(f32) -> f32) -> Self;
    fn zip(self, b: Self, f: impl Fn(f32, f32) -> f32) -> Self;
    fn zip3(self, b: Self, c: Self, f: impl Fn(f32, f32, f32) -> f32) -> Self;
}

impl Lane for f32 {
    const WIDTH: usize = 1;
    #[inline(always)]
    fn splat(x: f32) -> Self {
        x
    }
    #[inline(always)]
    fn get(&self, _: usize) -> f32 {
        *self
    }
    #[inline(always)]
    fn set(&mut self, _: usize, x: f32) {
        *self = x;
    }
    #[inline(always)]
    fn map(self, f: impl Fn(f32) -> f32) -> Self {
        f(self)
    }
    #[inline(always)]
    fn zip(self, b: Self, f: impl Fn(f32, f32) -> f32) -> Self {
        f(self, b)
    }
    #[inline(always)]
    fn zip3(self, b: Self, c: Self, f: impl Fn(f32, f32, f32) -> f32) -> Self {
        f(self, b, c)
    }
}

/// A row of numbers.
#[derive(Clone, Copy)]
#[repr(align(32))]
pub(crate) struct Row(pub(crate) [f32; ROW]);

impl Lane for Row {
    const WIDTH: usize = ROW;
    #[inline(always)]
    fn splat(x: f32) -> Self {
        Self([x; ROW])
    }
    #[inline(always)]
    fn get(&self, i: usize) -> f32 {
        self.0[i]
    }
    #[inline(always)]
    fn set(&mut self, i: usize, x: f32) {
        self.0[i] = x;
    }
    #[inline(always)]
    fn map(self, f: impl Fn(f32) -> f32) -> Self {
        let mut out = self;
        for x in &mut out.0 {
            *x = f(*x);
        }
        out
    }
    #[inline(always)]
    fn zip(self, b: Self, f: impl Fn(f32, f32) -> f32) -> Self {
        let mut out = self;
        for i in 0..ROW {
            out.0[i] = f(self.0[i], b.0[i]);
        }
        out
    }
    #[inline(always)]
    fn zip3(self, b: Self, c: Self, f: impl Fn(f32, f32, f32) -> f32) -> Self {
        let mut out = self;
        for i in 0..ROW {
            out.0[i] = f(self.0[i], b.0[i], c.0[i]);
        }
        out
    }
}

#[inline(always)]
pub(super) fn add<L: Lane>(a: L, b: L) -> L {
    a.zip(b, |a, b| a + b)
}

#[inline(always)]
pub(super) fn sub<L: Lane>(a: L, b: L) -> L {
    a.zip(b, |a, b| a - b)
}

#[inline(always)]
pub(super) fn mul<L: Lane>(a: L, b: L) -> L {
    a.zip(b, |a, b| a * b)
}

#[inline(always)]
pub(super) fn dot<L: Lane, const K: usize>(a: [L; K], b: [L; K]) -> L {
    let mut sum = mul(a[0], b[0]);
    for i in 1..K {
        sum = add(sum, mul(a[i], b[i]));
    }
    sum
}

/// `from` moved towards `to` by at most `most`; not at all if that is nothing or less.
#[inline(always)]
pub(super) fn toward<L: Lane, const K: usize>(from: [L; K], to: [L; K], most: L) -> [L; K] {
    let mut gap = from;
    for i in 0..K {
        gap[i] = sub(to[i], from[i]);
    }
    let length = if K == 1 { gap[0].map(abs) } else { dot(gap, gap).map(libm::sqrtf) };
    let share = most.zip(length, |most, length| if most > 0.0 { most / length } else { 0.0 });
    let mut out = to;
    for i in 0..K {
        let part = add(from[i], mul(gap[i], share));
        let near = length.zip(most, |length, most| truth(length <= most));
        out[i] = near.zip3(to[i], part, |near, to, part| if near != 0.0 { to } else { part });
    }
    out
}

#[inline(always)]
pub(super) fn unit<L: Lane, const K: usize>(v: [L; K]) -> [L; K] {
    let length = dot(v, v).map(sqrt);
    v.map(|x| x.zip(length, div))
}

#[inline(always)]
pub(super) fn shorten<L: Lane, const K: usize>(v: [L; K], most: L) -> [L; K] {
    let share =
        dot(v, v).map(sqrt).zip(most, |length, most| if length > most { div(max(most, 0.0), length) } else { 1.0 });
    v.map(|x| mul(x, share))
}

/// A stick by a bearing: ahead is where the bearing points; longer than 1 is cut to 1.
#[inline(always)]
pub(super) fn turn_stick<L: Lane>([x, y]: [L; 2], sin: L, cos: L) -> [L; 2] {
    let world = [add(mul(y, cos), mul(x, sin)), sub(mul(y, sin), mul(x, cos))];
    let length = dot(world, world).map(libm::sqrtf);
    let share = length.map(|l| if l > 1.0 { 1.0 / l } else { 1.0 });
    world.map(|x| mul(x, share))
}

#[inline(always)]
pub(super) fn sin_cos<L: Lane>(angle: L) -> (L, L) {
    let (mut sin, mut cos) = (angle, angle);
    for i in 0..L::WIDTH {
        let (s, c) = libm::sincosf(angle.get(i));
        sin.set(i, s);
        cos.set(i, c);
    }
    (sin, cos)
}
