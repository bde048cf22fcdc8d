//! A rule in Rust that is not in this program: what its fields mean and what it allows, as far as a record tells of it.
//!
//! Records of its runs can be looked at with that. No step of it can be made: nothing is run, and nothing tried.

use serde::{Deserialize, Serialize};
use velocitas_core::{
    Body, Burst, Input, Limits, Look, Motion, Scene, Schema, State, Step, Tunable, Vec3,
    names::{self, Name},
};

/// The longest name of a rule, a field, a unit or a tunable.
const LONGEST: usize = 64;

/// What is told of a rule.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Absent {
    #[serde(with = "names")]
    name: Name,
    schema: Schema,
    tunables: Vec<Tunable>,
    body: Body,
    /// Metres a second: along the ground, up, down; and the slack on them.
    pace: [f32; 4],
    /// A pace that can be kept up, and metres beyond it.
    burst: Option<[f32; 2]>,
    /// Metres a second, squared.
    fall: Option<f32>,
    accel: Option<f32>,
    moves: u32,
    /// The name of each look, and below which speed it is taken, in m/s.
    #[serde(default)]
    looks: Vec<Look>,
}

impl Absent {
    /// What there is to be told of a rule, with its tunables as they are.
    pub(crate) fn of(rule: &dyn Motion, tunables: &[f32]) -> Self {
        let limits = rule.limits(tunables);
        Self {
            name: rule.name(),
            schema: rule.schema().clone(),
            tunables: rule.tunables().to_vec(),
            body: rule.body(),
            pace: [limits.level, limits.up, limits.down, limits.slack],
            burst: limits.burst.map(|burst| [burst.level, burst.metres]),
            fall: limits.fall,
            accel: limits.accel,
            moves: rule.moves(),
            looks: rule.looks().to_vec(),
        }
    }

    /// Why it can be that of no rule, if so.
    pub(crate) fn trouble(&self) -> Option<String> {
        let real = |x: &f32| x.is_finite() && *x >= 0.0;
        let body = [self.body.radius, self.body.height, self.body.step];
        let slow = self.looks.iter().filter_map(|look| look.below.as_ref());
        let sound = self.pace.iter().chain(slow).chain(&body).chain(self.burst.iter().flatten()).all(real);
        // They are shown.
        let fields = self.schema.state.iter().flat_map(|f| [f.name, f.unit]);
        let fields = fields.chain(self.schema.input.iter().map(|f| f.name));
        let looks = self.looks.iter().map(|look| look.name.as_str());
        let mut names =
            fields.chain(self.tunables.iter().flat_map(|t| [t.name, t.unit])).chain([self.name]).chain(looks);
        if let Some(name) = names.find(|name| name.chars().count() > LONGEST || name.chars().any(char::is_control)) {
            let name: String = name.chars().take(LONGEST).collect();
            return Some(format!("expected a name of at most {LONGEST} letters; found `{}`", name.escape_debug()));
        }
        let tunable = |t: &Tunable| [t.default, t.least, t.most].iter().all(|x| x.is_finite()) && t.least <= t.most;
        match self.schema.check() {
            Err(why) => Some(why.to_string()),
            Ok(()) if !sound || !self.tunables.iter().all(tunable) => {
                Some("expected limits, body and tunables that are numbers".to_owned())
            }
            Ok(()) => None,
        }
    }
}

impl Motion for Absent {
    fn name(&self) -> &'static str {
        self.name
    }

    fn schema(&self) -> &Schema {
        &self.schema
    }

    fn tunables(&self) -> &[Tunable] {
        &self.tunables
    }

    fn body(&self) -> Body {
        self.body
    }

    fn limits(&self, _: &[f32]) -> Limits {
        let [level, up, down, slack] = self.pace;
        let burst = self.burst.map(|[level, metres]| Burst { level, metres });
        Limits { burst, fall: self.fall, accel: self.accel, ..Limits::of_pace(level, up, down, slack) }
    }

    fn spawn(&self, position: Vec3, bearing: f32) -> State {
        let mut state = State::default();
        state.set_vec3(0, position);
        if let Some(lane) = self.schema.bearing_lane() {
            state.set_real(lane, bearing);
        }
        state
    }

    fn moves(&self) -> u32 {
        self.moves
    }

    fn looks(&self) -> &[Look] {
        &self.looks
    }

    fn is_here(&self) -> bool {
        false
    }

    fn step(&self, _: &Scene<'_>, state: &State, _: &Input) -> Step {
        Step { state: *state, ..Step::default() }
    }
}
