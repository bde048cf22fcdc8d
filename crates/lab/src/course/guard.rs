//! What a course says of its server's guard.

use velocitas_core::{Policy, RULES, Response, Strikes};

use super::file;
use super::resolve::{Resolver, Result, time};
use crate::naive::{NAIVE, NaiveSpec};

/// The name of the guard's own checks.
const FULL: &str = "full";

/// What the server's guard looks at and answers.
#[derive(Clone, Debug, Default)]
pub struct GuardSpec {
    /// What it is at the server.
    pub policy: Policy,
    /// Where its checks are not its own: which they are.
    pub naive: Option<&'static NaiveSpec>,
}

impl Resolver<'_> {
    pub(super) fn guard(&self, guard: &file::Guard) -> Result<GuardSpec> {
        let mut spec = GuardSpec::default();
        if let Some(checks) = &guard.checks {
            let known: Vec<(&str, Option<&'static NaiveSpec>)> =
                std::iter::once((FULL, None)).chain(NAIVE.iter().map(|row| (row.name, Some(row)))).collect();
            spec.naive = self.word(checks, "checks", &known)?;
            if let Some(row) = spec.naive {
                spec.policy.checks = row.checks().into();
            }
        }
        let rules = RULES.map(|row| (row.name, row.rule));
        let responses = Response::ALL.map(|response| (response.name(), response));
        for (rule, answer) in &guard.answer {
            let rule = self.word(rule, "a rule", &rules)?;
            spec.policy.responses[rule as usize] = self.word(answer, "an answer", &responses)?;
        }
        let usual = spec.policy.strikes;
        spec.policy.strikes = Strikes {
            most: guard
                .strikes
                .as_ref()
                .map_or(Ok(i64::from(usual.most)), |s| self.whole(s, "so many strikes", 1..1001))?
                as u32,
            within_ms: guard.within.map_or(usual.within_ms, |q| time(q).millis() as u32),
        };
        Ok(spec)
    }
}
