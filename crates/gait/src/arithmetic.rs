//! What every operation means, once: the folder and the machine both calculate with these.
//!
//! Everything is defined. A division by zero gives 0; the root of a negative number is 0; what overflows becomes
//! infinite, and a step that leaves an infinity or a NaN in a state is rejected whole. Rounding is that of `f32` (IEEE
//! 754 binary32), operation by operation; transcendental functions come from a pinned `libm`.

use crate::syntax::Op;

/// True or false as a number.
pub(crate) fn truth(t: bool) -> f32 {
    if t { 1.0 } else { 0.0 }
}

/// The quotient; 0 when dividing by 0.
pub(crate) fn div(a: f32, b: f32) -> f32 {
    if b == 0.0 { 0.0 } else { a / b }
}

/// Without its sign.
pub(crate) const fn abs(x: f32) -> f32 {
    f32::from_bits(x.to_bits() & 0x7fff_ffff)
}

/// −1, 0 or 1; 0 for NaN.
pub(crate) fn sign(x: f32) -> f32 {
    if x > 0.0 {
        1.0
    } else if x < 0.0 {
        -1.0
    } else {
        0.0
    }
}

/// The root; 0 of what has none.
pub(crate) fn sqrt(x: f32) -> f32 {
    if x > 0.0 { libm::sqrtf(x) } else { 0.0 }
}

/// A two-sided operator on numbers.
pub(crate) fn binary(op: Op, a: f32, b: f32) -> f32 {
    match op {
        Op::Add => a + b,
        Op::Sub => a - b,
        Op::Mul => a * b,
        Op::Div => div(a, b),
        Op::Less => truth(a < b),
        Op::LessEqual => truth(a <= b),
        Op::More => truth(a > b),
        Op::MoreEqual => truth(a >= b),
        Op::Equal => truth(a == b),
        Op::NotEqual => truth(a != b),
        Op::And => truth(a != 0.0 && b != 0.0),
        Op::Or => truth(a != 0.0 || b != 0.0),
    }
}
