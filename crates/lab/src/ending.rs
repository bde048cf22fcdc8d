//! What is known of a run besides its record.

/// What the last row of a record says.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Ending {
    /// The digest of everything.
    pub digest: u64,
    /// Datagrams that could not be read.
    pub refused_datagrams: u64,
}
