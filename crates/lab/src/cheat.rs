//! Ways to cheat: a table. Each row says how a course writes it and what it does to the rogue's own machine; the core knows
//! nothing of any of it.

use std::sync::Arc;

use velocitas_core::{
    Bounds, Ground, Ingredients, Input, InputKind, Kinds, Schema, State, Vec3, stick_quantiser, vec3,
};

use crate::knob::Takes;

/// A way to cheat, and how far.
#[derive(Clone, Copy, Debug)]
pub struct Cheat {
    /// Which.
    pub spec: &'static CheatSpec,
    /// So many times, so many metres; 1 where there is no more or less.
    pub amount: f32,
}

impl PartialEq for Cheat {
    fn eq(&self, other: &Self) -> bool {
        self.spec.key == other.spec.key && self.amount == other.amount
    }
}

/// A row of the table.
#[derive(Debug)]
pub struct CheatSpec {
    /// Its key in a course.
    pub key: &'static str,
    /// How a course writes how far.
    pub takes: Takes,
    /// What it is, in a line.
    pub help: &'static str,
    /// What it does.
    pub does: Does,
    /// Whether the way to the next place is cut short, so that there is something in it to cheat against.
    pub cuts_corners: bool,
}

/// What is said of the world: the truth, the rules, the rogue's own rule by number, how far.
type Tells = fn(&mut Ingredients, &Kinds, u8, f32);
/// Where the rogue puts itself: from where, by which schema, within what, how far.
type Moves = fn(&mut State, &Schema, &Bounds, f32);
/// What the rogue's own entity is between its ticks, while it lasts: by which schema, as it stood at the beginning, how far, in so many
/// seconds.
type Keeps = fn(&mut State, &Schema, &State, (f32, f32));
/// What the rogue sends instead of an input: by which schema, how far.
type Rewrites = fn(&mut Input, &Schema, f32);

/// What a cheat does.
#[derive(Clone, Copy, Debug)]
pub enum Does {
    /// The client is told something else of the world while it lasts. With positions only.
    Tells(Tells),
    /// The own entity is put elsewhere, once. With positions only.
    Moves(Moves),
    /// The own entity is made otherwise in every frame while it lasts. With positions only.
    Keeps(Keeps),
    /// Inputs are rewritten on their way out while it lasts. With inputs only.
    Rewrites(Rewrites),
}

impl CheatSpec {
    /// Whether it is one of somebody whose inputs travel; otherwise of somebody whose positions do.
    pub const fn needs_inputs(&self) -> bool {
        matches!(self.does, Does::Rewrites(_))
    }

    /// Whether it happens once.
    pub const fn is_once(&self) -> bool {
        matches!(self.does, Does::Moves(_))
    }
}

/// The table.
pub static CHEATS: [CheatSpec; 7] = [
    CheatSpec {
        key: "run",
        takes: Takes::Factor,
        help: "run so many times as fast",
        does: Does::Tells(run),
        cuts_corners: false,
    },
    CheatSpec {
        key: "jump",
        takes: Takes::Length,
        help: "jump so far ahead",
        does: Does::Moves(jump),
        cuts_corners: false,
    },
    CheatSpec {
        key: "walls",
        takes: Takes::Switch,
        help: "walk through walls",
        does: Does::Tells(walls),
        cuts_corners: true,
    },
    CheatSpec {
        key: "fly",
        takes: Takes::Speed,
        help: "rise at so many metres a second, with nothing under the feet, up to ten",
        does: Does::Keeps(fly),
        cuts_corners: false,
    },
    CheatSpec {
        key: "drift",
        takes: Takes::Speed,
        help: "slide ahead at so many metres a second, beside what is walked",
        does: Does::Keeps(drift),
        cuts_corners: false,
    },
    CheatSpec {
        key: "tireless",
        takes: Takes::Switch,
        help: "keep what only the owner knows as it was at the beginning: never out of breath",
        does: Does::Keeps(tireless),
        cuts_corners: false,
    },
    CheatSpec {
        key: "overreach",
        takes: Takes::Factor,
        help: "push the stick so many times as far as it goes",
        does: Does::Rewrites(overreach),
        cuts_corners: false,
    },
];

/// The first speed of a rule is how fast it goes; it needs the grip to get there as well.
fn run(world: &mut Ingredients, kinds: &Kinds, kind: u8, factor: f32) {
    let mut all: Vec<Vec<f32>> = world.tunables.to_vec();
    let tunables = kinds.motion(kind).tunables();
    if let Some(speed) = tunables.iter().position(|t| t.unit == "m/s") {
        all[usize::from(kind)][speed] *= factor;
    }
    for (i, _) in tunables.iter().enumerate().filter(|(_, t)| t.unit == "m/s^2" && t.name == "grip") {
        all[usize::from(kind)][i] *= factor;
    }
    world.tunables = all.into();
}

fn walls(world: &mut Ingredients, _: &Kinds, _: u8, _: f32) {
    let bounds = *world.ground.bounds();
    world.ground = Arc::new(Ground::new(bounds, Vec::new(), world.ground.zones().to_vec()));
}

/// So many metres ahead of where it looks; a rule without a bearing jumps east.
fn jump(state: &mut State, schema: &Schema, bounds: &Bounds, metres: f32) {
    let bearing = schema.bearing_lane().map_or(0.0, |lane| state.real(lane));
    let mut at = state.vec3(0) + vec3(libm::cosf(bearing), libm::sinf(bearing), 0.0) * metres;
    at.x = at.x.clamp(bounds.min.0 + 0.5, bounds.max.0 - 0.5);
    at.y = at.y.clamp(bounds.min.1 + 0.5, bounds.max.1 - 0.5);
    state.set_vec3(0, at);
}

/// Nobody flies higher, in metres.
const HIGHEST: f32 = 10.0;

fn fly(state: &mut State, schema: &Schema, first: &State, (speed, seconds): (f32, f32)) {
    let mut at = state.vec3(0);
    let rise = if at.z < first.vec3(0).z + HIGHEST { speed } else { 0.0 };
    match schema.velocity_lane() {
        // Who rises stands on nothing, so no rule draws it back to the ground.
        Some(lane) => {
            let v = state.vec3(lane);
            state.set_vec3(lane, vec3(v.x, v.y, velocitas_core::max(v.z, rise)));
        }
        None => {
            at.z += rise * seconds;
            state.set_vec3(0, at);
        }
    }
}

fn drift(state: &mut State, schema: &Schema, _: &State, (speed, seconds): (f32, f32)) {
    let way = schema.velocity_lane().map_or(Vec3::ZERO, |lane| state.vec3(lane).level());
    // Who stands stays where it is: it slides where it goes.
    if way.length() > 0.1 {
        state.set_vec3(0, state.vec3(0) + way * (speed * seconds / way.length()));
    }
}

fn tireless(state: &mut State, schema: &Schema, first: &State, _: (f32, f32)) {
    schema.keep_private(state, first);
}

/// Beyond the disc if need be.
fn overreach(input: &mut Input, schema: &Schema, factor: f32) {
    for f in &schema.input {
        if let InputKind::Stick { bits } = f.kind {
            for lane in [f.lane, f.lane + 1] {
                let q = stick_quantiser(bits);
                input.set_real(lane, q.round((input.real(lane) * factor).clamp(-1.0, 1.0)));
            }
        }
    }
}

/// A cheat by its key, for tests.
#[cfg(test)]
pub(crate) fn cheat(key: &str, amount: f32) -> Cheat {
    Cheat { spec: CHEATS.iter().find(|spec| spec.key == key).expect("a row"), amount }
}
