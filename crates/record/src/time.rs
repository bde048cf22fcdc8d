//! Lab time: nanoseconds of virtual time since a run began. Every machine's own clock is derived from it.

use std::fmt;

use serde::{Deserialize, Serialize};

/// A moment or a span of virtual time.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct LabTime(pub u64);

impl LabTime {
    /// The beginning.
    pub const ZERO: Self = Self(0);

    /// So many milliseconds; negative ones are none.
    pub fn from_millis(ms: f64) -> Self {
        Self((ms.max(0.0) * 1e6) as u64)
    }

    /// So many seconds; negative ones are none.
    pub fn from_secs(s: f64) -> Self {
        Self::from_millis(s * 1e3)
    }

    /// In seconds.
    pub const fn secs(self) -> f64 {
        self.0 as f64 / 1e9
    }

    /// In milliseconds.
    pub const fn millis(self) -> f64 {
        self.0 as f64 / 1e6
    }

    /// Later by `span`.
    #[must_use]
    pub const fn plus(self, span: Self) -> Self {
        Self(self.0.saturating_add(span.0))
    }

    /// Earlier by `span`, not before the beginning.
    #[must_use]
    pub const fn minus(self, span: Self) -> Self {
        Self(self.0.saturating_sub(span.0))
    }
}

impl fmt::Display for LabTime {
    /// `m:ss.cc`
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let centis = self.0 / 10_000_000;
        write!(f, "{}:{:02}.{:02}", centis / 6000, centis / 100 % 60, centis % 100)
    }
}
