//! What a machine drew in a frame, in values that can be kept.

use velocitas_core::{Blending, CameraOn, Drawn, EntityId, HostNanos, LookBy};

use crate::ids::RecordTick;

/// An entity as it was drawn.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct DrawnFact {
    /// Which.
    pub entity: EntityId,
    /// The tick shown …
    pub tick: RecordTick,
    /// … and how far on towards the next, 0 to 1.
    pub fraction: f32,
    /// How it came about.
    pub how: Drawn,
    /// Where, in metres.
    pub pos: [f32; 3],
    /// Looking where, in radians; 0 where that is not known.
    pub bearing: f32,
}

/// What a machine's screen showed.
#[derive(Clone, Debug, PartialEq)]
pub struct Screen {
    /// What its own clock read.
    pub read: HostNanos,
    /// Whether its client plays; otherwise nothing is drawn.
    pub plays: bool,
    /// Why it is not let in, in the words it was told.
    pub refused: Option<String>,
    /// The moment at which all others are drawn, a tick and how far on towards the next; `None` before anything arrived.
    pub moment: Option<(RecordTick, f32)>,
    /// Milliseconds a remote may run on past its newest state.
    pub limit_ms: u16,
    /// Whether remotes are blended at that moment; otherwise they are where they were last heard of.
    pub blends: bool,
    /// In which way.
    pub blending: Blending,
    /// How it has what others look to be doing.
    pub looks: LookBy,
    /// When its camera is moved.
    pub camera: CameraOn,
    /// Own entities whose states it makes itself.
    pub own: Vec<DrawnFact>,
    /// All others, and own entities that are waited for.
    pub others: Vec<DrawnFact>,
}

impl Default for Screen {
    fn default() -> Self {
        Self {
            read: HostNanos(0),
            plays: false,
            refused: None,
            moment: None,
            limit_ms: 0,
            blends: false,
            blending: Blending::ByField,
            looks: LookBy::Steady,
            camera: CameraOn::Frame,
            own: Vec::new(),
            others: Vec::new(),
        }
    }
}
