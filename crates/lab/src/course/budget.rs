//! Budgets as courses write them: for all, a member, or those on a link; what is said of fewer goes before.

use std::collections::BTreeMap;

use toml::Spanned;
use velocitas_analysis::budget::{Accused, Check, Limit, MEASURES, Measure, Whose};
use velocitas_core::{RULES, Rule};
use velocitas_record::ids::MemberId;
use velocitas_record::knob::KnobValue;
use velocitas_record::time::LabTime;

use super::allowed::{BESIDES, Budget, Checked};
use super::error::nearest;
use super::file::File;
use super::resolve::{Resolver, Result, time};
use super::settings::plain;
use super::{Course, Role};

/// The most seeds that a course may ask for.
const MOST_SEEDS: i64 = 1000;

/// What is asked of every course that does not say otherwise.
const ALWAYS: [(&str, f64); 2] = [("verdicts", 0.0), ("tricks_answered", 1.0)];

/// What is allowed, by member and row of the table, with how narrowly it was said.
type Limits = BTreeMap<(MemberId, usize), (Reach, Limit)>;

/// How narrowly something is said: for all, for those on a link, for one.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Reach {
    All,
    Link,
    One,
}

impl Resolver<'_> {
    /// How the course is checked.
    pub(super) fn check(&self, checked: &Checked) -> Result<Check> {
        let mut check = Check::USUAL;
        if let Some(lasts) = &checked.lasts {
            check.lasts = time(*lasts.get_ref());
            if check.lasts < LabTime::from_secs(1.0) {
                return Err(self.wrong(lasts.span(), "expected a run of at least 1 s: figures are of whole seconds"));
            }
        }
        if let Some(seeds) = &checked.seeds {
            check.seeds = self.whole(seeds, "how many seeds", 1..MOST_SEEDS + 1)? as u32;
        }
        Ok(check)
    }

    /// What is allowed to whom, in the order of the cast and of the table; what is asked of every course among it.
    pub(super) fn limits(&self, course: &Course, file: &File) -> Result<Vec<Limit>> {
        let mut all = Limits::new();
        for spanned in &file.budget {
            let (reach, members) = self.bound(course, file, spanned.get_ref())?;
            let budget = spanned.get_ref();
            if budget.written.is_empty() && budget.exceeded.is_empty() && budget.accused_by.is_empty() {
                return Err(self.wrong(spanned.span(), "expected something to be bounded; found nothing"));
            }
            for (key, written) in &spanned.get_ref().written {
                let row = self.measure(key)?;
                let measure = &MEASURES[row];
                let value = match plain(measure.takes, written).map_err(|m| self.mistake(m))? {
                    KnobValue::Number(x) if x >= 0.0 => x,
                    _ => return Err(self.wrong(written.span(), "expected a bound that is not below nothing")),
                };
                let line = Some(self.line(&key.span()));
                for member in self.suiting(course, &members, reach, measure, key)? {
                    let limit = Limit { member, measure, value, line, exceeded: None };
                    self.put(&mut all, course, (reach, row), limit, key)?;
                }
            }
        }
        for member in course.members() {
            for (key, value) in ALWAYS {
                let found = MEASURES.iter().enumerate().find(|(_, measure)| measure.key == key);
                let Some((row, measure)) = found.filter(|(_, measure)| measure.suits(course[member].role)) else {
                    continue;
                };
                let limit = Limit { member, measure, value, line: None, exceeded: None };
                all.entry((member, row)).or_insert((Reach::All, limit));
            }
        }
        for spanned in &file.budget {
            self.meant(course, file, spanned.get_ref(), &mut all)?;
        }
        Ok(all.into_values().map(|(_, limit)| limit).collect())
    }

    /// Marks what is meant to be exceeded.
    fn meant(&self, course: &Course, file: &File, budget: &Budget, all: &mut Limits) -> Result<()> {
        let (_, members) = self.bound(course, file, budget)?;
        for key in &budget.exceeded {
            let row = self.measure(key)?;
            let mut found = false;
            for member in &members {
                if let Some((_, limit)) = all.get_mut(&(*member, row)) {
                    (limit.exceeded, found) = (Some(self.line(&key.span())), true);
                }
            }
            if !found {
                let message = format!("expected a bound of `{}` that can be exceeded; found none", key.get_ref());
                return Err(self.wrong(key.span(), message));
            }
        }
        Ok(())
    }

    /// Who is meant to be accused.
    pub(super) fn accused(&self, course: &Course, file: &File) -> Result<Vec<Accused>> {
        let mut all = Vec::new();
        let known: Vec<(&str, Rule)> = RULES.iter().map(|spec| (spec.name, spec.rule)).collect();
        for budget in file.budget.iter().map(Spanned::get_ref) {
            let (_, members) = self.bound(course, file, budget)?;
            for name in &budget.accused_by {
                let (by, line) = (self.word(name, "a check of the guard", &known)?, self.line(&name.span()));
                all.extend(members.iter().map(|member| Accused { member: *member, by, line }));
            }
        }
        Ok(all)
    }

    /// Puts a limit in its place: what is said of fewer stays, of as many may be said once.
    fn put(
        &self,
        all: &mut Limits,
        course: &Course,
        (reach, row): (Reach, usize),
        limit: Limit,
        key: &Spanned<String>,
    ) -> Result<()> {
        match all.get(&(limit.member, row)) {
            Some((other, earlier)) if *other == reach => {
                let message = format!(
                    "expected one bound of `{}` for {}; line {} has one already",
                    limit.measure.key,
                    course[limit.member].name,
                    earlier.line.unwrap_or(0)
                );
                return Err(self.wrong(key.span(), message));
            }
            Some((other, _)) if *other > reach => {}
            _ => drop(all.insert((limit.member, row), (reach, limit))),
        }
        Ok(())
    }

    fn measure(&self, key: &Spanned<String>) -> Result<usize> {
        let found = key.get_ref();
        MEASURES.iter().position(|measure| measure.key == found).ok_or_else(|| {
            let known: Vec<&str> = BESIDES.into_iter().chain(MEASURES.iter().map(|m| m.key)).collect();
            let message = format!("expected one of the keys {}; found `{found}`", known.join(", "));
            self.wrong(key.span(), message).help(nearest(found, known.into_iter()))
        })
    }

    /// Whom a budget is for.
    fn bound(&self, course: &Course, file: &File, budget: &Budget) -> Result<(Reach, Vec<MemberId>)> {
        match (&budget.who, &budget.link) {
            (None, None) => Ok((Reach::All, course.members().collect())),
            (Some(who), None) => {
                let names: Vec<(&str, MemberId)> = course.members().map(|m| (course[m].name.as_str(), m)).collect();
                Ok((Reach::One, vec![self.word(who, "a member of the cast", &names)?]))
            }
            (None, Some(link)) => {
                let on = |cast: &super::file::Cast| cast.link.as_ref().map(|name| name.get_ref().clone());
                let mut names: Vec<String> = file.cast.iter().filter_map(on).collect();
                names.sort();
                names.dedup();
                let known: Vec<(&str, ())> = names.iter().map(|name| (name.as_str(), ())).collect();
                self.word(link, "a link that somebody of the cast is on", &known)?;
                let members = file.cast.iter().zip(course.members());
                let on_it = members.filter(|(cast, _)| on(cast).as_ref() == Some(link.get_ref()));
                Ok((Reach::Link, on_it.map(|(_, member)| member).collect()))
            }
            (Some(_), Some(link)) => {
                Err(self.wrong(link.span(), "expected a budget for a member or for those on a link; found both"))
            }
        }
    }

    /// Those of whom it can be asked.
    fn suiting(
        &self,
        course: &Course,
        members: &[MemberId],
        reach: Reach,
        measure: &Measure,
        key: &Spanned<String>,
    ) -> Result<Vec<MemberId>> {
        // What rogues do to themselves is bounded only where somebody names them.
        let is_asked = |member: &&MemberId| {
            let role = course[**member].role;
            measure.suits(role) && (reach == Reach::One || measure.whose == Whose::Rogues || role != Role::Rogue)
        };
        let suits: Vec<MemberId> = members.iter().filter(is_asked).copied().collect();
        if !suits.is_empty() {
            return Ok(suits);
        }
        let (whom, found) = match measure.whose {
            Whose::Rogues => ("rogues", "none"),
            Whose::Honest => ("those who do not cheat", "rogues only"),
            Whose::All => ("those who do not cheat, or of a rogue by name", "rogues only"),
        };
        let message = format!("expected `{}` of {whom}; found {found}", measure.key);
        Err(self.wrong(key.span(), message))
    }

    fn line(&self, span: &std::ops::Range<usize>) -> usize {
        self.text.get(..span.start).map_or(1, |before| before.matches('\n').count() + 1)
    }
}
