//! The cells of a matrix: which value of each setting each has, and in which order they come.

use serde::{Deserialize, Serialize};

/// More cells than this are refused.
pub const MOST_CELLS: usize = 1_000_000;

/// Settings and their values, as they are shown.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Grid {
    /// The settings, in the order in which they were named.
    pub axes: Vec<GridAxis>,
    /// Whether all go in step.
    pub in_step: bool,
}

/// A setting and its values.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct GridAxis {
    /// Its key.
    pub key: String,
    /// Its values, with units.
    pub values: Vec<String>,
    /// The same as numbers, where all are.
    pub numbers: Option<Vec<f64>>,
    /// The unit of the numbers; empty where they have none.
    pub unit: String,
}

impl Grid {
    /// How many cells there are; `None` beyond what can be counted.
    pub fn count(&self) -> Option<usize> {
        match self.axes.first() {
            Some(first) if self.in_step => Some(first.values.len()),
            _ => self.axes.iter().try_fold(1usize, |cells, axis| cells.checked_mul(axis.values.len())),
        }
    }

    /// How many cells there are, of a grid that was counted before.
    pub fn cells(&self) -> usize {
        self.count().unwrap_or(usize::MAX)
    }

    /// Which value of each axis a cell has: the last changes fastest.
    pub fn places(&self, cell: usize) -> Vec<usize> {
        if self.in_step {
            return vec![cell; self.axes.len()];
        }
        let mut rest = cell;
        let mut places: Vec<usize> = Vec::with_capacity(self.axes.len());
        for axis in self.axes.iter().rev() {
            places.push(rest % axis.values.len());
            rest /= axis.values.len();
        }
        places.reverse();
        places
    }

    /// The values of a cell, as they are shown.
    pub fn values(&self, cell: usize) -> Vec<&str> {
        self.axes.iter().zip(self.places(cell)).map(|(axis, place)| axis.values[place].as_str()).collect()
    }
}
