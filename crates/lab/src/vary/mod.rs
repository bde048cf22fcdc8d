//! A course with some of its settings varied: which, over which values, and what each cell of the matrix comes to.
//!
//! An [`Axis`] is read from text such as `latency=0ms..200ms:20ms`. Axes make a [`Matrix`], whose cells are courses. A cell is run with
//! several seeds; [`Costs`] takes together what they came to. [`Kept`] writes results down while they come, and reads them again.

mod axis;
mod cost;
mod grid;
mod kept;

pub use axis::{Axis, VaryError};
pub use cost::{Among, Cost, Costs, Range};
pub use grid::{Grid, GridAxis};
pub use kept::{Asked, Kept, KeptError, Outcome, Part, VARY_FORMAT, digest_of};

use crate::course::Course;

/// More cells than this are refused.
pub const MOST_CELLS: usize = 1_000_000;
/// More seeds than this are refused.
pub const MOST_SEEDS: u32 = 100_000;

/// A course and what is varied of it.
#[derive(Clone, Debug)]
pub struct Matrix {
    course: Course,
    axes: Vec<Axis>,
    grid: Grid,
}

impl Matrix {
    /// Every combination of the values of all axes, the last changing fastest; with `in_step` the first of each, then the second of
    /// each, and so on.
    ///
    /// # Errors
    /// When there are no axes, two of them set the same, there are too many cells, or those in step have different lengths.
    pub fn new(course: Course, axes: Vec<Axis>, in_step: bool) -> Result<Self, VaryError> {
        let wrong = |why: String| Err(VaryError(why));
        for (i, axis) in axes.iter().enumerate() {
            if axes[..i].iter().any(|earlier| earlier.key() == axis.key()) {
                return wrong(format!("expected each setting once; found `{}` twice", axis.key()));
            }
        }
        let Some(first) = axes.first() else { return wrong("expected a setting to vary".to_owned()) };
        if in_step && let Some(other) = axes.iter().find(|axis| axis.len() != first.len()) {
            let (key, count) = (first.key(), first.len());
            let found = format!("{count} of `{key}` and {} of `{}`", other.len(), other.key());
            return wrong(format!("expected as many values of each setting to go in step; found {found}"));
        }
        let grid = Grid { axes: axes.iter().map(Axis::shown).collect(), in_step };
        match grid.count().filter(|cells| *cells <= MOST_CELLS) {
            Some(_) => Ok(Self { course, axes, grid }),
            None => wrong(format!("expected at most {MOST_CELLS} cells; found more")),
        }
    }

    /// Its cells.
    pub const fn grid(&self) -> &Grid {
        &self.grid
    }

    /// The course that is varied.
    pub const fn course(&self) -> &Course {
        &self.course
    }

    /// The course of a cell: where two axes set the same of a member, the one that names fewer members holds.
    pub fn at(&self, cell: usize) -> Course {
        let mut course = self.course.clone();
        let mut set: Vec<(&Axis, usize)> = self.axes.iter().zip(self.grid.places(cell)).collect();
        set.sort_by_key(|(axis, _)| axis.narrowness());
        set.into_iter().for_each(|(axis, place)| axis.apply(place, &mut course));
        course
    }
}

#[cfg(test)]
mod tests;
