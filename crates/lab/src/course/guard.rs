//! What a course says of its server's guard.

use std::ops::RangeInclusive;

use velocitas_core::{Policy, RULES, Response, Rule, Strikes};

use super::file;
use super::resolve::{Resolver, Result, time};
use crate::naive::{NAIVE, NaiveSpec};

/// The name of the guard's own checks.
const FULL: &str = "full";
/// Strikes count for so long at least: nobody can be struck twice in less.
const LEAST_WITHIN_MS: u32 = 100;

/// The least and greatest multiple of what a rule says that can be allowed.
pub const ALLOWED: RangeInclusive<f32> = 0.025..=2.0;

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
            let of = self.word(rule, "a rule", &rules)?;
            if of.is_of_hands() {
                let message = format!("`{}` is noted and no more: of what hands can give nobody is sure", of.name());
                return Err(self.wrong(rule.span(), message));
            }
            spec.policy.responses[of as usize] = self.word(answer, "an answer", &responses)?;
        }
        let adjustable: Vec<(&str, Rule)> = rules.into_iter().filter(|(_, rule)| rule.is_adjustable()).collect();
        for (rule, share) in &guard.allowed {
            let rule = self.word(rule, "a rule that measures", &adjustable)?;
            let times = share.get_ref().value as f32;
            if !ALLOWED.contains(&times) {
                let (least, most) = (ALLOWED.start(), ALLOWED.end());
                let message = format!("expected {least} to {most} times; found {times} times");
                return Err(self.wrong(share.span(), message));
            }
            spec.policy.allowed[rule as usize] = times;
        }
        let usual = spec.policy.strikes;
        let within_ms = guard.within.as_ref().map_or(usual.within_ms, |q| time(*q.get_ref()).millis() as u32);
        if let Some(within) = guard.within.as_ref().filter(|_| within_ms < LEAST_WITHIN_MS) {
            return Err(
                self.wrong(within.span(), format!("expected {LEAST_WITHIN_MS} ms or more; found {within_ms} ms"))
            );
        }
        spec.policy.strikes = Strikes {
            most: guard
                .strikes
                .as_ref()
                .map_or(Ok(i64::from(usual.most)), |s| self.whole(s, "a number of strikes", 1..1001))?
                as u32,
            within_ms,
        };
        Ok(spec)
    }
}
