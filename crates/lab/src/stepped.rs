//! A rule whose physics is stepped at another rate than the tick's.
//!
//! Whole parts of a tick are sub-steps: the same thing more finely. Anything else is out of step, as where an engine keeps a rate of its own: some ticks
//! make a step more than others, or none, and what is drawn beats. Which steps a tick makes follows from its number, so both sides make the same.

use std::sync::Arc;

use velocitas_core::{
    Body, Burst, Contacts, Hands, Input, Limits, Look, Motion, Rate, Scene, Schema, State, Step, Tunable, Underfoot,
    Vec3,
};

/// How often physics is stepped, and how often ticks are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Physics {
    /// Steps a second.
    pub hz: u32,
    /// Ticks a second.
    pub rate: Rate,
}

impl Physics {
    /// Whether each tick makes as many steps.
    pub fn is_in_step(self) -> bool {
        self.hz.is_multiple_of(self.rate.hz())
    }

    /// How many steps have been made before a tick.
    fn before(self, tick: u64) -> u64 {
        let (hz, rate) = (u64::from(self.hz), u64::from(self.rate.hz()));
        tick / rate * hz + tick % rate * hz / rate
    }

    /// The most in one tick.
    fn most(self) -> u32 {
        self.hz.div_ceil(self.rate.hz())
    }

    /// How much faster than it is something can seem in a tick.
    fn seems(self) -> f32 {
        if self.is_in_step() { 1.0 } else { self.most() as f32 * self.rate.hz() as f32 / self.hz as f32 }
    }
}

/// A rule stepped so.
#[derive(Debug)]
pub(crate) struct Stepped {
    rule: Arc<dyn Motion>,
    physics: Physics,
}

impl Stepped {
    /// A rule stepped at a rate; as it is where that is once a tick.
    pub(crate) fn of(rule: Arc<dyn Motion>, physics: Option<Physics>) -> Arc<dyn Motion> {
        match physics {
            Some(physics) => Arc::new(Self { rule, physics }),
            None => rule,
        }
    }

    /// Limits as they seem from tick to tick.
    fn seeming(&self, limits: Limits) -> Limits {
        let seems = self.physics.seems();
        if seems <= 1.0 {
            return limits;
        }
        let burst = limits.burst.map(|b| Burst { level: b.level * seems, metres: b.metres * seems });
        let (level, up, down) = (limits.level * seems, limits.up * seems, limits.down * seems);
        let accel = limits.accel.map(|accel| accel * seems);
        // A tick without a step falls by nothing.
        Limits { level, up, down, burst, accel, fall: None, gains: limits.gains.map(|gain| gain * seems), ..limits }
    }
}

impl Motion for Stepped {
    fn name(&self) -> &'static str {
        self.rule.name()
    }

    fn schema(&self) -> &Schema {
        self.rule.schema()
    }

    fn tunables(&self) -> &[Tunable] {
        self.rule.tunables()
    }

    fn body(&self) -> Body {
        self.rule.body()
    }

    fn limits(&self, tunables: &[f32]) -> Limits {
        self.seeming(self.rule.limits(tunables))
    }

    fn limits_in(&self, most: &Limits, tunables: &[f32], since: (&State, f32), underfoot: &Underfoot) -> Limits {
        if self.physics.seems() <= 1.0 {
            return self.rule.limits_in(most, tunables, since, underfoot);
        }
        // What it may reach within a part of a tick is not told apart.
        *most
    }

    fn spawn(&self, position: Vec3, bearing: f32) -> State {
        self.rule.spawn(position, bearing)
    }

    fn moves(&self) -> u32 {
        self.rule.moves() * self.physics.most()
    }

    fn version(&self) -> u64 {
        self.rule.version() ^ u64::from(self.physics.hz).rotate_left(32)
    }

    fn keys(&self) -> &[(&'static str, Vec<&'static str>)] {
        self.rule.keys()
    }

    fn hands(&self) -> &Hands {
        self.rule.hands()
    }

    fn is_here(&self) -> bool {
        self.rule.is_here()
    }

    fn looks(&self) -> &[Look] {
        self.rule.looks()
    }

    fn step(&self, scene: &Scene<'_>, state: &State, input: &Input) -> Step {
        let count = self.physics.before(scene.tick.0 + 1) - self.physics.before(scene.tick.0);
        let scene = Scene { dt: 1.0 / self.physics.hz as f32, ..*scene };
        let mut made = Step { state: *state, ..Step::default() };
        let mut input = *input;
        for _ in 0..count {
            let Step { state, contacts, teleported } = self.rule.step(&scene, &made.state, &input);
            let mut all = made.contacts;
            contacts.iter().for_each(|id| all.add(id));
            made = Step { state, contacts: Contacts::clone(&all), teleported: made.teleported || teleported };
            // What is pressed is pressed once.
            input = self.rule.schema().held_on(&input);
        }
        made
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_core::walker::{Walker, input_lane, state_lane};
    use velocitas_core::{Ground, Tick, vec3};

    fn walked(hz: u32) -> Vec<f32> {
        let rate = Rate::new(60).expect("60 Hz");
        let rule = Stepped::of(Arc::new(Walker::new()), Some(Physics { hz, rate }));
        let (ground, defaults) = (Ground::flat(90.0), rule.tunables().iter().map(|t| t.default).collect::<Vec<_>>());
        let mut input = Input::default();
        input.set_real(input_lane::MOVE + 1, 1.0);
        let mut state = rule.spawn(vec3(0.0, 0.0, 0.0), 0.0);
        let tick = |tick: u64| {
            let scene = Scene { tick: Tick(tick), dt: rate.dt(), ground: &ground, tunables: &defaults };
            let next = rule.step(&scene, &state, &input).state;
            let way = next.vec3(state_lane::POS).distance(state.vec3(state_lane::POS));
            state = next;
            way
        };
        (0..120).map(tick).collect()
    }

    #[test]
    fn parts_of_a_tick_go_as_far_and_another_rate_beats() {
        let (plain, parts, slower, faster) = (walked(60), walked(180), walked(50), walked(90));
        let last = |ways: &[f32]| ways[60..].to_vec();
        let (plain, parts) = (last(&plain), last(&parts));
        assert!(plain.iter().zip(&parts).all(|(a, b)| (a - b).abs() < 1e-4), "{plain:?} {parts:?}");
        assert_eq!(last(&slower).iter().filter(|way| **way == 0.0).count(), 10, "one tick in six stands still");
        let sum = |ways: &[f32]| ways.iter().sum::<f32>();
        assert!((sum(&last(&slower)) - sum(&plain)).abs() < 0.01, "but no less far in a second");
        let faster = last(&faster);
        let ratio = faster[1] / faster[0];
        assert!((ratio - 2.0).abs() < 0.01 || (ratio - 0.5).abs() < 0.01, "one step, then two: {ratio}");
    }

    #[test]
    fn how_many_steps_were_made_is_exact_however_far_ticks_are() {
        let physics = Physics { hz: 50, rate: Rate::new(60).expect("60 Hz") };
        assert_eq!((physics.before(60), physics.before(6), physics.before(5)), (50, 5, 4));
        let far = u64::from(u32::MAX) * 60;
        assert_eq!(physics.before(far + 60) - physics.before(far), 50);
        assert!(!physics.is_in_step() && Physics { hz: 180, ..physics }.is_in_step());
    }
}
