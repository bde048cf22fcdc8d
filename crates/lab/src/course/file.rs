//! The shape of a course file. Documented by example in `docs/course.md`.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;
use velocitas_analysis::fault::FAULTS;
use velocitas_core::Arrangement;
use velocitas_record::quantity::{Angle, Drift, Factor, Frequency, Length, Offset, Often, Quantity, Share, Time};

use super::allowed::{Budget, Checked};
use super::pair::Pair;
use super::script::{Event, Stroke, Tune, Waypoint};
use super::settings::{Link, Settings, Trick};

/// The format this program reads.
pub(super) const FORMAT: i64 = 1;

/// A whole file.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct File {
    /// The format of this file: 1.
    #[schemars(with = "i64")]
    pub(super) format: Spanned<i64>,
    /// Shown on the screen.
    #[schemars(with = "String")]
    pub(super) name: Spanned<String>,
    /// All luck comes from it: the same seed, the same run.
    #[serde(default)]
    pub(super) seed: u64,
    /// Ticks a second, the same for everybody.
    #[schemars(with = "Quantity<Frequency>")]
    pub(super) tick_rate: Spanned<Quantity<Frequency>>,
    /// Steps of physics a second, if not one a tick: a whole multiple of the tick rate steps more finely, anything else is out of step.
    #[serde(default)]
    #[schemars(with = "Option<Quantity<Frequency>>")]
    pub(super) physics: Option<Spanned<Quantity<Frequency>>>,
    /// Ticks from snapshot to snapshot.
    #[serde(default)]
    #[schemars(with = "Option<i64>")]
    pub(super) snapshot_every: Option<Spanned<i64>>,
    /// The number the count begins with.
    #[serde(default)]
    #[schemars(with = "Option<i64>")]
    pub(super) first_tick: Option<Spanned<i64>>,
    /// The server's machine.
    #[serde(default)]
    pub(super) server: Option<Host>,
    /// Where it is.
    pub(super) world: World,
    /// Boxes to run into.
    #[serde(default)]
    pub(super) solid: Vec<Solid>,
    /// Rectangles of another surface.
    #[serde(default)]
    pub(super) zone: Vec<Zone>,
    /// Links by name.
    #[serde(default)]
    pub(super) link: BTreeMap<String, Link>,
    /// Tunables of a rule set otherwise, for everybody or for one side.
    #[serde(default)]
    pub(super) tune: Vec<Tune>,
    /// The netcode of everybody who does not say otherwise: keys of `settings`.
    #[serde(default)]
    pub(super) defaults: Settings,
    /// How long the server waits for a silent player.
    #[serde(default)]
    pub(super) silence: Silence,
    /// What the server's guard looks at and answers.
    #[serde(default)]
    pub(super) guard: Guard,
    /// Who takes part.
    pub(super) cast: Vec<Cast>,
    /// What is in the world besides: nobody comes or goes with it.
    #[serde(default)]
    pub(super) thing: Vec<Thing>,
    /// What happens.
    #[serde(default)]
    #[schemars(with = "Vec<Event>")]
    pub(super) event: Vec<Spanned<Event>>,
    /// What is allowed.
    #[serde(default)]
    #[schemars(with = "Vec<Budget>")]
    pub(super) budget: Vec<Spanned<Budget>>,
    /// How `velocitas check` runs it.
    #[serde(default)]
    pub(super) check: Checked,
}

/// A machine.
#[derive(JsonSchema, Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(super) struct Host {
    /// How far its clock is ahead of lab time.
    pub(super) clock_offset: Option<Quantity<Offset>>,
    /// How much its clock gains.
    pub(super) clock_drift: Option<Quantity<Drift>>,
    /// When its first frame falls.
    pub(super) phase: Option<Quantity<Time>>,
    /// Frames a second.
    #[schemars(with = "Option<Quantity<Frequency>>")]
    pub(super) frame_rate: Option<Spanned<Quantity<Frequency>>>,
    /// How unevenly frames come.
    pub(super) frame_unevenness: Option<Quantity<Share>>,
    /// How often a frame takes long.
    pub(super) hitches: Option<Quantity<Often>>,
    /// How long such a frame takes.
    pub(super) hitch: Option<Quantity<Time>>,
}

/// What the server's guard looks at and answers.
#[derive(JsonSchema, Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(super) struct Guard {
    /// The checks it makes of claims: "full", or one that is often written first.
    #[serde(default)]
    #[schemars(with = "Option<String>")]
    pub(super) checks: Option<Spanned<String>>,
    /// What it answers, by rule: "note", "clamp", "pull back", "strike" or "disconnect".
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, String>")]
    pub(super) answer: BTreeMap<Spanned<String>, Spanned<String>>,
    /// How much of what the rules of the guard say is allowed, by rule: "1.05 times".
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, Quantity<Factor>>")]
    pub(super) allowed: BTreeMap<Spanned<String>, Spanned<Quantity<Factor>>>,
    /// This number of strikes ends its connection.
    #[serde(default)]
    #[schemars(with = "Option<i64>")]
    pub(super) strikes: Option<Spanned<i64>>,
    /// The time in which strikes count.
    #[serde(default)]
    #[schemars(with = "Option<Quantity<Time>>")]
    pub(super) within: Option<Spanned<Quantity<Time>>>,
}

/// How long the server waits for a silent player.
#[derive(JsonSchema, Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(super) struct Silence {
    /// How long made-up input holds keys down; then it rests.
    #[serde(default)]
    #[schemars(with = "Option<Quantity<Time>>")]
    pub(super) hold: Option<Spanned<Quantity<Time>>>,
    /// When the player is gone, and what came with it.
    #[serde(default)]
    #[schemars(with = "Option<Quantity<Time>>")]
    pub(super) gone: Option<Spanned<Quantity<Time>>>,
    /// How long after that it may come back to where it stood.
    #[serde(default)]
    #[schemars(with = "Option<Quantity<Time>>")]
    pub(super) keep: Option<Spanned<Quantity<Time>>>,
}

/// Where the world ends.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct World {
    /// South-west corner in metres.
    #[schemars(with = "[f32; 2]")]
    pub(super) min: Spanned<Pair>,
    /// North-east corner in metres.
    #[schemars(with = "[f32; 2]")]
    pub(super) max: Spanned<Pair>,
    /// Height of the floor.
    #[serde(default)]
    pub(super) floor: Option<Quantity<Length>>,
}

/// A box.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Solid {
    /// Shown where it matters.
    #[schemars(with = "String")]
    pub(super) name: Spanned<String>,
    /// Its middle, in metres.
    #[schemars(with = "[f32; 2]")]
    pub(super) at: Spanned<Pair>,
    /// Its extent along its own axes, in metres.
    #[schemars(with = "[f32; 2]")]
    pub(super) size: Spanned<Pair>,
    /// Turned counter-clockwise.
    #[serde(default)]
    pub(super) yaw: Option<Quantity<Angle>>,
    /// Its bottom above the floor.
    #[serde(default)]
    pub(super) base: Option<Quantity<Length>>,
    /// From bottom to top.
    #[schemars(with = "Quantity<Length>")]
    pub(super) height: Spanned<Quantity<Length>>,
    /// Who knows of it: all, server, clients, or nobody until an event says so.
    #[serde(default)]
    #[schemars(with = "Option<String>", extend("enum" = ["all", "server", "clients", "nobody"]))]
    pub(super) known_to: Option<Spanned<String>>,
}

/// Another surface.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Zone {
    /// Shown where it matters.
    #[schemars(with = "String")]
    pub(super) name: Spanned<String>,
    /// water, ice or planks.
    #[schemars(with = "String", extend("enum" = ["water", "ice", "planks"]))]
    pub(super) surface: Spanned<String>,
    /// South-west corner in metres.
    #[schemars(with = "[f32; 2]")]
    pub(super) min: Spanned<Pair>,
    /// North-east corner in metres.
    #[schemars(with = "[f32; 2]")]
    pub(super) max: Pair,
}

/// One of the cast.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Cast {
    /// Shown on the screen.
    #[schemars(with = "String")]
    pub(super) name: Spanned<String>,
    /// helm, bot or rogue.
    #[schemars(with = "String", extend("enum" = ["helm", "bot", "rogue"]))]
    pub(super) role: Spanned<String>,
    /// Its movement rule: a gait file, relative to this course.
    #[serde(default)]
    #[schemars(with = "Option<String>")]
    pub(super) gait: Option<Spanned<String>>,
    /// Its movement rule, if it is one written in Rust.
    #[serde(default)]
    #[schemars(with = "Option<String>")]
    pub(super) rule: Option<Spanned<String>>,
    /// Who decides where it is: terminal and server for the server, claims and relay for its owner.
    #[serde(default)]
    #[schemars(with = "Option<String>", extend("enum" = Arrangement::ALL.map(Arrangement::name)))]
    pub(super) arrangement: Option<Spanned<String>>,
    /// Where it begins, in metres.
    #[schemars(with = "[f32; 2]")]
    pub(super) spawn: Spanned<Pair>,
    /// How far above the floor it begins.
    #[serde(default)]
    pub(super) height: Option<Quantity<Length>>,
    /// Where it looks then; 0 is east, counter-clockwise.
    #[serde(default)]
    pub(super) facing: Option<Quantity<Angle>>,
    /// When its program is started; without it, it is there from the beginning.
    #[serde(default)]
    pub(super) joins: Option<Quantity<Time>>,
    /// The link to the server, by name.
    #[serde(default)]
    #[schemars(with = "Option<String>")]
    pub(super) link: Option<Spanned<String>>,
    /// Its machine.
    #[serde(default)]
    pub(super) host: Host,
    /// Whether its machine decides as well, in the place of a server: one at most.
    #[serde(default)]
    #[schemars(with = "Option<bool>")]
    pub(super) hosts: Option<Spanned<bool>>,
    /// Its netcode.
    #[serde(default)]
    pub(super) settings: Settings,
    /// What its hands do: places to walk to, round and round.
    #[serde(default)]
    pub(super) route: Vec<Waypoint>,
    /// What its hands do by the clock, again and again.
    #[serde(default)]
    #[schemars(with = "Vec<Stroke>")]
    pub(super) script: Vec<Spanned<Stroke>>,
    /// What its hands do: a track, once.
    #[serde(default)]
    #[schemars(with = "Option<String>")]
    pub(super) track: Option<Spanned<String>>,
    /// How often, on average, they do something at random with one of the inputs of its rule.
    #[serde(default)]
    #[schemars(with = "Option<Quantity<Often>>")]
    pub(super) random: Option<Spanned<Quantity<Often>>>,
    /// Whether they use now and then what nothing else moves.
    #[serde(default)]
    pub(super) exercise: bool,
    /// How a rogue cheats.
    #[serde(default)]
    #[schemars(with = "Vec<Trick>")]
    pub(super) trick: Vec<Spanned<Trick>>,
    /// What its program gets wrong, on purpose.
    #[serde(default)]
    #[schemars(schema_with = "faults")]
    pub(super) faults: Vec<Spanned<String>>,
}

/// Something in the world that nobody comes or goes with.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Thing {
    /// Shown on the screen.
    #[schemars(with = "String")]
    pub(super) name: Spanned<String>,
    /// Its movement rule: a gait file, relative to this course.
    #[serde(default)]
    #[schemars(with = "Option<String>")]
    pub(super) gait: Option<Spanned<String>>,
    /// Its movement rule, if it is one written in Rust.
    #[serde(default)]
    #[schemars(with = "Option<String>")]
    pub(super) rule: Option<Spanned<String>>,
    /// Where it begins, in metres.
    #[schemars(with = "[f32; 2]")]
    pub(super) at: Spanned<Pair>,
    /// How far above the floor it begins.
    #[serde(default)]
    pub(super) height: Option<Quantity<Length>>,
    /// Where it looks then; 0 is east, counter-clockwise.
    #[serde(default)]
    pub(super) facing: Option<Quantity<Angle>>,
    /// Who gives it orders at the beginning: nobody, one, or several.
    #[serde(default)]
    #[schemars(with = "Vec<String>")]
    pub(super) owners: Vec<Spanned<String>>,
}

/// A list of faults.
fn faults(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
    schemars::json_schema!({ "type": "array", "items": { "enum": FAULTS.each_ref().map(|spec| spec.key) } })
}
