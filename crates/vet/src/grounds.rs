//! Grounds to try a rule on.

use velocitas_core::{Bounds, Ground, Solid, SolidId, Surface, Zone};

/// A ground by name.
#[derive(Clone, Copy, Debug)]
pub struct TestGround {
    /// As named in tracks.
    pub name: &'static str,
    make: fn() -> Ground,
}

impl TestGround {
    /// The ground itself.
    pub fn ground(&self) -> Ground {
        (self.make)()
    }

    /// The ground of a name.
    pub fn named(name: &str) -> Option<&'static Self> {
        GROUNDS.iter().find(|g| g.name == name)
    }
}

/// All of them.
pub const GROUNDS: [TestGround; 4] = [
    TestGround { name: "flat", make: || Ground::flat(400.0) },
    TestGround { name: "kerbs", make: kerbs },
    TestGround { name: "crates", make: crates },
    TestGround { name: "ice and water", make: ice },
];

const BOUNDS: Bounds = Bounds { min: (-400.0, -400.0), max: (400.0, 400.0), floor: 0.0 };

fn solid(id: u16, at: (f32, f32), half: (f32, f32), yaw: f32, high: f32) -> Solid {
    Solid { id: SolidId(id), x: at.0, y: at.1, half_x: half.0, half_y: half.1, yaw, low: 0.0, high }
}

/// Edges low enough to step over and stairs of them.
fn kerbs() -> Ground {
    let stairs = (0..12u16).map(|i| {
        let along = 3.0 + f32::from(i) * 0.8;
        solid(i, (along, 0.0), (0.4, 8.0), 0.0, 0.15 * f32::from(i + 1))
    });
    let across =
        (0..8u16).map(|i| solid(20 + i, (-3.0 - f32::from(i) * 2.0, 0.0), (0.3, 6.0), f32::from(i) * 0.2, 0.2));
    Ground::new(BOUNDS, stairs.chain(across).collect(), Vec::new())
}

/// Boxes to run into, slide along, jump onto and be caught between.
fn crates() -> Ground {
    let solids = (0..25u16).filter(|i| *i != 12).map(|i| {
        let (x, y) = (f32::from(i % 5) * 3.0 - 6.0, f32::from(i / 5) * 3.0 - 6.0);
        solid(i, (x, y), (0.8, 0.6 + 0.1 * f32::from(i % 4)), f32::from(i) * 0.37, 0.6 + 0.3 * f32::from(i % 5))
    });
    Ground::new(BOUNDS, solids.collect(), Vec::new())
}

/// Strips of ice, water and stone.
fn ice() -> Ground {
    let zones = (-20..20i8).map(|i| {
        let x = f32::from(i) * 3.0;
        let surface = match i.rem_euclid(3) {
            0 => Surface { grip: 0.08, pace: 1.0 },
            1 => Surface { grip: 0.6, pace: 0.45 },
            _ => Surface::PLAIN,
        };
        Zone { min: (x, -400.0), max: (x + 3.0, 400.0), surface }
    });
    Ground::new(BOUNDS, Vec::new(), zones.collect())
}
