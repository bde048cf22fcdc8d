//! What the hands of a member are to do.

use std::sync::Arc;

use super::route::Waypoint;
use super::strokes::Strokes;

/// What the hands of a member do by themselves: one of a route, a script or nothing, and what comes on top.
#[derive(Clone, Debug, Default)]
pub struct Script {
    /// Places to walk to, round and round.
    pub route: Vec<Waypoint>,
    /// What to do by the clock: a script or a track.
    pub strokes: Arc<Strokes>,
    /// The file of the track, as the course names it.
    pub track: Option<String>,
    /// How often a second, on average, something is pressed, held, let go or turned at random.
    pub random: Option<f64>,
    /// Whether what nothing else moves is used now and then.
    pub exercise: bool,
}

impl Script {
    /// Whether the hands have anywhere to go: if not, random presses steer as well.
    pub(super) fn leads(&self) -> bool {
        !self.route.is_empty() || !self.strokes.all.is_empty()
    }
}
