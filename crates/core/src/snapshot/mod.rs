//! What a receiver is told, and what of it has arrived.

mod unacknowledged;

pub(crate) use unacknowledged::Unacknowledged;
