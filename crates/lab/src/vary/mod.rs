//! A course with some of its settings varied: which, over which values, and what each cell of the matrix comes to.
//!
//! An [`Axis`] is read from text such as `latency=0ms..200ms:20ms`. Axes make a [`Matrix`], whose cells are courses. A cell is run with
//! several seeds; [`Costs`] takes together what they came to. [`Kept`] writes results down while they come, and reads them again.

mod axis;
mod cost;
mod edit;
mod error;
mod grid;
mod kept;
mod target;
mod value;
mod whose;

pub use axis::Axis;
pub use cost::{Among, Cost, Costs, Range};
pub use error::VaryError;
pub use grid::{Grid, GridAxis, MOST_CELLS};
pub use kept::{Asked, Kept, KeptError, Outcome, Part, VARY_FORMAT, digest_of};

use std::collections::BTreeSet;

use toml::Table;

use crate::course::{Course, CourseError};

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
    /// When there are no axes, two of them set the same, values or steps are there twice, there are too many cells, or those in step have
    /// different lengths.
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
        let told = |axes: &[Axis], twice: String| {
            let keys: Vec<&str> = axes.iter().map(Axis::key).collect();
            format!("{}: expected each value once; found {twice} twice", keys.join(", "))
        };
        let together = if in_step { axes.len() } else { 1 };
        if let Some(why) = axes.chunks(together).find_map(|axes| Some(told(axes, Axis::twice(axes)?))) {
            return wrong(why);
        }
        let grid = Grid { axes: axes.iter().map(Axis::shown).collect(), in_step };
        match grid.count().filter(|cells| *cells <= MOST_CELLS) {
            Some(_) => Self { course, axes, grid }.sound(),
            None => wrong(format!("expected at most {MOST_CELLS} cells; found more")),
        }
    }

    /// Itself, if every course that is read again for a cell can be run.
    fn sound(self) -> Result<Self, VaryError> {
        let text: Vec<usize> = (0..self.axes.len()).filter(|axis| self.axes[*axis].is_text()).collect();
        let mut seen = BTreeSet::new();
        for cell in (0..self.grid.cells()).take_while(|_| !text.is_empty()) {
            let places = self.grid.places(cell);
            if seen.insert(text.iter().map(|axis| places[*axis]).collect::<Vec<_>>()) {
                self.at(cell)?;
            }
        }
        Ok(self)
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
    ///
    /// # Errors
    /// When it cannot be run; those of all cells of a matrix can.
    pub fn at(&self, cell: usize) -> Result<Course, VaryError> {
        let mut set: Vec<(&Axis, usize)> = self.axes.iter().zip(self.grid.places(cell)).collect();
        set.sort_by_key(|(axis, _)| axis.order());
        let mut course = if set.iter().any(|(axis, _)| axis.is_text()) {
            let edit = |table: &mut Table| set.iter().for_each(|(axis, place)| axis.edit(*place, table, &self.course));
            self.course.edited(edit).map_err(|why| self.refused(cell, &why))?
        } else {
            self.course.clone()
        };
        set.into_iter().for_each(|(axis, place)| axis.apply(place, &mut course, self.course.cast.len()));
        Ok(course)
    }

    /// What a course says of values that it refuses.
    fn refused(&self, cell: usize, why: &CourseError) -> VaryError {
        let values = self.axes.iter().zip(self.grid.values(cell)).filter(|(axis, _)| axis.is_text());
        let values: Vec<String> = values.map(|(axis, value)| format!("{}={value}", axis.key())).collect();
        let help = why.help.as_ref().map_or_else(String::new, |help| format!("; {help}"));
        VaryError(format!("{}: {}{help}", values.join(" "), why.message))
    }
}

#[cfg(test)]
mod tests;
