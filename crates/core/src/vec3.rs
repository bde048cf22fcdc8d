//! Three reals: metres or metres a second. x is east, y is north, z is up.

use std::ops::{Add, AddAssign, Mul, Neg, Sub};

use serde::{Deserialize, Serialize};

/// A point or vector in a right-handed frame, z up.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Vec3 {
    /// East.
    pub x: f32,
    /// North.
    pub y: f32,
    /// Up.
    pub z: f32,
}

/// `Vec3 { x, y, z }`, shorter.
pub const fn vec3(x: f32, y: f32, z: f32) -> Vec3 {
    Vec3 { x, y, z }
}

impl Vec3 {
    /// The origin.
    pub const ZERO: Self = vec3(0.0, 0.0, 0.0);

    /// Scalar product.
    pub fn dot(self, other: Self) -> f32 {
        self.x * other.x + self.y * other.y + self.z * other.z
    }

    /// Euclidean length.
    pub fn length(self) -> f32 {
        libm::sqrtf(self.dot(self))
    }

    /// The same with z = 0.
    #[must_use]
    pub const fn level(self) -> Self {
        vec3(self.x, self.y, 0.0)
    }

    /// Distance to `other`.
    pub fn distance(self, other: Self) -> f32 {
        (self - other).length()
    }

    /// Whether all three are finite.
    pub fn is_finite(self) -> bool {
        self.x.is_finite() && self.y.is_finite() && self.z.is_finite()
    }

    /// From `self` to `other` by `t` in 0..1.
    #[must_use]
    pub fn mix(self, other: Self, t: f32) -> Self {
        use crate::float::mix;
        vec3(mix(self.x, other.x, t), mix(self.y, other.y, t), mix(self.z, other.z, t))
    }
}

impl Add for Vec3 {
    type Output = Self;
    fn add(self, o: Self) -> Self {
        vec3(self.x + o.x, self.y + o.y, self.z + o.z)
    }
}

impl AddAssign for Vec3 {
    fn add_assign(&mut self, o: Self) {
        *self = *self + o;
    }
}

impl Sub for Vec3 {
    type Output = Self;
    fn sub(self, o: Self) -> Self {
        vec3(self.x - o.x, self.y - o.y, self.z - o.z)
    }
}

impl Mul<f32> for Vec3 {
    type Output = Self;
    fn mul(self, k: f32) -> Self {
        vec3(self.x * k, self.y * k, self.z * k)
    }
}

impl Neg for Vec3 {
    type Output = Self;
    fn neg(self) -> Self {
        self * -1.0
    }
}
