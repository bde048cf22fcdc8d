//! What a cell of a matrix comes to.

use velocitas_analysis::budget::{Bound, Measure};
use velocitas_analysis::metrics::ClientMetrics;
use velocitas_record::Role;

use super::error::VaryError;
use super::whose::Whose;
use crate::course::Course;

/// Over whom a measure is taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Among {
    whose: Whose,
    /// Members of the course that are no copies.
    cast: usize,
}

/// The least, the median and the greatest over the seeds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Range {
    /// The least.
    pub least: f64,
    /// The median, by nearest rank.
    pub median: f64,
    /// The greatest.
    pub greatest: f64,
}

/// What a measure comes to in a cell: of each seed the worst member and the median member, of these the range over the seeds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Cost {
    /// Of the worst member of each seed.
    pub worst: Range,
    /// Of the median member of each seed.
    pub median: Range,
}

/// The value at the middle of sorted values: ⌈n / 2⌉, as everywhere.
fn median(sorted: &[f64]) -> Option<f64> {
    sorted.get(sorted.len().div_ceil(2).checked_sub(1)?).copied()
}

impl Range {
    fn of(mut values: Vec<f64>) -> Option<Self> {
        values.sort_by(f64::total_cmp);
        Some(Self { least: *values.first()?, median: median(&values)?, greatest: *values.last()? })
    }
}

impl Among {
    /// Reads whom; `course` says who there is.
    ///
    /// # Errors
    /// When nobody and no link has this name.
    pub fn read(text: &str, course: &Course) -> Result<Self, VaryError> {
        let is_link = course.cast.iter().any(|member| member.link.as_deref() == Some(text));
        let of = |whose| Ok(Self { whose, cast: course.cast.len() });
        match (text, course.member(text)) {
            ("all", _) => of(Whose::All),
            (name, Some(_)) => of(Whose::Member(name.to_owned())),
            (name, None) if is_link => of(Whose::Link(name.to_owned())),
            (name, None) => {
                let links = course.cast.iter().filter_map(|member| member.link.as_deref());
                let known = course.cast.iter().map(|member| member.name.as_str()).chain(links).chain(["all"]);
                let meant = crate::course::nearest(name, known).map_or_else(String::new, |meant| format!("; {meant}"));
                Err(VaryError(format!("expected all, a link or a member; found `{name}`{meant}")))
            }
        }
    }

    /// Whether a measure is taken of a member: of everybody of whom it can be asked, of a measure of everybody those who do not cheat; or of
    /// those on a link, or of a member and its copies.
    pub fn includes(&self, course: &Course, place: usize, measure: &Measure) -> bool {
        let role = course.cast[place].role;
        let is_of_rogues = !measure.suits(Role::Bot);
        let suits = match self.whose {
            Whose::All => measure.suits(role) && (is_of_rogues || role != Role::Rogue),
            Whose::Link(_) => measure.suits(role),
            Whose::Member(_) => true,
        };
        suits && self.whose.includes(course, place, self.cast)
    }
}

impl Among {
    /// What the budgets of a course allow most of those who are meant; of bounds that as many have the first in the order of the cast.
    pub fn limit(&self, course: &Course, measure: &Measure) -> Option<f64> {
        let limits = course.limits.iter().filter(|limit| limit.measure == measure);
        let values: Vec<f64> = limits
            .filter(|limit| self.includes(course, limit.member.index(), measure))
            .map(|limit| limit.value)
            .collect();
        let often = |value: f64| values.iter().filter(|other| **other == value).count();
        // The last of those that are as large is taken by itself.
        values.iter().rev().copied().max_by_key(|value| often(*value))
    }
}

impl Cost {
    /// What a measure came to: the values of those who are meant, seed by seed. `None` where nobody had any.
    pub fn of(measure: &Measure, seeds: &[Vec<f64>]) -> Option<Self> {
        let (mut worst, mut middle) = (Vec::new(), Vec::new());
        for values in seeds {
            let mut sorted = values.clone();
            sorted.sort_by(f64::total_cmp);
            let bad = match measure.bound {
                Bound::Most => sorted.last(),
                Bound::Least => sorted.first(),
            };
            worst.extend(bad);
            middle.extend(median(&sorted));
        }
        Some(Self { worst: Range::of(worst)?, median: Range::of(middle)? })
    }

    /// The values of a measure of those who are meant, in a run.
    pub fn values(measure: &Measure, among: &Among, course: &Course, clients: &[ClientMetrics]) -> Vec<f64> {
        let meant = clients.iter().enumerate().filter(|(place, _)| among.includes(course, *place, measure));
        meant.filter_map(|(_, client)| (measure.get)(client)).collect()
    }
}

/// What the cells of a matrix come to, added up run by run: no more is kept than is told in the end.
#[derive(Clone, Debug)]
pub struct Costs {
    measures: Vec<&'static Measure>,
    seeds: usize,
    /// Values of the cell that is being added up, by measure and seed.
    open: Vec<Vec<Vec<f64>>>,
    done: Vec<Option<Cost>>,
}

impl Costs {
    /// Of these measures, with so many seeds in each cell.
    pub fn new(measures: Vec<&'static Measure>, seeds: u32) -> Self {
        let open = vec![Vec::new(); measures.len()];
        Self { measures, seeds: seeds as usize, open, done: Vec::new() }
    }

    /// Adds the values of the next run, by measure: all seeds of a cell, then those of the next.
    pub fn add(&mut self, values: Vec<Vec<f64>>) {
        self.open.iter_mut().zip(values).for_each(|(open, values)| open.push(values));
        if self.open.first().is_some_and(|seeds| seeds.len() == self.seeds) {
            let open = self.measures.iter().zip(&mut self.open);
            self.done.extend(open.map(|(measure, seeds)| Cost::of(measure, &std::mem::take(seeds))));
        }
    }

    /// Those of all parts of a matrix, in the order of its cells: of each part those of its cells, all of them whole.
    pub fn of_parts(parts: &[Self], cells: usize) -> Option<Self> {
        let mut all = Self { open: Vec::new(), done: Vec::new(), ..parts.first()?.clone() };
        for cell in 0..cells {
            all.done.extend_from_slice(parts[cell % parts.len()].cell(cell / parts.len()));
        }
        Some(all)
    }

    /// How many cells are whole.
    pub fn cells(&self) -> usize {
        self.done.len().checked_div(self.measures.len()).unwrap_or(0)
    }

    /// What each measure came to in a cell that is whole; `None` where nobody had any.
    pub fn cell(&self, place: usize) -> &[Option<Cost>] {
        &self.done[place * self.measures.len()..][..self.measures.len()]
    }
}
