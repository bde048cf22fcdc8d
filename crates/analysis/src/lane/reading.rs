//! What a lane is read from.

use velocitas_record::ids::{ActorId, MachineId};
use velocitas_record::record::Record;

use super::screenings::Screenings;

/// Of what a lane is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Subject {
    /// The machine looked at: what it predicts, sends, is told.
    pub machine: MachineId,
    /// What belongs to it, or what is looked at instead; `None` before there is anything.
    pub actor: Option<ActorId>,
    /// On whose screen it is drawn.
    pub viewer: MachineId,
}

/// What a lane is read from.
pub(crate) struct Reading<'a> {
    pub(super) record: &'a Record,
    pub(super) subject: Subject,
    pub(super) screenings: &'a mut Screenings,
}
