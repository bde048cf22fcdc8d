//! A walker with something otherwise about it: the double of a rule, for tests here and in other crates.

use std::fmt;

use crate::body::Body;
use crate::data::{Input, State};
use crate::motion::{Hands, Limits, Look, Motion, Scene, Step, Tunable};
use crate::names::Name;
use crate::schema::Schema;
use crate::vec3::Vec3;
use crate::walker::Walker;

/// What happens to a step after the walker has made it from a state.
type After = dyn Fn(&Scene<'_>, &State, &mut Step) + Send + Sync;

/// A walker with something otherwise about it.
pub struct Altered {
    /// Its name.
    pub name: Name,
    /// Its layout, at first the walker's.
    pub schema: Schema,
    /// What its text would hash to, at first 0.
    pub version: u64,
    /// Of how many moves a tick of it is, at first 1.
    pub moves: u32,
    /// What hands can do to it, at first anything.
    pub hands: Hands,
    /// What becomes of each of its steps, at first nothing else.
    pub after: Box<After>,
    /// The walker itself.
    pub walker: Walker,
}

impl Altered {
    /// The walker by another name.
    pub fn named(name: Name) -> Self {
        let walker = Walker::new();
        Self {
            name,
            schema: walker.schema().clone(),
            version: 0,
            moves: 1,
            hands: walker.hands().clone(),
            after: Box::new(|_, _, _| {}),
            walker,
        }
    }
}

impl fmt::Debug for Altered {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Altered").field("name", &self.name).finish_non_exhaustive()
    }
}

impl Motion for Altered {
    fn name(&self) -> Name {
        self.name
    }
    fn schema(&self) -> &Schema {
        &self.schema
    }
    fn tunables(&self) -> &[Tunable] {
        self.walker.tunables()
    }
    fn body(&self) -> Body {
        self.walker.body()
    }
    fn limits(&self, tunables: &[f32]) -> Limits {
        self.walker.limits(tunables)
    }
    fn spawn(&self, position: Vec3, bearing: f32) -> State {
        self.walker.spawn(position, bearing)
    }
    fn moves(&self) -> u32 {
        self.moves
    }
    fn looks(&self) -> &[Look] {
        self.walker.looks()
    }
    fn version(&self) -> u64 {
        self.version
    }
    fn hands(&self) -> &Hands {
        &self.hands
    }
    fn step(&self, scene: &Scene<'_>, state: &State, input: &Input) -> Step {
        let mut step = self.walker.step(scene, state, input);
        (self.after)(scene, state, &mut step);
        step
    }
}
