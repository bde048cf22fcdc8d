//! Ways to cheat: a table. Each row says how a course writes it and what it does to the rogue's own machine; the core knows
//! nothing of any of it.

use std::collections::VecDeque;
use std::sync::Arc;

use velocitas_core::{
    BitReader, Bounds, Ground, Header, Ingredients, Input, InputKind, Kinds, Schema, State, Vec3, WireTick,
    stick_quantiser, vec3, wrap_angle,
};

use velocitas_record::quantity::Takes;
use velocitas_record::time::LabTime;

/// A way to cheat, and how far.
#[derive(Clone, Copy, Debug)]
pub struct Cheat {
    /// Which.
    pub spec: &'static CheatSpec,
    /// Its size, as a factor or in metres; 1 where it has none.
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
    /// What must come of it.
    pub answered: Answered,
    /// Whether the way to the next place is cut short, so that there is something in it to cheat against.
    pub cuts_corners: bool,
}

/// What must come of a cheat.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answered {
    /// A verdict, where there is enough of it to tell.
    Verdict,
    /// A note, where the rule says what hands can give.
    Note,
    /// Nothing: nothing is gained by it.
    Nothing,
}

impl Answered {
    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Verdict => "verdict",
            Self::Note => "note",
            Self::Nothing => "nothing to be gained",
        }
    }
}

/// Who can do it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Whose {
    /// Somebody whose inputs travel and nothing else.
    Inputs,
    /// Somebody who says where it is.
    Positions,
    /// Anybody.
    Either,
}

impl Whose {
    /// Whether that is one of somebody whose inputs travel, or of somebody who says where it is.
    pub fn fits(self, sends_inputs: bool) -> bool {
        self == Self::Either || (self == Self::Inputs) == sends_inputs
    }
}

/// What is said of the world: the truth, the rules, the rogue's own rule by number, how far.
type Tells = fn(&mut Ingredients, &Kinds, u8, f32);
/// Where the rogue puts itself: from where, by which schema, within what, how far.
type Moves = fn(&mut State, &Schema, &Bounds, f32);
/// What the rogue's own entity is between its ticks, while it lasts: by which schema, as it stood at the beginning, how far, and
/// over how many seconds.
type Keeps = fn(&mut State, &Schema, &State, (f32, f32));
/// What the rogue sends instead of an input: by which schema, how far, for which tick.
type Rewrites = fn(&mut Input, &Schema, (f32, WireTick));
/// What the rogue sends instead of a datagram: what it kept of those before, the datagram, how far (a time in milliseconds), when.
type Sends = fn(&mut Post, Vec<u8>, f32, LabTime) -> Vec<Vec<u8>>;

/// Datagrams that a rogue keeps, each with when it was to be sent.
pub type Post = VecDeque<(LabTime, Vec<u8>)>;

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
    /// The same of those that were told before: another word on the same ticks. With inputs only.
    Contradicts(Rewrites),
    /// Everything is told of other ticks than it is of while it lasts: later by this factor times the amount.
    Shifts(i16),
    /// The machine's clock runs faster by this factor while it lasts.
    Hurries(fn(f32) -> f64),
    /// Datagrams are sent otherwise than they came, while it lasts.
    Sends(Sends),
}

impl CheatSpec {
    /// Who can do it.
    pub const fn whose(&self) -> Whose {
        match self.does {
            Does::Rewrites(_) | Does::Contradicts(_) => Whose::Inputs,
            Does::Tells(_) | Does::Moves(_) | Does::Keeps(_) => Whose::Positions,
            Does::Shifts(_) | Does::Hurries(_) | Does::Sends(_) => Whose::Either,
        }
    }

    /// Whether it may move somebody where nobody may, so that a search for what goes unfound has a use for it: what must come of nothing
    /// gains nothing, and what happens to datagrams as they are moves nobody.
    pub fn may_gain(&self) -> bool {
        self.answered == Answered::Verdict && !matches!(self.does, Does::Sends(_))
    }

    /// Whether it is done to what goes out, and to nothing before that.
    pub const fn is_on_the_way_out(&self) -> bool {
        matches!(self.does, Does::Rewrites(_) | Does::Contradicts(_) | Does::Shifts(_) | Does::Sends(_))
    }

    /// Whether it happens once.
    pub const fn is_once(&self) -> bool {
        matches!(self.does, Does::Moves(_))
    }
}

/// The table.
pub static CHEATS: [CheatSpec; 17] = [
    CheatSpec {
        key: "run",
        takes: Takes::Factor,
        help: "run faster by this factor",
        does: Does::Tells(run),
        answered: Answered::Verdict,
        cuts_corners: false,
    },
    CheatSpec {
        key: "jump",
        takes: Takes::Length,
        help: "jump so far ahead",
        does: Does::Moves(jump),
        answered: Answered::Verdict,
        cuts_corners: false,
    },
    CheatSpec {
        key: "walls",
        takes: Takes::Switch,
        help: "walk through walls",
        does: Does::Tells(walls),
        answered: Answered::Verdict,
        cuts_corners: true,
    },
    CheatSpec {
        key: "fly",
        takes: Takes::Speed,
        help: "rise at this speed in metres a second, up to ten, with nothing under the feet",
        does: Does::Keeps(fly),
        answered: Answered::Verdict,
        cuts_corners: false,
    },
    CheatSpec {
        key: "drift",
        takes: Takes::Speed,
        help: "slide ahead at this speed in metres a second, on top of walking",
        does: Does::Keeps(drift),
        answered: Answered::Verdict,
        cuts_corners: false,
    },
    CheatSpec {
        key: "tireless",
        takes: Takes::Switch,
        help: "keep what only the owner knows as it was at the beginning: never out of breath",
        does: Does::Keeps(tireless),
        answered: Answered::Verdict,
        cuts_corners: false,
    },
    CheatSpec {
        key: "overreach",
        takes: Takes::Factor,
        help: "push the stick beyond its end by this factor",
        does: Does::Rewrites(overreach),
        answered: Answered::Verdict,
        cuts_corners: false,
    },
    CheatSpec {
        key: "contradict",
        takes: Takes::Switch,
        help: "repeat other inputs than were told before",
        does: Does::Contradicts(turned_round),
        answered: Answered::Verdict,
        cuts_corners: false,
    },
    CheatSpec {
        key: "spin",
        takes: Takes::Switch,
        help: "look the other way in every other tick",
        does: Does::Rewrites(spin),
        answered: Answered::Note,
        cuts_corners: false,
    },
    CheatSpec {
        key: "foretell",
        takes: Takes::Whole,
        help: "say of everything that it belongs to a later tick, by this number",
        does: Does::Shifts(1),
        answered: Answered::Nothing,
        cuts_corners: false,
    },
    CheatSpec {
        key: "backdate",
        takes: Takes::Whole,
        help: "say of everything that it belongs to an earlier tick, by this number",
        does: Does::Shifts(-1),
        answered: Answered::Nothing,
        cuts_corners: false,
    },
    CheatSpec {
        key: "hurry",
        takes: Takes::Factor,
        help: "let the machine's clock run faster by this factor",
        does: Does::Hurries(f64::from),
        answered: Answered::Nothing,
        cuts_corners: false,
    },
    CheatSpec {
        key: "dawdle",
        takes: Takes::Factor,
        help: "let the machine's clock run slower by this factor",
        does: Does::Hurries(|slower| 1.0 / f64::from(velocitas_core::max(slower, 0.01))),
        answered: Answered::Nothing,
        cuts_corners: false,
    },
    CheatSpec {
        key: "flood",
        takes: Takes::Factor,
        help: "send every datagram this number of times",
        does: Does::Sends(flood),
        answered: Answered::Verdict,
        cuts_corners: false,
    },
    CheatSpec {
        key: "replay",
        takes: Takes::Time,
        help: "send everything again so much later",
        does: Does::Sends(replay),
        answered: Answered::Nothing,
        cuts_corners: false,
    },
    CheatSpec {
        key: "withhold",
        takes: Takes::Time,
        help: "keep everything back for so long, then send it at once, again and again",
        does: Does::Sends(withhold),
        answered: Answered::Nothing,
        cuts_corners: false,
    },
    CheatSpec {
        key: "nonsense",
        takes: Takes::Factor,
        help: "send this number of meaningless datagrams with every datagram",
        does: Does::Sends(nonsense),
        answered: Answered::Nothing,
        cuts_corners: false,
    },
];

/// Every bearing turned by half a turn, in every other tick.
fn spin(input: &mut Input, schema: &Schema, (_, tick): (f32, WireTick)) {
    for f in schema.input.iter().filter(|f| tick.0 % 2 == 1 && matches!(f.kind, InputKind::Bearing { .. })) {
        input.set_real(f.lane, wrap_angle(input.real(f.lane) + std::f32::consts::PI));
    }
    *input = schema.round_input(input);
}

/// The stick pushed the other way.
fn turned_round(input: &mut Input, schema: &Schema, _: (f32, WireTick)) {
    for f in schema.input.iter().filter(|f| matches!(f.kind, InputKind::Stick { .. } | InputKind::Axis { .. })) {
        (f.lane..f.lane + f.kind.lanes()).for_each(|lane| input.set_real(lane, -input.real(lane)));
    }
}

/// Copies at most, however many are asked for.
const MOST_COPIES: f32 = 1000.0;
/// Datagrams that a rogue keeps at most.
const MOST_KEPT: usize = 4096;

fn millis(amount: f32) -> LabTime {
    LabTime::from_millis(f64::from(velocitas_core::max(amount, 0.0)))
}

fn flood(_: &mut Post, bytes: Vec<u8>, times: f32, _: LabTime) -> Vec<Vec<u8>> {
    vec![bytes; times.clamp(1.0, MOST_COPIES) as usize]
}

fn replay(post: &mut Post, bytes: Vec<u8>, after_ms: f32, now: LabTime) -> Vec<Vec<u8>> {
    let again = now.plus(millis(after_ms));
    post.push_back((again, bytes.clone()));
    if post.len() > MOST_KEPT {
        post.pop_front();
    }
    let mut sent = vec![bytes];
    let due = post.iter().take_while(|(at, _)| *at <= now).count();
    sent.extend(post.drain(..due).map(|(_, bytes)| bytes));
    sent
}

fn withhold(post: &mut Post, bytes: Vec<u8>, for_ms: f32, now: LabTime) -> Vec<Vec<u8>> {
    post.push_back((now, bytes));
    let until = post.front().map(|(since, _)| since.plus(millis(for_ms)));
    if until.is_some_and(|until| now < until) && post.len() < MOST_KEPT {
        return Vec::new();
    }
    post.drain(..).map(|(_, bytes)| bytes).collect()
}

fn nonsense(_: &mut Post, bytes: Vec<u8>, times: f32, now: LabTime) -> Vec<Vec<u8>> {
    // What comes before says whose it is.
    let mut reader = BitReader::new(&bytes);
    let envelope = Header::read(&mut reader).map_or(0, |_| bytes.len() - (reader.left() / 8) as usize);
    let upside_down = |turn: usize| {
        let key = (now.0 as u8).wrapping_add(turn as u8) | 1;
        let body = bytes.iter().enumerate();
        body.map(|(i, byte)| if i < envelope { *byte } else { byte.wrapping_mul(key) ^ 0x5a }).collect()
    };
    // In front of what is true: or that would be dropped as heard already.
    let mut all: Vec<Vec<u8>> = (0..times.clamp(0.0, MOST_COPIES) as usize).map(upside_down).collect();
    all.push(bytes);
    all
}

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

/// Metres ahead of where it looks; a rule without a bearing jumps east.
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
fn overreach(input: &mut Input, schema: &Schema, (factor, _): (f32, WireTick)) {
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
