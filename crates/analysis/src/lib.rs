//! What is asked of a record: how much, why, and what is amiss.
//!
//! Everything here is worked out from what was seen; nothing runs, and no course is known. What goes on being recorded is asked through
//! [`History`].
//!
//! From the lowest up:

// Tools.
mod history;
pub mod lawful;
mod reconciling;
mod samples;

// Of one thing.
pub mod beat;
pub mod compare;
pub mod crossing;
pub mod fate;
pub mod fault;
pub mod follow;
pub mod held;
pub mod nearness;
pub mod stirs;

// Why, and how much.
pub mod amiss;
pub mod budget;
pub mod cause;
pub mod metrics;
pub mod trouble;

// At a moment, and over time.
pub mod lane;
pub mod moment;
pub mod slices;

pub use fate::{Fate, fate};
pub use fault::{FAULTS, Fault, FaultSpec};
pub use history::History;
