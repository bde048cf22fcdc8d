//! What hands go by: what they see, and luck.

use velocitas_core::{Bounds, Schema, State};

use velocitas_record::time::LabTime;

/// What hands have before them.
#[derive(Clone, Copy)]
pub(crate) struct Seen<'a> {
    /// When.
    pub(crate) now: LabTime,
    /// Where the body believes itself to be.
    pub(crate) own: Option<&'a State>,
    /// What its rule reads.
    pub(crate) schema: &'a Schema,
    /// Where the world ends.
    pub(crate) bounds: Bounds,
}

/// What is asked of luck.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Luck {
    /// How late hands move after a wait.
    Loose = 0,
    /// When the next random thing is done.
    When = 1,
    /// To which input.
    Which = 2,
    /// How.
    How = 3,
    /// And how far.
    Far = 4,
}
