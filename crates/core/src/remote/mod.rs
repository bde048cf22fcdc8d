//! Somebody else's past, for drawing.
//!
//! Remotes are drawn at one moment, a little in the past, so that there are states on both sides of it: [`ViewClock`] says
//! which moment, samples are what snapshots told, and [`drawn`] is what is made of them.

mod ahead;
mod blend;
mod lateness;
mod looks;
mod samples;
mod settings;
mod view_clock;

pub(crate) use ahead::Ahead;
pub use blend::BlendPlan;
pub use looks::{LookBy, LookSettings, Looks};
pub(crate) use samples::Samples;
pub use samples::{Drawn, DrawnSpot, DrawnState, OnTheWay, Placed, Sample, Shown, Spot, SpotBlend, drawn};
pub use settings::{Blending, RemoteSettings, RemotesAt, RunOn, ViewBy, ViewDelay};
pub(crate) use view_clock::ViewClock;
