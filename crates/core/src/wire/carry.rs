//! Where something is that went on as it did: what a receiver expects, so that only the difference has to travel.
//!
//! Of what both ends have and of nothing else: the codes that travelled, the layout, the tick rate. A rule is not asked, as it, its tunables and the
//! ground may differ on one side.

use crate::plan::Carried;

/// Ticks between two moments, as time.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Span {
    seconds: f32,
}

impl Span {
    /// So many ticks of `dt` seconds.
    pub(crate) fn new(ticks: u32, dt: f32) -> Self {
        Self { seconds: ticks as f32 * dt }
    }
}

/// Steps by which a position lies further on, where twice the mean velocity is so many steps.
pub(crate) fn carried(carried: &Carried, twice: i32, span: Span) -> i32 {
    let steps = twice as f32 * carried.steps * span.seconds;
    // To the nearest, halves away from nought.
    let whole = steps as i32;
    let rest = steps - whole as f32;
    whole.wrapping_add(i32::from(rest >= 0.5)).wrapping_sub(i32::from(rest <= -0.5))
}

/// A lane of a position that lies further on, exactly: at `before`, with a velocity of `from` there and of `to` now.
pub(crate) fn carried_exactly(before: f32, (from, to): (f32, f32), span: Span) -> f32 {
    before + (from + to) * 0.5 * span.seconds
}

/// As a whole number whose order is that of the reals: neighbours differ by one.
pub(crate) const fn ordered(bits: u32) -> u32 {
    if bits >> 31 == 0 { bits | 1 << 31 } else { !bits }
}

/// The bits of the real of that number.
pub(crate) const fn unordered(number: u32) -> u32 {
    if number >> 31 == 0 { !number } else { number & !(1 << 31) }
}
