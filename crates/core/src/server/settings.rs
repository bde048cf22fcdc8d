//! What the server does for one player, as its owner may turn it while it runs.

use super::missing::Missing;

/// How a player is served.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PlayerSettings {
    /// Ticks from snapshot to snapshot, 1 to 255.
    pub snapshot_every: u8,
    /// What a tick is made with whose input has not come.
    pub missing: Missing,
    /// Whether its client goes by being told in which tick the server is.
    pub tells: bool,
    /// How often it is told then, in milliseconds.
    pub tell_every_ms: u32,
}

impl PlayerSettings {
    /// The default settings.
    pub const DEFAULT: Self = Self { snapshot_every: 3, missing: Missing::Hold, tells: false, tell_every_ms: 1000 };

    /// The same within its ranges.
    pub(super) fn held(self) -> Self {
        Self { snapshot_every: self.snapshot_every.max(1), ..self }
    }
}

impl Default for PlayerSettings {
    fn default() -> Self {
        Self::DEFAULT
    }
}
