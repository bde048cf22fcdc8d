//! What the server does for one player, as its owner may turn it while it runs.

use super::missing::{Missing, Waiting};
use crate::echo::EchoBy;
use crate::pacing::SendRate;
use crate::stream::Over;
use crate::wire::StateDown;

/// How a player is served.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct PlayerSettings {
    /// Ticks from snapshot to snapshot, 1 to 255.
    pub snapshot_every: u8,
    /// Whether they lie further apart where the way carries less.
    pub rate: SendRate,
    /// What a tick is made with whose input has not come.
    pub missing: Missing,
    /// For how many ticks one is waited for at most, where it is: 1 to [`MOST_WAIT`](Self::MOST_WAIT).
    pub wait: u8,
    /// What is done with those that wait behind it.
    pub waiting: Waiting,
    /// Whether its client says inputs only when they change: what is missing is then taken for the same.
    pub says_changes: bool,
    /// What snapshots travel by.
    pub snapshots_over: Over,
    /// In which form snapshots travel.
    pub state_down: StateDown,
    /// Whether its client is told what others were made with, so that it can run them on by their rules.
    pub tells_inputs: bool,
    /// Which echo of what it does others are sent.
    pub echo: EchoBy,
    /// How far the smooth one may be from the raw one, in metres.
    pub echo_leash_m: f32,
    /// Whether its client goes by being told in which tick the server is.
    pub tells: bool,
    /// How often it is told then, in milliseconds.
    pub tell_every_ms: u32,
}

impl PlayerSettings {
    /// The default settings.
    pub const DEFAULT: Self = Self {
        snapshot_every: 3,
        rate: SendRate::Fixed,
        missing: Missing::Hold,
        wait: 6,
        waiting: Waiting::AtOnce,
        says_changes: false,
        snapshots_over: Over::Datagrams,
        state_down: StateDown::Whole,
        tells_inputs: false,
        echo: EchoBy::Raw,
        echo_leash_m: 3.0,
        tells: false,
        tell_every_ms: 1000,
    };

    /// No input is waited for longer, in ticks: so far may an owner who withholds inputs be behind, and then be moved at once.
    pub const MOST_WAIT: u8 = 16;

    /// The same within its ranges.
    pub(super) fn held(self) -> Self {
        Self { snapshot_every: self.snapshot_every.max(1), wait: self.wait.clamp(1, Self::MOST_WAIT), ..self }
    }
}

impl Default for PlayerSettings {
    fn default() -> Self {
        Self::DEFAULT
    }
}
