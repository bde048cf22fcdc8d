//! Why something cannot be varied.

use thiserror::Error;

/// Why something cannot be varied.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct VaryError(pub String);
