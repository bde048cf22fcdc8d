//! Whether the ground bears somebody at all: in the air its surface does nothing.

use crate::ground::{Ground, Surface, Underfoot, touching};
use crate::motion::Motion;
use crate::vec3::{Vec3, vec3};

/// Where somebody's steps began.
#[derive(Clone, Copy, Debug)]
pub struct Footing {
    /// Whether the last began off the ground.
    was_off: bool,
}

impl Default for Footing {
    /// Nobody knows.
    fn default() -> Self {
        Self { was_off: true }
    }
}

impl Footing {
    /// What may have been underfoot of a step that begins at `start`, if it was on the ground; or nothing. Who comes down may be a few
    /// millimetres above the ground when a tick ends, which is too near to tell it from who stands, and is in the air for one tick more:
    /// for one in which its program did not stand still, as it may have (`is_still`).
    #[must_use]
    pub fn of(
        &mut self,
        ground: &Ground,
        motion: &dyn Motion,
        (start, is_still): (Vec3, bool),
        on_the_ground: Underfoot,
    ) -> Underfoot {
        let air = Underfoot::of(Surface::PLAIN);
        if on_the_ground == air {
            self.was_off = true;
            return air;
        }
        let is_off = !stands(ground, motion, start);
        let was_off = self.was_off;
        self.was_off = is_off || was_off && is_still;
        if was_off || is_off { on_the_ground.or(Surface::PLAIN) } else { on_the_ground }
    }
}

/// Whether somebody who is told of at a place stands there: near enough to what bears it, with room for a hop that could be told from that.
pub(super) fn stands(ground: &Ground, motion: &dyn Motion, at: Vec3) -> bool {
    let (near, body) = (touching(motion.schema().state[0].wire.step()), motion.body());
    ground.carries(&body, at, near) && ground.overlap(&body.slimmer(near), at + vec3(0.0, 0.0, near)).is_none()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ground::{Bounds, Solid, SolidId, Zone};
    use crate::walker::Walker;

    #[test]
    fn who_comes_down_into_water_is_in_the_air_for_one_tick_more_and_who_wades_is_not() {
        let bounds = Bounds { min: (-50.0, -50.0), max: (50.0, 50.0), floor: 0.0 };
        let surface = Surface { grip: 0.5, pace: 0.4 };
        let water = Zone { min: bounds.min, max: bounds.max, surface };
        // A wall to the east, and to the north a slab as low as somebody is high.
        let solid = Solid { id: SolidId(0), x: 5.0, y: 0.0, half_x: 0.5, half_y: 3.0, yaw: 0.0, low: 0.0, high: 3.0 };
        let low = Walker::new().body().height + 0.006;
        let slab = Solid { id: SolidId(1), x: 0.0, y: 9.0, half_x: 1.0, half_y: 1.0, low, ..solid };
        let ground = Ground::new(bounds, vec![solid, slab], vec![water]);
        let (walker, wet) = (Walker::new(), Underfoot::of(surface));
        let mut footing = Footing::default();
        let mut paces = [0.0, 0.0, 0.08, 0.006, 0.006, 0.0].map(|z| {
            let underfoot = footing.of(&ground, &walker, (vec3(0.0, 0.0, z), false), wet);
            underfoot.pace[1]
        });
        // Of who begins nobody knows.
        assert_eq!(std::mem::take(&mut paces[0]), 1.0);
        assert_eq!(paces, [0.0, 0.4, 1.0, 1.0, 0.4, 0.4]);
        let mut pace = |at| footing.of(&ground, &walker, (at, false), wet).pace[1];
        let by_the_wall = 4.5 - walker.body().radius + 0.001;
        assert_eq!(pace(vec3(by_the_wall, 0.0, 0.004)), 0.4);
        // There it can hop a few millimetres high.
        assert_eq!(pace(vec3(0.0, 9.0, 0.004)), 1.0);
        // Whose program stands still as it comes down, comes down when it goes on.
        let mut pace = |z, is_still| footing.of(&ground, &walker, (vec3(0.0, 0.0, z), is_still), wet).pace[1];
        let steps = [(0.08, false), (0.006, true), (0.006, true), (0.006, false), (0.0, false), (0.0, true)];
        assert_eq!(steps.map(|(z, is_still)| pace(z, is_still)), [1.0, 1.0, 1.0, 1.0, 0.4, 0.4]);
    }
}
