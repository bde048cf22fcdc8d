//! What a machine knows of the rules: which ones, and what their tunables are set to.
//!
//! Machines begin with what the course tells their side and learn of [`Change`]s, each at one agreed tick. A rule that
//! differs on one side is the commonest fault there is: here it is made, and from the same changes it is explained.

use std::fmt;
use std::sync::Arc;

use velocitas_core::{Kinds, Motion};

use crate::course::{Course, KnownTo};
use crate::record::Machine;
use crate::time::LabTime;

/// Which machines a change reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reach {
    /// All of them.
    All,
    /// One only.
    One(Machine),
}

impl Reach {
    /// Whether it reaches this one.
    pub fn covers(self, machine: Machine) -> bool {
        self == Self::All || self == Self::One(machine)
    }
}

/// A change of the rules, as it is recorded.
#[derive(Clone, Debug)]
pub struct Change {
    /// When it was asked for.
    pub at: LabTime,
    /// The tick from which it holds, from the base.
    pub tick: u32,
    /// On which machines.
    pub reach: Reach,
    /// What.
    pub what: Changed,
}

/// What was changed.
#[derive(Clone)]
pub enum Changed {
    /// A tunable was turned.
    Tuned {
        /// Whose: the number of the rule.
        kind: u8,
        /// Which, by name.
        tunable: &'static str,
        /// To what, in SI units.
        value: f32,
    },
    /// A rule was read again.
    Reloaded {
        /// Which: its number.
        kind: u8,
        /// Counts what was ever read, from 1.
        version: u16,
        /// What it is now.
        rule: Arc<dyn Motion>,
    },
}

impl fmt::Debug for Changed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Tuned { kind, tunable, value } => write!(f, "Tuned({kind}, {tunable} = {value})"),
            Self::Reloaded { kind, version, .. } => write!(f, "Reloaded({kind}, {version})"),
        }
    }
}

/// The rules as one machine knows them.
#[derive(Clone, Debug)]
pub struct Known {
    /// The rules.
    pub kinds: Kinds,
    /// For each rule its tunables, in SI units.
    pub tunables: Vec<Vec<f32>>,
    /// For each rule which version of it; 0 is the course's.
    pub versions: Vec<u16>,
}

impl Known {
    /// What a course tells a side.
    pub fn of(course: &Course, side: KnownTo) -> Self {
        let tunables = course.tunables(side);
        Self { kinds: course.kinds.clone(), versions: vec![0; tunables.len()], tunables }
    }

    /// Takes over a change. What does not fit changes nothing.
    pub fn take(&mut self, what: &Changed) {
        match what {
            Changed::Tuned { kind, tunable, value } => {
                let Some(rule) = self.kinds.get(*kind) else { return };
                let Some(i) = rule.tunables().iter().position(|t| t.name == *tunable) else { return };
                let spec = &rule.tunables()[i];
                if value.is_finite() {
                    self.tunables[usize::from(*kind)][i] = velocitas_core::clamp(*value, spec.least, spec.most);
                }
            }
            Changed::Reloaded { kind, version, rule } => self.reload(*kind, *version, rule),
        }
    }

    /// Tunables that were turned stay so under their names; the others are as the new rule has them.
    fn reload(&mut self, kind: u8, version: u16, rule: &Arc<dyn Motion>) {
        let place = usize::from(kind);
        let (Some(before), Ok(kinds)) = (self.kinds.get(kind), self.kinds.with(kind, rule.clone())) else { return };
        let turned = |name: &str| {
            let i = before.tunables().iter().position(|t| t.name == name)?;
            let now = *self.tunables[place].get(i)?;
            (now != before.tunables()[i].default).then_some(now)
        };
        let tunables = rule
            .tunables()
            .iter()
            .map(|t| turned(t.name).map_or(t.default, |x| velocitas_core::clamp(x, t.least, t.most)))
            .collect();
        self.tunables[place] = tunables;
        self.versions[place] = version;
        self.kinds = kinds;
    }
}
