//! The shape of a course file. Documented by example in `docs/course.md`.

use std::collections::BTreeMap;

use serde::Deserialize;
use toml::Spanned;

use super::quantity::{Angle, Drift, Factor, Frequency, Length, Offset, Often, Quantity, Share, Speed, Time};

/// The format this program reads.
pub(super) const FORMAT: i64 = 1;

/// A whole file.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct File {
    pub(super) format: Spanned<i64>,
    pub(super) name: String,
    #[serde(default)]
    pub(super) seed: u64,
    pub(super) tick_rate: Spanned<Quantity<Frequency>>,
    #[serde(default)]
    pub(super) snapshot_every: Option<Spanned<i64>>,
    #[serde(default)]
    pub(super) first_tick: Option<Spanned<i64>>,
    #[serde(default)]
    pub(super) server: Host,
    pub(super) world: World,
    #[serde(default)]
    pub(super) solid: Vec<Solid>,
    #[serde(default)]
    pub(super) zone: Vec<Zone>,
    #[serde(default)]
    pub(super) link: BTreeMap<String, Link>,
    #[serde(default)]
    pub(super) tune: Vec<Tune>,
    pub(super) cast: Vec<Cast>,
    #[serde(default)]
    pub(super) event: Vec<Spanned<Event>>,
}

/// A machine.
#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(super) struct Host {
    pub(super) clock_offset: Option<Quantity<Offset>>,
    pub(super) clock_drift: Option<Quantity<Drift>>,
    pub(super) phase: Option<Quantity<Time>>,
    pub(super) frame_rate: Option<Spanned<Quantity<Frequency>>>,
    pub(super) frame_unevenness: Option<Quantity<Share>>,
    pub(super) hitches: Option<Quantity<Often>>,
    pub(super) hitch: Option<Quantity<Time>>,
}

/// Where the world ends.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct World {
    pub(super) min: Spanned<[f32; 2]>,
    pub(super) max: Spanned<[f32; 2]>,
    #[serde(default)]
    pub(super) floor: Option<Quantity<Length>>,
}

/// A box.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Solid {
    pub(super) name: Spanned<String>,
    pub(super) at: Spanned<[f32; 2]>,
    pub(super) size: Spanned<[f32; 2]>,
    #[serde(default)]
    pub(super) yaw: Option<Quantity<Angle>>,
    #[serde(default)]
    pub(super) base: Option<Quantity<Length>>,
    pub(super) height: Spanned<Quantity<Length>>,
    #[serde(default)]
    pub(super) known_to: Option<Spanned<String>>,
}

/// Another surface.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Zone {
    pub(super) name: Spanned<String>,
    pub(super) surface: Spanned<String>,
    pub(super) min: Spanned<[f32; 2]>,
    pub(super) max: [f32; 2],
}

/// Both directions, and what differs on the way down.
#[derive(Deserialize, Default, Clone)]
#[serde(deny_unknown_fields)]
pub(super) struct Link {
    pub(super) latency: Option<Quantity<Time>>,
    pub(super) jitter: Option<Quantity<Time>>,
    pub(super) correlation: Option<Quantity<Time>>,
    pub(super) loss: Option<Spanned<Quantity<Share>>>,
    pub(super) duplication: Option<Quantity<Share>>,
    pub(super) reordering: Option<Quantity<Share>>,
    pub(super) bunch: Option<Quantity<Time>>,
    pub(super) down: Option<Box<Self>>,
}

/// Tunables of a rule set otherwise, for everybody or for one side.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Tune {
    pub(super) rule: Spanned<String>,
    #[serde(default)]
    pub(super) known_to: Option<Spanned<String>>,
    pub(super) set: BTreeMap<String, Spanned<Setting>>,
}

/// A bare number or a text with a unit.
#[derive(Deserialize)]
#[serde(untagged, expecting = "a number, or a text with a unit such as \"4.2 m/s\"")]
pub(super) enum Setting {
    Number(f64),
    Text(String),
}

/// One of the cast.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Cast {
    pub(super) name: Spanned<String>,
    pub(super) role: Spanned<String>,
    #[serde(default)]
    pub(super) gait: Option<Spanned<String>>,
    #[serde(default)]
    pub(super) rule: Option<Spanned<String>>,
    #[serde(default)]
    pub(super) arrangement: Option<Spanned<String>>,
    pub(super) spawn: Spanned<[f32; 2]>,
    #[serde(default)]
    pub(super) height: Option<Quantity<Length>>,
    #[serde(default)]
    pub(super) facing: Option<Quantity<Angle>>,
    #[serde(default)]
    pub(super) link: Option<Spanned<String>>,
    #[serde(default)]
    pub(super) host: Host,
    #[serde(default)]
    pub(super) settings: Settings,
    #[serde(default)]
    pub(super) route: Vec<Waypoint>,
    #[serde(default)]
    pub(super) trick: Vec<Spanned<Trick>>,
}

/// Netcode settings.
#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(super) struct Settings {
    pub(super) ticks_per_message: Option<Spanned<i64>>,
    pub(super) snapshot_every: Option<Spanned<i64>>,
    pub(super) view_delay: Option<Spanned<String>>,
    pub(super) ease: Option<Quantity<Time>>,
    pub(super) snap: Option<Quantity<Length>>,
    pub(super) extrapolate: Option<Quantity<Time>>,
    pub(super) prediction: Option<bool>,
    pub(super) reconciliation: Option<bool>,
    pub(super) interpolation: Option<bool>,
}

/// A place on a route.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Waypoint {
    pub(super) at: Spanned<[f32; 2]>,
    #[serde(default)]
    pub(super) sprint: bool,
    #[serde(default)]
    pub(super) hop: bool,
    #[serde(default)]
    pub(super) wait: Option<Quantity<Time>>,
}

/// A way to cheat and when.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Trick {
    #[serde(default)]
    pub(super) run: Option<Quantity<Factor>>,
    #[serde(default)]
    pub(super) jump: Option<Quantity<Length>>,
    #[serde(default)]
    pub(super) walls: Option<bool>,
    #[serde(default)]
    pub(super) overreach: Option<Quantity<Factor>>,
    pub(super) at: Quantity<Time>,
    #[serde(default)]
    pub(super) lasts: Option<Quantity<Time>>,
    #[serde(default)]
    pub(super) every: Option<Quantity<Time>>,
}

/// Something that happens.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Event {
    pub(super) at: Quantity<Time>,
    #[serde(default)]
    pub(super) every: Option<Quantity<Time>>,
    #[serde(default)]
    pub(super) push: Option<Push>,
    #[serde(default)]
    pub(super) freeze: Option<Freeze>,
}

/// A gust, a blast.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Push {
    pub(super) who: Spanned<String>,
    #[serde(default)]
    pub(super) east: Option<Quantity<Speed>>,
    #[serde(default)]
    pub(super) north: Option<Quantity<Speed>>,
    #[serde(default)]
    pub(super) up: Option<Quantity<Speed>>,
}

/// A machine that stands still.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Freeze {
    pub(super) who: Spanned<String>,
    pub(super) lasts: Quantity<Time>,
}
