//! How many ticks a message up covers: the policies.

/// How a client chooses how many ticks a message covers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Redundancy {
    /// As many as it is set to.
    #[default]
    Fixed,
    /// As many as survive the longest run of losses of late.
    Adapted,
}

impl Redundancy {
    /// All of them, the usual one first.
    pub const ALL: [Self; 2] = [Self::Fixed, Self::Adapted];
}
