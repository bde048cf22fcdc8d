//! The ground as tinted backgrounds, never competing with what moves on it. Edges that cut a cell are drawn in eighths of it, so that a
//! house that is turned looks like one.

use ratatui::buffer::Buffer;
use velocitas_core::{Solid, Vec3, vec3};
use velocitas_record::{KnownTo, Material, World};

use velocitas_report::Side;

use super::camera::View;
use super::look::Look;
use crate::tui::palette::{Ground, Palette, Tone};
use crate::tui::parts::{ALL, Mask, SIDE, closest};

/// Where the names of large things are put: none smaller than this many cells.
const NAMED_FROM: f32 = 9.0;
/// What is thinner than this part of a cell is seen as wide as that.
const THIN: f32 = 0.26;

/// What lies in a cell: over what lies under all solids, one of them, in a part of it.
#[derive(Clone, Copy)]
struct Tile {
    under: Ground,
    over: Ground,
    mask: Mask,
}

impl Tile {
    /// Lays a solid over a part of it.
    fn lay(&mut self, ground: Ground, mask: Mask) {
        if self.over == ground {
            self.mask |= mask;
        } else if mask != 0 {
            // What the one below leaves in sight is shown no more, unless it lies in all of it: a cell shows two things.
            if self.mask == ALL {
                self.under = self.over;
            }
            (self.over, self.mask) = (ground, mask);
        }
    }
}

/// What lies in the cells of a view.
struct Tiles {
    width: usize,
    cells: Vec<Tile>,
}

/// Draws the ground of a view; `near` is what is followed.
pub(super) fn draw(look: &Look<'_>, near: Vec3, buffer: &mut Buffer) {
    let (stage, view) = (look.stage, &look.view);
    let world = &stage.run.course().world;
    let known = stage.moment().solids(stage.machine(look.viewer));
    let there: Vec<(&velocitas_record::NamedSolid, KnownTo)> =
        world.solids.iter().zip(known).filter(|(_, known_to)| *known_to != KnownTo::Nobody).collect();
    let mut tiles = Tiles::base(world, view);
    for (solid, known_to) in &there {
        let ground = if *known_to == KnownTo::All { Ground::Wall } else { Ground::OneSided };
        if view.from == Side::Above {
            tiles.fill(view, &Placed::new(&solid.solid, view), ground);
        } else if view.from.shows(&solid.solid, near) {
            tiles.fill(view, &Placed::from_the_side(&solid.solid, view), ground);
        }
    }
    tiles.draw(stage.palette, view, buffer);
    if view.from == Side::Above {
        names(look, there.iter().map(|(solid, _)| *solid), buffer);
    }
}

fn names<'a>(look: &Look<'_>, solids: impl Iterator<Item = &'a velocitas_record::NamedSolid>, buffer: &mut Buffer) {
    let view = &look.view;
    let (across, down) = view.cell_size();
    for solid in solids {
        let s = &solid.solid;
        let name = solid.name.chars().count() as f32;
        if s.half_x * 2.0 / across >= NAMED_FROM.max(name + 2.0) && s.half_y * 2.0 / down >= 3.0 {
            let middle = vec3(s.x - name / 2.0 * across, s.y, 0.0);
            if let Some((x, y)) = view.cell(middle).filter(|(x, _)| x + name as u16 <= view.area.right()) {
                buffer.set_string(x, y, &solid.name, look.stage.palette.text(Tone::Muted));
            }
        }
    }
}

impl Tiles {
    /// What lies under all solids.
    fn base(world: &World, view: &View) -> Self {
        let area = view.area;
        let mut cells = Vec::with_capacity(usize::from(area.width) * usize::from(area.height));
        for row in 0..area.height {
            for column in 0..area.width {
                let at = view.flat_of(f32::from(column) + 0.5, f32::from(row) + 0.5);
                let under = under(world, view.from, at);
                cells.push(Tile { under, over: under, mask: 0 });
            }
        }
        Self { width: usize::from(area.width), cells }
    }

    /// Lays a solid over it.
    fn fill(&mut self, view: &View, solid: &Placed, ground: Ground) {
        let area = view.area;
        let (left, top) = view.place_flat((solid.middle.0 - solid.reach.0, solid.middle.1 + solid.reach.1));
        let (right, bottom) = view.place_flat((solid.middle.0 + solid.reach.0, solid.middle.1 - solid.reach.1));
        let within = |value: f32, most: u16| value.clamp(0.0, f32::from(most)) as u16;
        for row in within(top, area.height)..within(bottom.ceil(), area.height) {
            for column in within(left, area.width)..within(right.ceil(), area.width) {
                let mask = solid.part(view, (column, row));
                self.cells[usize::from(row) * self.width + usize::from(column)].lay(ground, mask);
            }
        }
    }

    fn draw(&self, p: Palette, view: &View, buffer: &mut Buffer) {
        let area = view.area;
        for (i, tile) in self.cells.iter().enumerate() {
            let at = (area.x + (i % self.width) as u16, area.y + (i / self.width) as u16);
            let cell = &mut buffer[at];
            let is_whole = tile.mask == 0 || tile.mask == ALL;
            if is_whole || !p.has_parts() {
                // Without colours a cell is what most of it is.
                let ground = if tile.mask.count_ones() >= Mask::BITS / 2 { tile.over } else { tile.under };
                let fg = p.text(Tone::Line).fg.unwrap_or_default();
                cell.set_bg(p.ground(ground)).set_char(p.ground_glyph(ground)).set_fg(fg);
                continue;
            }
            let (glyph, is_inverse) = closest(tile.mask);
            let (behind, ink) = if is_inverse { (tile.over, tile.under) } else { (tile.under, tile.over) };
            cell.set_bg(p.ground(behind)).set_char(glyph).set_fg(p.ground(ink));
        }
    }
}

/// A solid ready for many questions, as it is seen.
struct Placed {
    middle: (f32, f32),
    sin: f32,
    cos: f32,
    /// Half its extent, along its own axes; grown so that what is thinner than a quarter of a cell is still seen.
    half: (f32, f32),
    /// Half the extent of what holds it, across and up.
    reach: (f32, f32),
}

impl Placed {
    fn new(solid: &Solid, view: &View) -> Self {
        let (across, down) = view.cell_size();
        let thin = |half: f32, cell: f32| half.max(cell * THIN);
        let half = (thin(solid.half_x, across), thin(solid.half_y, down));
        let (sin, cos) = (solid.yaw.sin(), solid.yaw.cos());
        let reach = (half.0 * cos.abs() + half.1 * sin.abs(), half.0 * sin.abs() + half.1 * cos.abs());
        Self { middle: (solid.x, solid.y), sin, cos, half, reach }
    }

    /// From the side it is as wide as its shadow, from its bottom to its top.
    fn from_the_side(solid: &Solid, view: &View) -> Self {
        let above = Self::new(solid, view);
        let (middle, wide) = match view.from {
            Side::East => (solid.y, above.reach.1),
            _ => (solid.x, above.reach.0),
        };
        let (across, down) = view.cell_size();
        let half = (wide.max(across * THIN), ((solid.high - solid.low) / 2.0).max(down * THIN));
        Self { middle: (middle, f32::midpoint(solid.low, solid.high)), sin: 0.0, cos: 1.0, half, reach: half }
    }

    /// A place along its own axes, from its middle.
    fn own(&self, at: (f32, f32)) -> (f32, f32) {
        let (x, y) = (at.0 - self.middle.0, at.1 - self.middle.1);
        (x * self.cos + y * self.sin, y * self.cos - x * self.sin)
    }

    /// What it fills of a cell.
    fn part(&self, view: &View, (column, row): (u16, u16)) -> Mask {
        let (left, top) = (f32::from(column), f32::from(row));
        let (across, down) = view.cell_size();
        // Half of what the cell reaches along its axes: only a cell on an edge is looked at in parts.
        let (wide, tall) = (across / 2.0, down / 2.0);
        let cell = (wide * self.cos.abs() + tall * self.sin.abs(), wide * self.sin.abs() + tall * self.cos.abs());
        let (x, y) = self.own(view.flat_of(left + 0.5, top + 0.5));
        let (a, b) = (x.abs(), y.abs());
        if a + cell.0 <= self.half.0 && b + cell.1 <= self.half.1 {
            return ALL;
        }
        if a - cell.0 > self.half.0 || b - cell.1 > self.half.1 {
            return 0;
        }
        let eighth = |i: u8| (f32::from(i) + 0.5) / f32::from(SIDE);
        (0..SIDE * SIDE).fold(0, |mask, bit| {
            let (a, b) = self.own(view.flat_of(left + eighth(bit % SIDE), top + eighth(bit / SIDE)));
            mask | Mask::from(a.abs() <= self.half.0 && b.abs() <= self.half.1) << bit
        })
    }
}

/// What lies at a place, as it is seen, under all solids.
fn under(world: &World, from: Side, at: (f32, f32)) -> Ground {
    let b = &world.bounds;
    let (low, high) = match from {
        Side::South => (b.min.0, b.max.0),
        Side::East => (b.min.1, b.max.1),
        Side::Above => {
            if at.0 < b.min.0 || at.0 > b.max.0 || at.1 < b.min.1 || at.1 > b.max.1 {
                return Ground::Outside;
            }
            let inside =
                |min: (f32, f32), max: (f32, f32)| at.0 >= min.0 && at.0 <= max.0 && at.1 >= min.1 && at.1 <= max.1;
            return match world.zones.iter().rev().find(|z| inside(z.zone.min, z.zone.max)).map(|z| z.material) {
                Some(Material::Water) => Ground::Water,
                Some(Material::Ice) => Ground::Ice,
                Some(Material::Planks) => Ground::Planks,
                None => Ground::Floor,
            };
        }
    };
    match at {
        (x, _) if x < low || x > high => Ground::Outside,
        // What is under the feet.
        (_, up) if up < b.floor => Ground::Planks,
        _ => Ground::Floor,
    }
}
