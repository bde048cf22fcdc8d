//! What an accusation says: by which rule, on which evidence, and what was done about it.

use serde::{Deserialize, Serialize};

use crate::body::Body;
use crate::ids::{EntityId, PeerId};
use crate::tick::Tick;
use crate::vec3::Vec3;

/// The rules.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Rule {
    /// An input outside its range (measured and limit: length of the stick).
    Range,
    /// An input or claim for a tick far ahead (measured and limit: ticks).
    Window,
    /// A different input for a tick already given (measured and limit: inputs for the tick).
    Conflict,
    /// More datagrams than anybody needs (measured: those not read in a second; limit: 0).
    Flood,
    /// More ticks claimed than time has passed (measured and limit: ticks).
    Time,
    /// Further in one claim than is possible in a second (metres).
    Teleport,
    /// Too far in one claim (metres).
    Reach,
    /// Through something solid (metres along the claimed move; limit: where it was met).
    Sweep,
    /// Up an edge that is too tall, or that is not there (metres).
    Edge,
    /// Higher than a hop can reach with nothing under the feet (metres above where it last stood).
    Support,
    /// Too far in a second (metres).
    Pace,
    /// Further than the sustained pace allows (metres beyond it).
    Burst,
    /// A change of velocity along the ground that is too sudden (metres a second).
    Accel,
    /// A field that grew more than it could have (as a multiple of the possible growth).
    Growth,
    /// Another place than the inputs lead to (metres).
    Step,
    /// Another state than the inputs lead to, in the same place (in tolerances of the field that is furthest off).
    State,
    /// Turned faster than hands are declared to (radians). A note, never a verdict.
    Turn,
    /// Inputs pressed together that are declared never to be (measured: 1; limit: 0). A note, never a verdict.
    Hands,
}

/// What a rule is called and what it measures.
#[derive(Clone, Copy, Debug)]
pub struct RuleSpec {
    /// Which.
    pub rule: Rule,
    /// Its name in reports.
    pub name: &'static str,
    /// The unit of what it measures and allows.
    pub unit: &'static str,
    /// The clock by which it measures.
    pub clock: &'static str,
    /// What it refuses, in a line.
    pub help: &'static str,
}

const NO_CLOCK: &str = "none";
const PAID: &str = "its own ticks, paid for by the server's";

/// The table, in the order of the rules.
pub const RULES: [RuleSpec; 18] = [
    row(Rule::Range, "range", "1", NO_CLOCK, "an input outside its range"),
    row(Rule::Window, "window", "ticks", "the server's ticks", "an input or claim for a tick far ahead"),
    row(Rule::Conflict, "conflict", "inputs", NO_CLOCK, "another input for a tick already given"),
    row(Rule::Flood, "flood", "datagrams", "the server's ticks", "more datagrams than anybody needs"),
    row(Rule::Time, "time", "ticks", "ticks that have passed at the server", "more ticks claimed than time has passed"),
    row(Rule::Teleport, "teleport", "m", PAID, "elsewhere at once, put there by nobody"),
    row(Rule::Reach, "reach", "m", PAID, "too far in one claim"),
    row(Rule::Sweep, "sweep", "m", PAID, "through something solid"),
    row(Rule::Edge, "edge", "m", PAID, "up an edge too tall, or not there"),
    row(Rule::Support, "support", "m", PAID, "higher than a hop with nothing under the feet"),
    row(Rule::Pace, "pace", "m", PAID, "too far in a second"),
    row(Rule::Burst, "burst", "m", PAID, "further than can be kept up"),
    row(Rule::Accel, "accel", "m/s", PAID, "another speed sooner than can be"),
    row(Rule::Growth, "growth", "1", PAID, "more of something than could have grown"),
    row(Rule::Step, "step", "m", PAID, "another place than what was pressed leads to"),
    row(Rule::State, "state", "1", PAID, "another state than what was pressed leads to"),
    row(Rule::Turn, "turn", "rad", "its own ticks", "turning faster than hands are said to"),
    row(Rule::Hands, "hands", "1", NO_CLOCK, "pressing together what hands are said not to"),
];

const fn row(rule: Rule, name: &'static str, unit: &'static str, clock: &'static str, help: &'static str) -> RuleSpec {
    RuleSpec { rule, name, unit, clock, help }
}

impl Rule {
    /// Its row of the table.
    pub const fn spec(self) -> &'static RuleSpec {
        &RULES[self as usize]
    }

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        self.spec().name
    }

    /// Whether it is about an input: the input is not used, and nobody is put back.
    pub const fn is_of_inputs(self) -> bool {
        matches!(self, Self::Range | Self::Window | Self::Conflict | Self::Flood)
    }

    /// Whether it is about what hands can do. Nobody can be sure of people, so it is only noted, whatever the server answers to other rules.
    pub const fn is_of_hands(self) -> bool {
        matches!(self, Self::Turn | Self::Hands)
    }

    /// Whether more or less of what it measures can be allowed by a setting.
    pub const fn is_adjustable(self) -> bool {
        self.is_measured() && !self.is_of_inputs() && !matches!(self, Self::Time)
    }

    /// Whether it can be broken by more or by less; otherwise it is broken or not.
    pub const fn is_measured(self) -> bool {
        !matches!(self, Self::Sweep | Self::Teleport | Self::Hands)
    }
}

/// What was done about it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Answer {
    /// The input was not used.
    Ignored,
    /// The owner was put back.
    PulledBack,
    /// Nothing: what was claimed holds.
    Noted,
    /// The owner was put where it could lawfully have come to.
    Clamped,
    /// The owner was put back, and it counts against its player.
    Struck,
    /// Its connection ends.
    Disconnected,
}

impl Answer {
    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Ignored => "ignored",
            Self::PulledBack => "pulledback",
            Self::Noted => "noted",
            Self::Clamped => "clamped",
            Self::Struck => "struck",
            Self::Disconnected => "disconnected",
        }
    }
}

/// What was measured against what was allowed, over which ticks.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Evidence {
    /// By which rule.
    pub rule: Rule,
    /// First tick of the evidence.
    pub from: Tick,
    /// Last tick of the evidence.
    pub to: Tick,
    /// What was measured.
    pub measured: f32,
    /// What was allowed: slack and quantum included, and the multiple that is allowed.
    pub limit: f32,
    /// The multiple of what the rule and its slack say that was allowed.
    pub allowed: f32,
    /// Share of slack in the limit.
    pub slack: f32,
    /// Allowance for rounding in the limit.
    pub quantum: f32,
    /// Metres beyond the lawful, without slack, that had been accepted by then. A pull back for pace takes them back.
    pub gain: f32,
}

impl Evidence {
    /// Evidence of a rule without slack, rounding and gain.
    pub const fn plain(rule: Rule, (from, to): (Tick, Tick), measured: f32, limit: f32) -> Self {
        Self { rule, from, to, measured, limit, allowed: 1.0, slack: 0.0, quantum: 0.0, gain: 0.0 }
    }

    /// What was measured as a share of what is allowed: see [`share`].
    pub fn share(&self) -> f32 {
        share(self.measured, self.limit)
    }

    /// The same where a multiple of it is allowed.
    #[must_use]
    pub fn allowing(mut self, allowed: f32) -> Self {
        self.limit *= allowed / self.allowed;
        self.allowed = allowed;
        self
    }

    /// Whether more was measured than is allowed.
    pub fn is_exceeded(&self) -> bool {
        self.measured > self.limit
    }
}

/// What was measured as a share of what is allowed: 1 at the limit, and infinite for anything where nothing is allowed.
pub fn share(measured: f32, limit: f32) -> f32 {
    match (measured > 0.0, limit > 0.0) {
        (_, true) => measured / limit,
        (true, false) => f32::INFINITY,
        (false, false) => 0.0,
    }
}

/// What a rule measured of a claim, lawful or not: how near it came to the limit.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Measure {
    /// Whose.
    pub peer: PeerId,
    /// Of which of its entities.
    pub entity: EntityId,
    /// What was measured, and what is allowed.
    pub evidence: Evidence,
}

/// Corners of a path at most.
pub const MOST_CORNERS: usize = 12;

/// The places that were claimed, oldest first: the corners between which something was measured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(from = "Vec<Vec3>", into = "Vec<Vec3>")]
pub struct Path {
    corners: [Vec3; MOST_CORNERS],
    count: u8,
}

impl From<Vec<Vec3>> for Path {
    fn from(corners: Vec<Vec3>) -> Self {
        Self::through(corners)
    }
}

impl From<Path> for Vec<Vec3> {
    fn from(path: Path) -> Self {
        path.corners[..usize::from(path.count)].to_vec()
    }
}

impl Path {
    /// A path through these places; if there are too many, through the newest.
    pub fn through(places: impl IntoIterator<Item = Vec3>) -> Self {
        let mut path = Self::default();
        for at in places {
            if usize::from(path.count) == MOST_CORNERS {
                path.corners.rotate_left(1);
                path.count -= 1;
            }
            path.corners[usize::from(path.count)] = at;
            path.count += 1;
        }
        path
    }

    /// Its corners.
    pub fn corners(&self) -> &[Vec3] {
        &self.corners[..usize::from(self.count)]
    }
}

/// What a person needs to judge a verdict about places.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Exhibit {
    /// The body that was taken along the path.
    pub hull: Body,
    /// What was claimed.
    pub path: Path,
    /// Where the server puts its owner.
    pub put: Vec3,
}

/// An accusation with its evidence.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Verdict {
    /// Who.
    pub peer: PeerId,
    /// For which of its entities.
    pub entity: EntityId,
    /// The server's tick.
    pub tick: Tick,
    /// On what.
    pub evidence: Evidence,
    /// Where it was, if the rule is about places.
    pub exhibit: Option<Exhibit>,
    /// What was done.
    pub answer: Answer,
}

impl Verdict {
    /// Whether its owner was put somewhere.
    pub const fn puts_back(&self) -> bool {
        !self.evidence.rule.is_of_inputs() && !matches!(self.answer, Answer::Ignored | Answer::Noted)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_keeps_its_newest_corners() {
        let at = |i: usize| crate::vec3::vec3(i as f32, 0.0, 0.0);
        assert_eq!(Path::through([at(1), at(2)]).corners(), [at(1), at(2)]);
        let long = Path::through((0..20).map(at));
        assert_eq!((long.corners().len(), long.corners()[0], long.corners()[11]), (MOST_CORNERS, at(8), at(19)));
        assert!(Path::default().corners().is_empty());
    }

    #[test]
    fn the_table_is_in_the_order_of_the_rules() {
        for (i, spec) in RULES.iter().enumerate() {
            assert_eq!(spec.rule as usize, i, "{}", spec.name);
        }
    }
}
