//! The ground as tinted backgrounds, never competing with what moves on it.

use ratatui::buffer::Buffer;
use velocitas_core::{Solid, Vec3};
use velocitas_lab::{KnownTo, Material, World};

use super::camera::View;
use crate::tui::palette::{Ground, Tone};
use crate::tui::stage::Stage;

/// Where the names of large things are put: none smaller than this many cells.
const NAMED_FROM: f32 = 9.0;

pub(super) fn draw(stage: &Stage, view: &View, buffer: &mut Buffer) {
    let p = stage.palette;
    let world = &stage.run.course().world;
    let known = stage.moment().solids(stage.machine(stage.viewer));
    let there = || world.solids.iter().zip(&known).filter(|(_, known_to)| **known_to != KnownTo::Nobody);
    let placed: Vec<Placed> = there().map(|(s, known_to)| Placed::new(&s.solid, *known_to, view)).collect();
    let area = view.area;
    for y in area.top()..area.bottom() {
        for x in area.left()..area.right() {
            let ground = at(world, &placed, view.world(x, y));
            let cell = &mut buffer[(x, y)];
            cell.set_bg(p.ground(ground));
            cell.set_char(p.ground_glyph(ground)).set_fg(p.text(Tone::Line).fg.unwrap_or_default());
        }
    }
    for (solid, _) in there() {
        let s = &solid.solid;
        let name = solid.name.chars().count() as f32;
        let (across, down) = view.cell_size();
        if s.half_x * 2.0 / across >= NAMED_FROM.max(name + 2.0) && s.half_y * 2.0 / down >= 3.0 {
            let middle = velocitas_core::vec3(s.x - name / 2.0 * across, s.y, 0.0);
            if let Some((x, y)) = view.cell(middle).filter(|(x, _)| x + name as u16 <= area.right()) {
                buffer.set_string(x, y, &solid.name, p.text(Tone::Muted));
            }
        }
    }
}

/// A solid ready for many questions.
struct Placed {
    solid: Solid,
    sin: f32,
    cos: f32,
    reach: f32,
    one_sided: bool,
    /// Half a cell, so that what is thinner than one is still seen.
    grown: (f32, f32),
}

impl Placed {
    fn new(solid: &Solid, known_to: KnownTo, view: &View) -> Self {
        let (across, down) = view.cell_size();
        let reach = (solid.half_x * solid.half_x + solid.half_y * solid.half_y).sqrt() + down;
        let thin = |half: f32, cell: f32| half.max(cell * 0.5);
        Self {
            solid: *solid,
            sin: solid.yaw.sin(),
            cos: solid.yaw.cos(),
            reach,
            one_sided: known_to != KnownTo::All,
            grown: (thin(solid.half_x, across), thin(solid.half_y, down)),
        }
    }

    fn contains(&self, at: Vec3) -> bool {
        let (x, y) = (at.x - self.solid.x, at.y - self.solid.y);
        if x.abs() > self.reach || y.abs() > self.reach {
            return false;
        }
        let (a, b) = (x * self.cos + y * self.sin, y * self.cos - x * self.sin);
        a.abs() <= self.grown.0 && b.abs() <= self.grown.1
    }
}

fn at(world: &World, solids: &[Placed], at: Vec3) -> Ground {
    let b = &world.bounds;
    if at.x < b.min.0 || at.x > b.max.0 || at.y < b.min.1 || at.y > b.max.1 {
        return Ground::Outside;
    }
    if let Some(solid) = solids.iter().find(|s| s.contains(at)) {
        return if solid.one_sided { Ground::OneSided } else { Ground::Wall };
    }
    let inside = |min: (f32, f32), max: (f32, f32)| at.x >= min.0 && at.x <= max.0 && at.y >= min.1 && at.y <= max.1;
    match world.zones.iter().rev().find(|z| inside(z.zone.min, z.zone.max)).map(|z| z.material) {
        Some(Material::Water) => Ground::Water,
        Some(Material::Ice) => Ground::Ice,
        Some(Material::Planks) => Ground::Planks,
        None => Ground::Floor,
    }
}
