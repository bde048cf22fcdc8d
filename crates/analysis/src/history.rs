//! A record that grows while it is looked at.

use velocitas_record::{LabTime, Record};

/// Whoever runs something and records it. It may go on, and go back and on otherwise.
pub trait History {
    /// What was recorded so far.
    fn record(&self) -> &Record;

    /// How far it is.
    fn now(&self) -> LabTime;

    /// A number that stands for everything up to a moment: while it stays the same, nothing before that moment was changed.
    fn past(&self, at: LabTime) -> u64;
}
