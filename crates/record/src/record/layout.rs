//! The layout of an entity's states at some tick.

use std::fmt;
use std::sync::Arc;

use velocitas_core::{Kinds, Motion, Schema};

/// The layout in force at some tick.
#[derive(Clone)]
pub struct Layout {
    pub(super) kinds: Kinds,
    pub(super) kind: u8,
    pub(super) reloaded: Option<Arc<dyn Motion>>,
}

impl fmt::Debug for Layout {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Layout").field(&self.motion().name()).finish()
    }
}

impl Layout {
    /// The rule itself.
    pub fn motion(&self) -> &dyn Motion {
        self.reloaded.as_ref().map_or_else(|| self.kinds.motion(self.kind), |rule| &**rule)
    }

    /// What the lanes mean.
    pub fn schema(&self) -> &Schema {
        self.motion().schema()
    }
}
