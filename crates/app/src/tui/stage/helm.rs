//! The hands at the helm.

use velocitas_lab::track::Recorder;

use crate::tui::driving::Driving;

/// The hands at the helm. Which member they drive is the lab's to know.
#[derive(Default)]
pub struct Helm {
    /// What the keyboard does.
    pub driving: Driving,
    /// What was done since it is being kept as a track.
    pub(in crate::tui) kept: Option<Recorder>,
}
