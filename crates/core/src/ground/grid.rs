//! The broad phase: which solids are near a way. A uniform grid, filled once.

use super::cast::{Prism, Ray};
use super::solid::Bounds;

/// Side of a cell in metres: about the reach of a fast step plus a body.
const CELL: f64 = 4.0;

/// For each cell the solids whose bounds touch it.
#[derive(Clone, Debug)]
pub(super) struct Grid {
    origin: (f64, f64),
    columns: usize,
    rows: usize,
    /// `starts[c]..starts[c + 1]` of `members` are cell c's.
    starts: Vec<u32>,
    members: Vec<u16>,
}

impl Grid {
    pub(super) fn new(bounds: &Bounds, prisms: &[Prism]) -> Self {
        let origin = (f64::from(bounds.min.0), f64::from(bounds.min.1));
        let span = (f64::from(bounds.max.0) - origin.0, f64::from(bounds.max.1) - origin.1);
        let cells = |length: f64| (libm::ceil(length / CELL).max(1.0) as usize).min(1024);
        let (columns, rows) = (cells(span.0), cells(span.1));
        let mut grid = Self { origin, columns, rows, starts: Vec::new(), members: Vec::new() };
        if prisms.is_empty() {
            // However large the world is.
            return grid;
        }
        let mut lists = vec![Vec::new(); columns * rows];
        for (i, prism) in prisms.iter().enumerate() {
            let (x0, x1, y0, y1) = grid.span(prism.min, prism.max);
            for row in y0..=y1 {
                for column in x0..=x1 {
                    lists[row * columns + column].push(i as u16);
                }
            }
        }
        grid.starts.push(0);
        for list in lists {
            grid.members.extend(list);
            grid.starts.push(grid.members.len() as u32);
        }
        grid
    }

    /// Cells from and to which an area reaches, in both directions; what lies outside counts to the border cells.
    fn span(&self, min: (f64, f64), max: (f64, f64)) -> (usize, usize, usize, usize) {
        // A cast cuts the fraction off and takes what is below zero for zero. One to 32 bits takes fewer instructions.
        let cell = |x: f64, count: usize| ((x / CELL) as u32 as usize).min(count - 1);
        (
            cell(min.0 - self.origin.0, self.columns),
            cell(max.0 - self.origin.0, self.columns),
            cell(min.1 - self.origin.1, self.rows),
            cell(max.1 - self.origin.1, self.rows),
        )
    }

    /// Calls back with each solid that may be met, some more than once.
    pub(super) fn visit(&self, ray: &Ray, mut each: impl FnMut(usize)) {
        if self.members.is_empty() {
            return;
        }
        let (min, max) = ray.reach();
        let (x0, x1, y0, y1) = self.span(min, max);
        for row in y0..=y1 {
            for column in x0..=x1 {
                let cell = row * self.columns + column;
                for &i in &self.members[self.starts[cell] as usize..self.starts[cell + 1] as usize] {
                    each(usize::from(i));
                }
            }
        }
    }
}
