//! The world a body moves through: upright prisms, a floor, an edge, and surfaces.
//!
//! A [`Ground`] is built once and never changes; a machine that knows a different world is given a different ground.
//! Solids keep the same [`SolidId`] in every ground of a course, so that two machines' contacts can be compared.
//!
//! - [`sweep`](Ground::sweep) answers whether a body can go straight from here to there.
//! - [`slide()`] moves a body as far as it goes, along what it meets.
//!
//! A slide keeps a small distance from everything ([`SKIN`]), a sweep tests the body's true size: a move that was
//! found free is therefore found free again, from its end too, whatever the rounding.

mod cast;
mod contacts;
mod grid;
mod slide;
mod solid;
mod sweep;

pub use contacts::{Contacts, MOST_CONTACTS};
pub use slide::{Slid, Slide, slide};
pub use solid::{Bounds, SKIN, Solid, SolidId, Surface, Underfoot, Zone, touching};
pub use sweep::{Ground, Hit};

#[cfg(test)]
mod tests;
