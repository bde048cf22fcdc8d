//! What a member plays and what happens in a course, as its file says it.

use std::collections::BTreeMap;
use std::ops::Range;

use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;
use velocitas_record::quantity::{Angle, Length, Quantity, Speed, Time};

use super::pair::{Pair, PositionValue};
use super::settings::LinkChange;

/// A place on a route.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Waypoint {
    /// Where, in metres.
    #[schemars(with = "[f32; 2]")]
    pub(super) at: Spanned<Pair>,
    /// How high above the floor, for rules that can climb.
    #[serde(default)]
    pub(super) height: Option<Quantity<Length>>,
    /// How far the stick or the throttle is pushed on the way there, 0 to 1; without it what is steered goes at 0.7.
    #[serde(default)]
    #[schemars(with = "Option<f64>")]
    pub(super) pace: Option<Spanned<f64>>,
    /// How long to stand there.
    #[serde(default)]
    pub(super) wait: Option<Quantity<Time>>,
    /// Inputs to press once on the way, when it is near.
    #[serde(default)]
    #[schemars(with = "Vec<String>")]
    pub(super) press: Vec<Spanned<String>>,
    /// Inputs to hold down on the way.
    #[serde(default)]
    #[schemars(with = "Vec<String>")]
    pub(super) hold: Vec<Spanned<String>>,
    /// Where to hold axes on the way, -1 to 1.
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, f64>")]
    pub(super) axis: BTreeMap<String, Spanned<f64>>,
    /// On the way there, where to order what is owned and takes orders, in metres.
    #[serde(default)]
    #[schemars(with = "Option<Vec<f32>>")]
    pub(super) order: Option<Spanned<PositionValue>>,
}

/// What hands do for a while.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Stroke {
    /// For how long.
    pub(super) lasts: Quantity<Time>,
    /// Where the stick is: to the right and ahead of where the eyes point, each -1 to 1.
    #[serde(default)]
    #[schemars(with = "Option<[f32; 2]>")]
    pub(super) stick: Option<Spanned<Pair>>,
    /// Where the eyes point from then on.
    #[serde(default)]
    pub(super) facing: Option<Quantity<Angle>>,
    /// How far above the level.
    #[serde(default)]
    pub(super) pitch: Option<Quantity<Angle>>,
    /// Inputs to press at its beginning.
    #[serde(default)]
    #[schemars(with = "Vec<String>")]
    pub(super) press: Vec<Spanned<String>>,
    /// Inputs to hold down meanwhile.
    #[serde(default)]
    #[schemars(with = "Vec<String>")]
    pub(super) hold: Vec<Spanned<String>>,
    /// Where to hold axes meanwhile, -1 to 1.
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, f64>")]
    pub(super) axis: BTreeMap<String, Spanned<f64>>,
    /// From then on, where to order what is owned and takes orders, in metres.
    #[serde(default)]
    #[schemars(with = "Option<Vec<f32>>")]
    pub(super) order: Option<Spanned<PositionValue>>,
}

/// Something that happens.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Event {
    /// When.
    pub(super) at: Quantity<Time>,
    /// Again after so long.
    #[serde(default)]
    pub(super) every: Option<Quantity<Time>>,
    /// Somebody is pushed, at the server only.
    #[serde(default)]
    pub(super) push: Option<Push>,
    /// Somebody is put elsewhere, by the server.
    #[serde(default)]
    pub(super) teleport: Option<Teleport>,
    /// A member's link changes.
    #[serde(default)]
    pub(super) link: Option<LinkChange>,
    /// Tunables are turned, for everybody or on one side.
    #[serde(default)]
    pub(super) tune: Option<Tune>,
    /// A solid of the course is known to others than before.
    #[serde(default)]
    pub(super) ground: Option<Reground>,
    /// A machine stands still.
    #[serde(default)]
    pub(super) freeze: Option<Freeze>,
    /// A member's program is started for the first time.
    #[serde(default)]
    pub(super) join: Option<Who>,
    /// A member says goodbye.
    #[serde(default)]
    pub(super) leave: Option<Who>,
    /// A member's program ends without a word.
    #[serde(default)]
    pub(super) crash: Option<Who>,
    /// A member who left or crashed is started again.
    #[serde(default, rename = "return")]
    pub(super) come_back: Option<Who>,
    /// Something changes hands.
    #[serde(default)]
    pub(super) own: Option<Own>,
}

/// Somebody who comes or goes.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Who {
    /// A member of the cast.
    #[schemars(with = "String")]
    pub(super) who: Spanned<String>,
}

/// A change of owners at one tick.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Own {
    /// A thing, or what came with a member of the cast.
    #[schemars(with = "String")]
    pub(super) what: Spanned<String>,
    /// Who gives it orders from then on: nobody, one, or several.
    #[schemars(with = "Vec<String>")]
    pub(super) by: Vec<Spanned<String>>,
}

/// A gust, a blast.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Push {
    /// A member of the cast.
    #[schemars(with = "String")]
    pub(super) who: Spanned<String>,
    /// Speed added.
    #[serde(default)]
    pub(super) east: Option<Quantity<Speed>>,
    /// Speed added.
    #[serde(default)]
    pub(super) north: Option<Quantity<Speed>>,
    /// Speed added.
    #[serde(default)]
    pub(super) up: Option<Quantity<Speed>>,
}

/// Somebody put elsewhere.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Teleport {
    /// A member of the cast.
    #[schemars(with = "String")]
    pub(super) who: Spanned<String>,
    /// Where to, in metres.
    #[schemars(with = "[f32; 2]")]
    pub(super) to: Spanned<Pair>,
    /// How far above the floor.
    #[serde(default)]
    pub(super) height: Option<Quantity<Length>>,
}

/// A solid that comes to be, or goes, for all or on one side.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Reground {
    /// A solid of the course.
    #[schemars(with = "String")]
    pub(super) solid: Spanned<String>,
    /// Who knows of it from then on: all, server, clients or nobody.
    #[schemars(with = "String", extend("enum" = ["all", "server", "clients", "nobody"]))]
    pub(super) known_to: Spanned<String>,
}

/// A machine that stands still.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Freeze {
    /// A member of the cast, or server.
    #[schemars(with = "String")]
    pub(super) who: Spanned<String>,
    /// For how long.
    pub(super) lasts: Quantity<Time>,
}

/// Where an event says whom or what it is about.
pub(super) fn place_of(spanned: &Spanned<Event>) -> Range<usize> {
    let e = spanned.get_ref();
    let who = [&e.join, &e.leave, &e.crash, &e.come_back].into_iter().flatten().map(|who| who.who.span()).next();
    who.or_else(|| e.own.as_ref().map(|own| own.what.span())).unwrap_or_else(|| spanned.span())
}

/// Tunables of a rule set otherwise, for everybody or for one side.
#[derive(JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Tune {
    /// The name of the rule: the first line of its gait.
    #[schemars(with = "String")]
    pub(super) rule: Spanned<String>,
    /// Who knows of it: all, server or clients.
    #[serde(default)]
    #[schemars(with = "Option<String>", extend("enum" = ["all", "server", "clients"]))]
    pub(super) known_to: Option<Spanned<String>>,
    /// Tunables by name, with their unit.
    #[schemars(with = "BTreeMap<String, Setting>")]
    pub(super) set: BTreeMap<String, Spanned<Setting>>,
}

/// A bare number or a text with a unit.
#[derive(JsonSchema, Deserialize)]
#[serde(untagged, expecting = "expected a number, or a text with a unit such as \"4.2 m/s\"")]
pub(super) enum Setting {
    Number(f64),
    Text(String),
}
