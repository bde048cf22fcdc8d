//! What came of an entity's turn.

use super::sentence::Sentence;
use crate::ground::Contacts;
use crate::ids::PeerId;

/// What came of it.
#[derive(Clone, Copy, Debug, Default)]
pub(in crate::server) struct Moved {
    pub(in crate::server) contacts: Contacts,
    pub(in crate::server) teleported: bool,
    /// What is to become of a player.
    pub(in crate::server) sentence: Option<(PeerId, Sentence)>,
}
