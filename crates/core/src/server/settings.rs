//! What the server does for one player, as its owner may turn it while it runs.

/// How a player is served.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PlayerSettings {
    /// Ticks from snapshot to snapshot, 1 to 255.
    pub snapshot_every: u8,
}

impl PlayerSettings {
    /// The default settings.
    pub const DEFAULT: Self = Self { snapshot_every: 3 };

    /// The same within its ranges.
    pub(super) fn held(self) -> Self {
        Self { snapshot_every: self.snapshot_every.max(1) }
    }
}

impl Default for PlayerSettings {
    fn default() -> Self {
        Self::DEFAULT
    }
}
