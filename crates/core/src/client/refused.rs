//! Why a client is not let in, in words.

use thiserror::Error;

use crate::session::Kinds;
use crate::wire::{Denied, Difference, ForeignLayout, PROTOCOL_VERSION, RefusedFor};

/// Why a client is not let in, as it tells its user.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum Refused {
    /// Another version.
    #[error("the server speaks version {theirs} of the protocol, this is version {PROTOCOL_VERSION}")]
    Version {
        /// The server's.
        theirs: u16,
    },
    /// Nobody expects this player.
    #[error("the server does not expect this player")]
    Unknown,
    /// What asks was there and is gone: another life is needed.
    #[error("the server has ended what this began")]
    Over,
    /// Every place is taken.
    #[error("the server is full")]
    Full,
    /// Another number of rules.
    #[error("the server has {theirs} rules, this machine has {ours}")]
    Kinds {
        /// The server's.
        theirs: usize,
        /// Ours.
        ours: usize,
    },
    /// A rule is laid out otherwise.
    #[error("the server's {rule} has another layout than yours: {difference}")]
    Layout {
        /// The rule, as the server calls it.
        rule: String,
        /// Where they differ.
        difference: String,
    },
}

impl Refused {
    /// What a refusal means to a machine with these rules; `theirs` is the version in its envelope.
    pub(super) fn of(why: &RefusedFor, kinds: &Kinds, theirs: u16) -> Self {
        match why {
            RefusedFor::Version => Self::Version { theirs },
            RefusedFor::Unknown => Self::Unknown,
            RefusedFor::Over => Self::Over,
            RefusedFor::Full => Self::Full,
            RefusedFor::Kinds(count) => Self::Kinds { theirs: usize::from(*count), ours: kinds.prints().len() },
            RefusedFor::Layout(layout) => {
                Self::Layout { rule: layout.name.clone(), difference: difference(layout, kinds) }
            }
        }
    }

    /// In a word.
    pub const fn denied(&self) -> Denied {
        match self {
            Self::Version { .. } => Denied::Version,
            Self::Unknown => Denied::Unknown,
            Self::Over => Denied::Over,
            Self::Full => Denied::Full,
            Self::Kinds { .. } => Denied::Kinds,
            Self::Layout { .. } => Denied::Layout,
        }
    }
}

fn difference(theirs: &ForeignLayout, kinds: &Kinds) -> String {
    let own = kinds.get(theirs.kind).map(|rule| ForeignLayout::of(theirs.kind, rule.name(), rule.schema()));
    match own.and_then(|own| theirs.difference(&own)) {
        Some(Difference::There(field)) => format!("field `{field}` is the server's only"),
        Some(Difference::Here(field)) => format!("field `{field}` is yours only"),
        Some(Difference::Otherwise(field)) => format!("field `{field}`"),
        None => "in the order of its fields".to_owned(),
    }
}
