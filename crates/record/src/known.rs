//! What a machine knows of the rules and the ground: which rules, what their tunables are set to, and which solids there are.
//!
//! Machines begin with what the course tells their side and learn of [`Change`]s, each at one agreed tick. A rule that
//! differs on one side is the commonest fault there is: here it is made, and from the same changes it is explained.

use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use velocitas_core::{Ground, Ingredients, Kinds, Motion, SolidId, Tunable};

use crate::ids::{MachineId, RecordTick};
use crate::time::LabTime;
use crate::world::World;

/// Which machines a change reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Reach {
    /// All of them.
    All,
    /// One only.
    One(MachineId),
}

impl Reach {
    /// Whether it reaches this one.
    pub fn covers(self, machine: MachineId) -> bool {
        self == Self::All || self == Self::One(machine)
    }
}

/// A change of the rules or of the ground, as it is recorded.
#[derive(Clone, Debug)]
pub struct Change {
    /// When it was asked for.
    pub at: LabTime,
    /// The tick from which it holds.
    pub tick: RecordTick,
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
    /// A solid of the course is there from now on, or no more.
    Solid {
        /// Which.
        solid: SolidId,
        /// Whether it is there.
        there: bool,
    },
}

impl fmt::Debug for Changed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Tuned { kind, tunable, value } => write!(f, "Tuned({kind}, {tunable} = {value})"),
            Self::Reloaded { kind, version, .. } => write!(f, "Reloaded({kind}, {version})"),
            Self::Solid { solid, there } => write!(f, "Solid({}, {there})", solid.0),
        }
    }
}

/// The rules and the ground as one machine knows them.
#[derive(Clone, Debug)]
pub struct Known {
    /// The rules.
    pub kinds: Kinds,
    /// For each rule its tunables, in SI units.
    pub tunables: Vec<Vec<f32>>,
    /// For each rule which version of it; 0 is the course's.
    pub versions: Vec<u16>,
    /// Where it is.
    world: Arc<World>,
    /// Which of its solids this machine knows, by id.
    solids: Vec<bool>,
    /// The ground made of them; `None` until it is asked for after a change.
    ground: Option<Arc<Ground>>,
}

impl Known {
    /// These rules with their tunables, and the world with those of its solids, by id, that are told of.
    pub fn new(kinds: Kinds, tunables: Vec<Vec<f32>>, world: Arc<World>, solids: Vec<bool>) -> Self {
        let ground = Some(Arc::new(world.ground_of(&solids)));
        Self { kinds, versions: vec![0; tunables.len()], tunables, world, solids, ground }
    }

    /// Whether it knows a solid. The floor and the edge of the world are known to all.
    pub fn knows(&self, solid: SolidId) -> bool {
        self.solids.get(usize::from(solid.0)).copied().unwrap_or(true)
    }

    /// Which of the course's solids it knows, by id.
    pub fn solids(&self) -> &[bool] {
        &self.solids
    }

    /// The ground as it knows it.
    pub fn ground(&self) -> Arc<Ground> {
        self.ground.clone().unwrap_or_else(|| Arc::new(self.world.ground_of(&self.solids)))
    }

    /// Makes the ground, so that nobody has to make it again.
    pub fn settle(&mut self) {
        self.ground = Some(self.ground());
    }

    /// What a program is told of all that.
    pub fn ingredients(&self) -> Ingredients {
        Ingredients { ground: self.ground(), kinds: self.kinds.clone(), tunables: self.tunables.clone().into() }
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
            Changed::Solid { solid, there } => {
                if let Some(known) = self.solids.get_mut(usize::from(solid.0)) {
                    *known = *there;
                    self.ground = None;
                }
            }
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

/// A tunable turned by one step of a handy size, within its range.
pub fn turned(tunable: &Tunable, value: f32, up: bool) -> f32 {
    let (least, most) = (f64::from(tunable.least), f64::from(tunable.most));
    let size = f64::from(tunable.default).abs();
    let range = if size > 0.0 { size } else { most - least };
    let step = handy(range / 20.0);
    let steps = libm::round(f64::from(value) / step) + if up { 1.0 } else { -1.0 };
    // Clearing the rounding of the product: 1.7, not 1.7000000000000002.
    let decimals = 1.0 / step;
    let next =
        if decimals > 1.0 { libm::round(steps * step * decimals * 10.0) / (decimals * 10.0) } else { steps * step };
    next.clamp(least, most) as f32
}

/// The nearest of 1, 2 and 5 times a power of ten.
fn handy(x: f64) -> f64 {
    let mut power = 1e-6;
    while power * 10.0 <= x {
        power *= 10.0;
    }
    match x / power {
        m if m < 1.5 => power,
        m if m < 3.5 => 2.0 * power,
        m if m < 7.5 => 5.0 * power,
        _ => 10.0 * power,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const fn tunable(default: f32, least: f32, most: f32) -> Tunable {
        Tunable { name: "x", unit: "m/s", default, least, most }
    }

    #[test]
    fn a_tunable_turns_by_handy_steps_and_stays_in_range() {
        let walk = tunable(4.2, 0.5, 20.0);
        assert_eq!((turned(&walk, 4.2, true), turned(&walk, 4.2, false)), (4.4, 4.0));
        assert_eq!(turned(&walk, 0.5, false), 0.5);
        assert_eq!(turned(&walk, 20.0, true), 20.0);
        let mass = tunable(9000.0, 1000.0, 60_000.0);
        assert_eq!(turned(&mass, 9000.0, true), 9500.0);
        let none = tunable(0.0, -1.0, 1.0);
        assert_eq!(turned(&none, 0.0, true), 0.1);
    }
}
