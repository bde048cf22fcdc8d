//! How others are drawn, as a client's user may turn it while it runs.

use super::ViewDelay;

/// How others are drawn from what was received of them.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RemoteSettings {
    /// See [`ViewDelay`].
    pub view_delay: ViewDelay,
    /// How long one may run on past its newest state, in milliseconds.
    pub extrapolate_ms: u32,
    /// Whether they are drawn in the past and blended.
    pub interpolate: bool,
}

impl RemoteSettings {
    /// The default settings.
    pub const DEFAULT: Self = Self { view_delay: ViewDelay::Auto, extrapolate_ms: 200, interpolate: true };
}
