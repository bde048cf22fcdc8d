//! Budgets: what a course allows, and whether a run kept to it.
//!
//! A limit is of one member and one measure. When a course is read each member gets the nearest that there is: its own, its link's, or
//! that of all, in this order. Which measures there are, and which moment to look at where one is exceeded, says the table in `measure`.

mod against;
mod measure;

pub use against::{Compared, Known, against};
pub use measure::{Bound, MEASURES, Measure, Whose};

use velocitas_core::Rule;
use velocitas_record::ids::MemberId;
use velocitas_record::time::LabTime;

use crate::metrics::Measured;

/// A limit of one member of the cast.
#[derive(Clone, Copy, Debug)]
pub struct Limit {
    /// Whose.
    pub member: MemberId,
    /// Of what.
    pub measure: &'static Measure,
    /// How much, in the unit kept.
    pub value: f64,
    /// The line of the course that says so, from 1; `None` for what is asked of every course.
    pub line: Option<usize>,
    /// The line that says that it is meant to be exceeded, if one does: the course shows what goes wrong.
    pub exceeded: Option<usize>,
}

/// A check of the guard that is meant to accuse a member: the course shows that it does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Accused {
    /// Whom.
    pub member: MemberId,
    /// Which check.
    pub by: Rule,
    /// The line of the course that says so, from 1.
    pub line: usize,
}

/// How long a course is run to be checked, and how often.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Check {
    /// How much virtual time.
    pub lasts: LabTime,
    /// With how many seeds, from that of the course on.
    pub seeds: u32,
}

impl Check {
    /// What holds where a course says nothing.
    pub const USUAL: Self = Self { lasts: LabTime(30_000_000_000), seeds: 5 };
}

/// What came of a limit in a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It was kept.
    Within,
    /// It was not.
    Beyond,
    /// There was nothing to measure.
    Unmeasured,
}

/// A limit held against a run.
#[derive(Clone, Copy, Debug)]
pub struct Held {
    /// The limit.
    pub limit: Limit,
    /// What was measured.
    pub value: Option<f64>,
    /// When to look, if it was not kept.
    pub at: Option<LabTime>,
}

impl Held {
    /// What came of it.
    pub fn outcome(&self) -> Outcome {
        match self.value {
            None => Outcome::Unmeasured,
            Some(value) if self.limit.measure.is_within(value, self.limit.value) => Outcome::Within,
            Some(_) => Outcome::Beyond,
        }
    }
}

/// Holds the limits of a course against what a run of it came to, in the same order.
pub fn hold(limits: &[Limit], measured: &Measured) -> Vec<Held> {
    let held = limits.iter().map(|&limit| {
        let who = limit.member.index();
        let value = (limit.measure.get)(&measured.clients[who]);
        let mut held = Held { limit, value, at: None };
        if held.outcome() == Outcome::Beyond {
            held.at = (limit.measure.when)(&measured.moments[who]);
        }
        held
    });
    held.collect()
}
