//! The ground as tinted backgrounds, never competing with what moves on it. Edges that cut a cell are drawn in quarters of it, so that a
//! house that is turned looks like one.

use ratatui::buffer::Buffer;
use ratatui::style::Color;
use velocitas_core::{Solid, Vec3, vec3};
use velocitas_lab::{KnownTo, Material, World};

use velocitas_report::Side;

use super::camera::View;
use super::look::Look;
use crate::tui::palette::{Ground, Palette, Tone};

/// Where the names of large things are put: none smaller than this many cells.
const NAMED_FROM: f32 = 9.0;
/// The quarters of a cell, from the left and top.
const QUARTERS: [(f32, f32); 4] = [(0.25, 0.25), (0.75, 0.25), (0.25, 0.75), (0.75, 0.75)];

/// What lies in each quarter of the cells of a view.
struct Tiles {
    width: usize,
    cells: Vec<[Ground; 4]>,
}

/// Draws the ground of a view; `near` is what is followed.
pub(super) fn draw(look: &Look<'_>, near: Vec3, buffer: &mut Buffer) {
    let (stage, view) = (look.stage, &look.view);
    let world = &stage.run.course().world;
    let known = stage.moment().solids(stage.machine(look.viewer));
    let there: Vec<(&velocitas_lab::NamedSolid, KnownTo)> =
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

fn names<'a>(look: &Look<'_>, solids: impl Iterator<Item = &'a velocitas_lab::NamedSolid>, buffer: &mut Buffer) {
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
                cells.push([under(world, view.from, at); 4]);
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
                let cell = &mut self.cells[usize::from(row) * self.width + usize::from(column)];
                for (quarter, (x, y)) in cell.iter_mut().zip(QUARTERS) {
                    if solid.contains(view.flat_of(f32::from(column) + x, f32::from(row) + y)) {
                        *quarter = ground;
                    }
                }
            }
        }
    }

    fn draw(&self, p: Palette, view: &View, buffer: &mut Buffer) {
        let area = view.area;
        for (i, quarters) in self.cells.iter().enumerate() {
            let at = (area.x + (i % self.width) as u16, area.y + (i / self.width) as u16);
            let cell = &mut buffer[at];
            let fg = p.text(Tone::Line).fg.unwrap_or_default();
            if quarters.iter().all(|ground| *ground == quarters[0]) || !p.has_quarters() {
                // Without colours a cell is what most of it is.
                let ground = most(quarters);
                cell.set_bg(p.ground(ground)).set_char(p.ground_glyph(ground)).set_fg(fg);
                continue;
            }
            let (behind, over) = two(quarters);
            let shape = quarters.iter().enumerate().fold(0, |bits, (i, g)| bits | usize::from(*g == over) << i);
            let ink: Color = p.ground(over);
            cell.set_bg(p.ground(behind)).set_char(Palette::quarters(shape)).set_fg(ink);
        }
    }
}

/// What most quarters are; of two halves the solid.
fn most(quarters: &[Ground; 4]) -> Ground {
    let count = |ground: &Ground| quarters.iter().filter(|g| *g == ground).count() * 2 + usize::from(is_solid(*ground));
    quarters.iter().copied().max_by_key(count).unwrap_or(Ground::Floor)
}

const fn is_solid(ground: Ground) -> bool {
    matches!(ground, Ground::Wall | Ground::OneSided)
}

/// What lies behind in a cell, and what over it: a cell shows two things.
fn two(quarters: &[Ground; 4]) -> (Ground, Ground) {
    let over = quarters.iter().copied().find(|ground| is_solid(*ground)).unwrap_or(quarters[0]);
    let behind = quarters.iter().copied().find(|ground| *ground != over).unwrap_or(over);
    (behind, over)
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
        let thin = |half: f32, cell: f32| half.max(cell * 0.26);
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
        let half = (wide.max(across * 0.26), ((solid.high - solid.low) / 2.0).max(down * 0.26));
        Self { middle: (middle, f32::midpoint(solid.low, solid.high)), sin: 0.0, cos: 1.0, half, reach: half }
    }

    fn contains(&self, at: (f32, f32)) -> bool {
        let (x, y) = (at.0 - self.middle.0, at.1 - self.middle.1);
        let (a, b) = (x * self.cos + y * self.sin, y * self.cos - x * self.sin);
        a.abs() <= self.half.0 && b.abs() <= self.half.1
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
