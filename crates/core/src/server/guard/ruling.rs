//! What the guard says of a tick.

use super::docket::Offence;
use crate::event::Gap;
use crate::policy::{Policy, Response};

/// What came of a tick.
#[derive(Clone, Debug)]
pub(in crate::server) enum Ruling {
    Lawful,
    Resync(Gap),
    /// By which response it was answered.
    Guilty(Box<Offence>, Response),
}

impl Ruling {
    pub(super) fn guilty(policy: &Policy, offence: Offence) -> Self {
        let response = policy.response(offence.evidence.rule);
        Self::Guilty(Box::new(offence), response)
    }
}
