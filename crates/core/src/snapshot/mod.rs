//! What a receiver is told, and what of it has arrived.

mod untold;

pub(crate) use untold::Untold;
