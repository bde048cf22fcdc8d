//! What is selected.

use velocitas_record::MemberId;

use super::knob_list::KnobList;

/// What is selected, on every screen.
#[derive(Clone, Copy, Debug)]
pub(in crate::tui) struct Selected {
    /// Who is looked at.
    pub(in crate::tui) entity: MemberId,
    /// The thing of the world that is looked at instead of what came with that member.
    pub(in crate::tui) thing: Option<usize>,
    /// On whose screen.
    pub(in crate::tui) viewer: MemberId,
    /// The knob that keys turn, in its list.
    pub(in crate::tui) knobs: KnobList,
}

impl Default for Selected {
    fn default() -> Self {
        Self { entity: MemberId::new(0), thing: None, viewer: MemberId::new(0), knobs: KnobList::default() }
    }
}
