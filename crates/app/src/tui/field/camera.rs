//! Which part of the world is seen, and from where. The camera moves in whole cells and only when what it follows leaves a dead
//! zone, so that a frame changes little of what the terminal shows; or it stands.

use ratatui::layout::Rect;
use velocitas_core::{Bounds, Vec3};
use velocitas_report::Side;

/// Metres a column; a row is twice that, as cells are twice as tall as wide.
const SCALES: [f32; 5] = [0.125, 0.25, 0.5, 1.0, 2.0];
/// Where we look.
#[derive(Clone, Copy, Debug)]
pub(super) struct Camera {
    from: Side,
    /// In the middle of the screen: across and up.
    centre: (f32, f32),
    /// Above, and from the side: jumps are a metre high.
    zoom: [usize; 2],
    /// Whether the next step centres instead of following.
    recentre: bool,
    /// Whether it stands where it is.
    stands: bool,
}

/// Half of the dead zone, in cells.
const DEAD: (f32, f32) = (24.0, 6.0);

impl Camera {
    pub(super) const fn new(centre: Vec3) -> Self {
        Self { from: Side::Above, centre: (centre.x, centre.y), zoom: [2, 0], recentre: true, stands: false }
    }

    /// Metres a column and a row.
    pub(super) const fn scale(&self) -> (f32, f32) {
        let scale = SCALES[self.zoom[self.way()]];
        (scale, scale * 2.0)
    }

    /// Which of the zooms holds.
    const fn way(&self) -> usize {
        matches!(self.from, Side::South | Side::East) as usize
    }

    pub(super) const fn from(&self) -> Side {
        self.from
    }

    pub(super) const fn stands(&self) -> bool {
        self.stands
    }

    /// Looks from the next side.
    pub(super) const fn turn(&mut self) {
        self.from = self.from.next();
        self.recentre = true;
    }

    /// Stands, or follows again.
    pub(super) const fn stand(&mut self) {
        self.stands = !self.stands;
    }

    pub(super) fn zoom(&mut self, closer: bool) {
        let way = self.way();
        let zoom = &mut self.zoom[way];
        *zoom = if closer { zoom.saturating_sub(1) } else { (*zoom + 1).min(SCALES.len() - 1) };
        self.recentre |= !self.stands;
    }

    pub(super) const fn centre(&mut self) {
        self.recentre |= !self.stands;
    }

    /// Keeps a point in the dead zone of a screen of this width, in columns.
    pub(super) fn follow(&mut self, at: Vec3, columns: u16) {
        let (across, down) = self.scale();
        let at = self.from.flat(at);
        if std::mem::take(&mut self.recentre) {
            self.centre = at;
        }
        if self.stands {
            return;
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
        self.centre.0 = pull(self.centre.0, at.0, across, DEAD.0.min(f32::from(columns) / 3.0));
        self.centre.1 = pull(self.centre.1, at.1, down, DEAD.1);
    }

    /// What is seen through an area. Where the whole world fits, it stands still in the middle; otherwise little is
    /// shown of what lies outside it.
    pub(super) fn view(&self, area: Rect, bounds: Bounds) -> View {
        let (across, down) = self.scale();
        let hold = |centre: f32, (low, high): (f32, f32), seen: f32, cell: f32| {
            let held = if high - low <= seen {
                f32::midpoint(low, high)
            } else {
                centre.clamp(low + seen / 2.0 - cell, high - seen / 2.0 + cell)
            };
            (held / cell).round() * cell
        };
        let (wide, tall) = self.from.extent(bounds);
        let x = hold(self.centre.0, wide, f32::from(area.width) * across, across);
        let y = hold(self.centre.1, tall, f32::from(area.height) * down, down);
        View { area, from: self.from, centre: (x, y), across, down }
    }
}

/// From the world to cells.
#[derive(Clone, Copy, Debug)]
pub(super) struct View {
    pub(super) area: Rect,
    pub(super) from: Side,
    centre: (f32, f32),
    across: f32,
    down: f32,
}

impl View {
    /// Columns and rows from the left and top, with fractions.
    pub(super) fn place(&self, at: Vec3) -> (f32, f32) {
        self.place_flat(self.from.flat(at))
    }

    /// The same of a place as it is seen.
    pub(super) fn place_flat(&self, (x, y): (f32, f32)) -> (f32, f32) {
        (
            (x - self.centre.0) / self.across + f32::from(self.area.width) / 2.0,
            f32::from(self.area.height) / 2.0 - (y - self.centre.1) / self.down,
        )
    }

    /// The cell of a point, if it is seen.
    pub(super) fn cell(&self, at: Vec3) -> Option<(u16, u16)> {
        let (x, y) = self.place(at);
        let inside = x >= 0.0 && y >= 0.0 && x < f32::from(self.area.width) && y < f32::from(self.area.height);
        inside.then(|| (self.area.x + x as u16, self.area.y + y as u16))
    }

    /// The place in the middle of a cell, in metres, if the cell is of the view and shows the ground.
    pub(super) fn place_of(&self, (column, row): (u16, u16)) -> Option<(f32, f32)> {
        let (x, y) = (column.checked_sub(self.area.x)?, row.checked_sub(self.area.y)?);
        let inside = x < self.area.width && y < self.area.height && self.from == Side::Above;
        inside.then(|| self.flat_of(f32::from(x) + 0.5, f32::from(y) + 0.5))
    }

    /// The place that is seen at this column and row, from the left and top.
    pub(super) fn flat_of(&self, column: f32, row: f32) -> (f32, f32) {
        (
            self.centre.0 + (column - f32::from(self.area.width) / 2.0) * self.across,
            self.centre.1 + (f32::from(self.area.height) / 2.0 - row) * self.down,
        )
    }

    /// The braille dot of a point, seen or not.
    pub(super) fn dot(&self, at: Vec3) -> (i32, i32) {
        let (x, y) = self.place(at);
        ((x * 2.0).floor() as i32, (y * 4.0).floor() as i32)
    }

    /// Metres a cell across and down.
    pub(super) const fn cell_size(&self) -> (f32, f32) {
        (self.across, self.down)
    }

    /// What is seen, across and up, from where to where, in metres.
    pub(super) fn extent(&self) -> ((f32, f32), (f32, f32)) {
        let (left, top) = self.flat_of(0.0, 0.0);
        let (right, bottom) = self.flat_of(f32::from(self.area.width), f32::from(self.area.height));
        ((left, right), (bottom, top))
    }
}

#[cfg(test)]
mod tests {
    use velocitas_core::vec3;

    use super::*;

    const BOUNDS: Bounds = Bounds { min: (-40.0, -30.0), max: (40.0, 30.0), floor: 0.0 };

    #[test]
    fn the_camera_stands_while_the_entity_is_in_the_dead_zone() {
        let mut camera = Camera::new(Vec3::ZERO);
        camera.follow(Vec3::ZERO, 90);
        let area = Rect::new(0, 0, 60, 20);
        let before = camera.view(area, BOUNDS).centre;
        camera.follow(vec3(10.0, 4.0, 0.0), 90);
        assert_eq!(camera.view(area, BOUNDS).centre, before);
        camera.follow(vec3(14.0, 4.0, 0.0), 90);
        assert_eq!(camera.view(area, BOUNDS).centre, (2.0, 0.0));
        // It stands where it is once it is told to.
        camera.stand();
        camera.follow(vec3(30.0, 4.0, 0.0), 90);
        assert_eq!(camera.view(area, BOUNDS).centre, (2.0, 0.0));
    }

    #[test]
    fn a_cell_and_its_middle_belong_together() {
        let view = Camera::new(Vec3::ZERO).view(Rect::new(3, 5, 61, 21), BOUNDS);
        for (x, y) in [(3, 5), (40, 12), (63, 25)] {
            let (east, north) = view.place_of((x, y)).expect("it is of the view");
            assert_eq!(view.cell(vec3(east, north, 0.0)), Some((x, y)));
        }
        assert_eq!(view.cell(vec3(900.0, 0.0, 0.0)), None);
    }

    #[test]
    fn from_the_side_height_is_up_and_what_is_behind_is_known() {
        let mut camera = Camera::new(Vec3::ZERO);
        camera.turn();
        camera.follow(vec3(5.0, -8.0, 0.0), 90);
        let view = camera.view(Rect::new(0, 0, 60, 28), BOUNDS);
        let (low, high) = (view.cell(vec3(5.0, -8.0, 0.0)), view.cell(vec3(5.0, 12.0, 3.0)));
        let ((x, a), (same, b)) = low.zip(high).expect("both are seen");
        assert!(x == same && a == b + 12, "three metres up are twelve rows of 25 cm: {a} and {b}");
        assert!(Side::South.depth(vec3(0.0, 5.0, 0.0)) > Side::South.depth(vec3(0.0, -5.0, 0.0)));
        assert_eq!(Side::East.flat(vec3(1.0, 2.0, 3.0)), (2.0, 3.0));
        assert!(view.place_of((4, 4)).is_none(), "nothing is pointed at from the side");
    }
}
