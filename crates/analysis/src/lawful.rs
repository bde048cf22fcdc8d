//! What a rule allows from one state to the next, as the guard has it.

use velocitas_core::{Carry, Footing, Going, Limits, Motion, Scene, State, vec3};

/// What is remembered from state to state.
#[derive(Clone, Debug, Default)]
pub struct Lawful {
    carry: Carry,
    footing: Footing,
}

impl Lawful {
    /// The limits that hold over `ticks` ticks between two states that follow each other, and as fast as somebody may still be along the
    /// ground since it lawfully was.
    pub fn limits(
        &mut self,
        (motion, scene): (&dyn Motion, &Scene<'_>),
        (before, told): (&State, &State),
        ticks: u64,
    ) -> (Limits, f32) {
        let (start, end) = (before.vec3(0), told.vec3(0));
        let step = motion.schema().state[0].wire.step();
        let step = vec3(step, step, step);
        let underfoot = scene.ground.underfoot(start - step, start + step);
        let underfoot = &self.footing.of(scene.ground, motion, (start, false), underfoot);
        let most = motion.limits(scene.tunables);
        let within = |state| motion.limits_in(&most, scene.tunables, (state, 0.0), underfoot);
        let mut limits = within(before).or(&within(told));
        let (way, told, changed) = ((start, end), Some(told), false);
        let going = Going { scene, motion, before, told, way, ticks, changed, underfoot };
        let carried = self.carry.widen(&going, &mut limits);
        (limits, carried)
    }
}
