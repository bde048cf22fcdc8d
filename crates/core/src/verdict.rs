//! What an accusation says: by which rule, on which evidence, and what was done about it.

use crate::ids::{EntityId, PeerId};
use crate::tick::Tick;

/// The rules.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rule {
    /// An input outside its range (measured and limit: length of the stick).
    Range,
    /// An input or claim for a tick far ahead (measured and limit: ticks).
    Window,
    /// A different input for a tick already given (measured and limit: inputs for the tick).
    Conflict,
    /// More ticks claimed than time has passed (measured and limit: ticks).
    Time,
    /// Too far in one claim (metres).
    Reach,
    /// Through something solid (metres along the claimed move; limit: where it was met).
    Sweep,
    /// Too far in a second (metres).
    Pace,
    /// Another place than what was pressed leads to (metres).
    Step,
    /// Another state than what was pressed leads to, in the same place (so many tolerances of the field that is farthest off).
    State,
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
    /// What it refuses, in a line.
    pub help: &'static str,
}

/// The table, in the order of the rules.
pub const RULES: [RuleSpec; 9] = [
    RuleSpec { rule: Rule::Range, name: "range", unit: "1", help: "an input outside its range" },
    RuleSpec { rule: Rule::Window, name: "window", unit: "ticks", help: "an input or claim for a tick far ahead" },
    RuleSpec { rule: Rule::Conflict, name: "conflict", unit: "inputs", help: "another input for a tick already given" },
    RuleSpec { rule: Rule::Time, name: "time", unit: "ticks", help: "more ticks claimed than time has passed" },
    RuleSpec { rule: Rule::Reach, name: "reach", unit: "m", help: "too far in one claim" },
    RuleSpec { rule: Rule::Sweep, name: "sweep", unit: "m", help: "through something solid" },
    RuleSpec { rule: Rule::Pace, name: "pace", unit: "m", help: "too far in a second" },
    RuleSpec { rule: Rule::Step, name: "step", unit: "m", help: "another place than what was pressed leads to" },
    RuleSpec { rule: Rule::State, name: "state", unit: "1", help: "another state than what was pressed leads to" },
];

impl Rule {
    /// Its row of the table.
    pub const fn spec(self) -> &'static RuleSpec {
        &RULES[self as usize]
    }

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        self.spec().name
    }
}

/// What was done about it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// The input was not used.
    Ignored,
    /// The owner was put back.
    PulledBack,
}

impl Answer {
    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Ignored => "ignored",
            Self::PulledBack => "pulledback",
        }
    }
}

/// What was measured against what was allowed, over which ticks.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Evidence {
    /// By which rule.
    pub rule: Rule,
    /// First tick of the evidence.
    pub from: Tick,
    /// Last tick of the evidence.
    pub to: Tick,
    /// What was measured.
    pub measured: f32,
    /// What was allowed, slack and quantum included.
    pub limit: f32,
    /// Share of slack in the limit.
    pub slack: f32,
    /// Allowance for rounding in the limit.
    pub quantum: f32,
    /// Metres beyond the lawful, without slack, that had been accepted by then. A pull back for pace takes them back.
    pub gain: f32,
}

impl Evidence {
    /// Of a rule that knows no slack, no rounding and no gain.
    pub const fn plain(rule: Rule, (from, to): (Tick, Tick), measured: f32, limit: f32) -> Self {
        Self { rule, from, to, measured, limit, slack: 0.0, quantum: 0.0, gain: 0.0 }
    }

    /// Whether more was measured than is allowed.
    pub fn is_exceeded(&self) -> bool {
        self.measured > self.limit
    }
}

/// What a rule measured of an owner's word, lawful or not: how near to a limit it came.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Measure {
    /// Whose.
    pub peer: PeerId,
    /// Of which of its entities.
    pub entity: EntityId,
    /// What was measured, and what is allowed.
    pub evidence: Evidence,
}

/// An accusation with its evidence.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Verdict {
    /// Who.
    pub peer: PeerId,
    /// For which of its entities.
    pub entity: EntityId,
    /// The server's tick.
    pub tick: Tick,
    /// On what.
    pub evidence: Evidence,
    /// What was done.
    pub answer: Answer,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_in_the_order_of_the_rules() {
        for (i, spec) in RULES.iter().enumerate() {
            assert_eq!(spec.rule as usize, i, "{}", spec.name);
        }
    }
}
