//! What is selected.

use velocitas_record::MemberId;

/// What is selected, on every screen.
#[derive(Clone, Copy, Debug)]
pub(in crate::tui) struct Selected {
    /// Who is looked at.
    pub(in crate::tui) entity: MemberId,
    /// The thing of the world that is looked at instead of what came with that member.
    pub(in crate::tui) thing: Option<usize>,
    /// On whose screen.
    pub(in crate::tui) viewer: MemberId,
    /// The knob that keys turn: a place in the table of knobs.
    pub(in crate::tui) knob: usize,
}

impl Default for Selected {
    fn default() -> Self {
        Self { entity: MemberId::new(0), thing: None, viewer: MemberId::new(0), knob: 0 }
    }
}
