//! What a receiver is told, and what of it has arrived.
//!
//! News is told until it is known to have come. States are told whole, or against the newest snapshot that is known to have come: what both ends
//! [have](has::Has) of it are the whole numbers that travelled.

mod body;
mod chances;
mod coded;
mod coder;
mod delta;
mod has;
mod moment;
mod range;
mod receiver;
mod trained;
mod trial;
mod unacknowledged;

#[cfg(test)]
mod tests;
#[cfg(test)]
mod train;

pub(crate) use body::Telling;
pub(crate) use has::{Baselines, Had, Has};
pub(crate) use moment::{Moment, ToldOwn};
pub use receiver::Receiver;
pub use trial::Crowd;
pub(crate) use unacknowledged::Unacknowledged;
