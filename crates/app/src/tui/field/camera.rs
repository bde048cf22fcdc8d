//! Which part of the world is seen. The camera moves in whole cells and only when the followed entity leaves a dead
//! zone, so that a frame changes little of what the terminal shows.

use ratatui::layout::Rect;
use velocitas_core::{Bounds, Vec3, vec3};

/// Metres a column; a row is twice that, as cells are twice as tall as wide.
const SCALES: [f32; 5] = [0.125, 0.25, 0.5, 1.0, 2.0];

/// Where we look.
#[derive(Clone, Copy, Debug)]
pub(super) struct Camera {
    /// In the middle of the screen.
    centre: Vec3,
    zoom: usize,
    /// Whether the next step centres instead of following.
    recentre: bool,
}

/// Half of the dead zone, in cells.
const DEAD: (f32, f32) = (24.0, 6.0);

impl Camera {
    pub(super) const fn new(centre: Vec3) -> Self {
        Self { centre, zoom: 2, recentre: true }
    }

    /// Metres a column and a row.
    pub(super) const fn scale(&self) -> (f32, f32) {
        (SCALES[self.zoom], SCALES[self.zoom] * 2.0)
    }

    pub(super) fn zoom(&mut self, closer: bool) {
        self.zoom = if closer { self.zoom.saturating_sub(1) } else { (self.zoom + 1).min(SCALES.len() - 1) };
        self.recentre = true;
    }

    pub(super) fn centre(&mut self) {
        self.recentre = true;
    }

    /// Keeps a point in the dead zone.
    pub(super) fn follow(&mut self, at: Vec3) {
        let (across, down) = self.scale();
        if std::mem::take(&mut self.recentre) {
            self.centre = at;
        }
        let pull = |centre: f32, at: f32, cell: f32, dead: f32| {
            let off = (at - centre) / cell;
            if off > dead {
                centre + (off - dead).ceil() * cell
            } else if off < -dead {
                centre + (off + dead).floor() * cell
            } else {
                centre
            }
        };
        self.centre.x = pull(self.centre.x, at.x, across, DEAD.0);
        self.centre.y = pull(self.centre.y, at.y, down, DEAD.1);
    }

    /// What is seen through an area. Where the whole world fits, it stands still in the middle; otherwise little is
    /// shown of what lies outside it.
    pub(super) fn view(&self, area: Rect, bounds: Bounds) -> View {
        let (across, down) = self.scale();
        let hold = |centre: f32, low: f32, high: f32, seen: f32, cell: f32| {
            let held = if high - low <= seen {
                (low + high) / 2.0
            } else {
                centre.clamp(low + seen / 2.0 - cell, high - seen / 2.0 + cell)
            };
            (held / cell).round() * cell
        };
        let x = hold(self.centre.x, bounds.min.0, bounds.max.0, f32::from(area.width) * across, across);
        let y = hold(self.centre.y, bounds.min.1, bounds.max.1, f32::from(area.height) * down, down);
        View { area, centre: (x, y), across, down }
    }
}

/// From the world to cells.
#[derive(Clone, Copy, Debug)]
pub(super) struct View {
    pub(super) area: Rect,
    centre: (f32, f32),
    across: f32,
    down: f32,
}

impl View {
    /// Columns and rows from the left and top, with fractions.
    fn place(&self, at: Vec3) -> (f32, f32) {
        (
            (at.x - self.centre.0) / self.across + f32::from(self.area.width) / 2.0,
            f32::from(self.area.height) / 2.0 - (at.y - self.centre.1) / self.down,
        )
    }

    /// The cell of a point, if it is seen.
    pub(super) fn cell(&self, at: Vec3) -> Option<(u16, u16)> {
        let (x, y) = self.place(at);
        let inside = x >= 0.0 && y >= 0.0 && x < f32::from(self.area.width) && y < f32::from(self.area.height);
        inside.then(|| (self.area.x + x as u16, self.area.y + y as u16))
    }

    /// The place in the middle of a cell, in metres, if the cell is of the view.
    pub(super) fn place_of(&self, (column, row): (u16, u16)) -> Option<(f32, f32)> {
        let (x, y) = (column.checked_sub(self.area.x)?, row.checked_sub(self.area.y)?);
        let inside = x < self.area.width && y < self.area.height;
        inside.then(|| {
            (
                self.centre.0 + (f32::from(x) + 0.5 - f32::from(self.area.width) / 2.0) * self.across,
                self.centre.1 + (f32::from(self.area.height) / 2.0 - f32::from(y) - 0.5) * self.down,
            )
        })
    }

    /// The braille dot of a point, seen or not.
    pub(super) fn dot(&self, at: Vec3) -> (i32, i32) {
        let (x, y) = self.place(at);
        ((x * 2.0).floor() as i32, (y * 4.0).floor() as i32)
    }

    /// The middle of a cell.
    pub(super) fn world(&self, x: u16, y: u16) -> Vec3 {
        let column = f32::from(x - self.area.x) + 0.5 - f32::from(self.area.width) / 2.0;
        let row = f32::from(self.area.height) / 2.0 - f32::from(y - self.area.y) - 0.5;
        vec3(self.centre.0 + column * self.across, self.centre.1 + row * self.down, 0.0)
    }

    /// Metres a cell across and down.
    pub(super) const fn cell_size(&self) -> (f32, f32) {
        (self.across, self.down)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const BOUNDS: Bounds = Bounds { min: (-40.0, -30.0), max: (40.0, 30.0), floor: 0.0 };

    #[test]
    fn the_camera_stands_while_the_entity_is_in_the_dead_zone() {
        let mut camera = Camera::new(Vec3::ZERO);
        camera.follow(Vec3::ZERO);
        let area = Rect::new(0, 0, 60, 20);
        let before = camera.view(area, BOUNDS).centre;
        camera.follow(vec3(10.0, 4.0, 0.0));
        assert_eq!(camera.view(area, BOUNDS).centre, before);
        camera.follow(vec3(14.0, 4.0, 0.0));
        assert_eq!(camera.view(area, BOUNDS).centre, (2.0, 0.0));
    }

    #[test]
    fn a_cell_and_its_middle_belong_together() {
        let view = Camera::new(Vec3::ZERO).view(Rect::new(3, 5, 61, 21), BOUNDS);
        for (x, y) in [(3, 5), (40, 12), (63, 25)] {
            assert_eq!(view.cell(view.world(x, y)), Some((x, y)));
        }
        assert_eq!(view.cell(vec3(900.0, 0.0, 0.0)), None);
    }
}
