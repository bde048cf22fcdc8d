//! What a client's user may turn while it runs.

use super::clock::ClockSettings;
use super::redundancy::Redundancy;
use crate::ease::{EaseBy, Easing};
use crate::pacing::SendRate;
use crate::remote::RemoteSettings;
use crate::stream::{InputsOver, Over};

/// A client's netcode settings.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ClientSettings {
    /// Ticks covered by each input or claim message where that is fixed, 1 to 16; as many as it is sent after, if that is more.
    pub repeats: u8,
    /// Whether it is.
    pub redundancy: Redundancy,
    /// Ticks for which an input waits before it counts, 0 to 8.
    pub input_delay: u8,
    /// Ticks from message to message, 1 to 8.
    pub send_every: u8,
    /// Whether they lie further apart where the way carries less.
    pub rate: SendRate,
    /// What inputs travel by, and which do.
    pub inputs_over: InputsOver,
    /// What claims and accounts travel by.
    pub claims_over: Over,
    /// How others are drawn.
    pub remotes: RemoteSettings,
    /// How own entities are drawn.
    pub own: OwnSettings,
    /// How it knows its tick, and keeps to it.
    pub clock: ClockSettings,
    /// Whether own inputs are applied at once.
    pub predict: bool,
    /// Whether predictions are held against snapshots.
    pub reconcile: bool,
}

/// When the calling program moves the camera that follows the own character.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum CameraOn {
    /// In each frame, to where the own character is drawn in it.
    #[default]
    Frame,
    /// In frames in which a tick was made. Everything that stands is seen to move by steps then.
    Tick,
}

impl CameraOn {
    /// All of them, the usual one first.
    pub const ALL: [Self; 2] = [Self::Frame, Self::Tick];

    /// By its place among all.
    pub fn from_number(number: u8) -> Self {
        Self::ALL.get(usize::from(number)).copied().unwrap_or_default()
    }
}

/// How own entities are drawn, and corrections of them hidden.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct OwnSettings {
    /// How a correction is eased out.
    pub ease: Easing,
    /// Whether where somebody looks is eased too; otherwise its place alone.
    pub eases_all: bool,
    /// Corrections larger than this, in metres, are shown at once.
    pub snap_m: f32,
    /// Whether they are drawn between their last two ticks; otherwise at the newest.
    pub between_ticks: bool,
    /// When the camera is moved.
    pub camera: CameraOn,
}

impl OwnSettings {
    /// The default settings.
    pub const DEFAULT: Self = Self {
        ease: Easing { by: EaseBy::Smooth, ms: 120, speed: 3.0 },
        eases_all: false,
        snap_m: 3.0,
        between_ticks: true,
        camera: CameraOn::Frame,
    };
}

impl ClientSettings {
    /// The default settings.
    pub const DEFAULT: Self = Self {
        repeats: 3,
        redundancy: Redundancy::Fixed,
        input_delay: 0,
        send_every: 1,
        rate: SendRate::Fixed,
        inputs_over: InputsOver::Datagrams,
        claims_over: Over::Datagrams,
        remotes: RemoteSettings::DEFAULT,
        own: OwnSettings::DEFAULT,
        clock: ClockSettings::DEFAULT,
        predict: true,
        reconcile: true,
    };
}

impl Default for ClientSettings {
    fn default() -> Self {
        Self::DEFAULT
    }
}
