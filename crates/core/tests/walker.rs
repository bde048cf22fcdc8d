//! What the built-in rule promises, at many tick rates.

use velocitas_core::walker::{Walker, input_lane, state_lane};
use velocitas_core::{Digest, Ground, Input, Motion, Rate, Scene, State, Tick, max, vec3};

struct Walk {
    walker: Walker,
    ground: Ground,
    state: State,
    hz: u32,
    tick: Tick,
}

impl Walk {
    fn new(hz: u32) -> Self {
        let walker = Walker::new();
        let state = walker.spawn(vec3(0.0, 0.0, 0.0), 0.0);
        Self { walker, ground: Ground::flat(200.0), state, hz, tick: Tick(0) }
    }

    fn step(&mut self, input: &Input) {
        self.tick = self.tick.next();
        let dt = Rate::new(self.hz).unwrap().dt();
        let tunables: Vec<f32> = self.walker.tunables().iter().map(|t| t.default).collect();
        let scene = Scene { tick: self.tick, dt, ground: &self.ground, tunables: &tunables };
        self.state = self.walker.step(&scene, &self.state, input).state;
    }
}

fn ahead(sprint: bool, hop: bool) -> Input {
    let mut input = Input::default();
    input.set_real(input_lane::MOVE + 1, 1.0);
    input.set_flag(input_lane::SPRINT, sprint);
    input.set_int(input_lane::HOP, u32::from(hop));
    input
}

fn within(a: f32, b: f32, share: f32) -> bool {
    (a - b).abs() <= share * b.abs()
}

const RATES: [u32; 6] = [20, 30, 50, 60, 64, 128];

#[test]
fn ten_seconds_lead_equally_far_at_every_rate() {
    let distance = |hz: u32, sprint| {
        let mut walk = Walk::new(hz);
        for _ in 0..10 * hz {
            walk.step(&ahead(sprint, false));
        }
        walk.state.vec3(state_lane::POS).x
    };
    for sprint in [false, true] {
        let reference = distance(128, sprint);
        assert!(within(reference, if sprint { 67.2 } else { 42.0 }, 0.02), "{reference}");
        for hz in RATES {
            let here = distance(hz, sprint);
            assert!(within(here, reference, 0.01), "{here} m at {hz} Hz, {reference} m at 128 Hz");
        }
    }
}

#[test]
fn a_hop_is_equally_high_at_every_rate() {
    let height = |hz: u32| {
        let mut walk = Walk::new(hz);
        let mut highest = 0.0f32;
        for i in 0..2 * hz {
            walk.step(&ahead(false, i == 3));
            highest = max(highest, walk.state.vec3(state_lane::POS).z);
        }
        assert!(walk.state.flag(state_lane::GROUNDED), "landed again");
        highest
    };
    let reference = height(128);
    assert!(within(reference, 7.4 * 7.4 / (2.0 * 22.0), 0.01), "{reference}");
    for hz in RATES {
        assert!(within(height(hz), reference, 0.02), "{} m at {hz} Hz, {reference} m at 128 Hz", height(hz));
    }
}

#[test]
fn nobody_hops_in_the_air() {
    let mut walk = Walk::new(60);
    let mut highest = 0.0f32;
    for _ in 0..30 {
        walk.step(&ahead(false, true));
        highest = max(highest, walk.state.vec3(state_lane::POS).z);
    }
    assert!(highest < 1.3, "{highest}");
}

#[test]
fn a_fall_ends_at_terminal_speed() {
    let mut walk = Walk::new(60);
    walk.state.set_vec3(state_lane::POS, vec3(0.0, 0.0, 400.0));
    walk.state.set_flag(state_lane::GROUNDED, false);
    for _ in 0..240 {
        walk.step(&Input::default());
    }
    assert_eq!(walk.state.vec3(state_lane::VEL).z, -40.0);
}

#[test]
fn the_stick_follows_the_view() {
    let mut walk = Walk::new(60);
    let mut input = ahead(false, false);
    input.set_real(input_lane::FACING, std::f32::consts::FRAC_PI_2);
    for _ in 0..60 {
        walk.step(&input);
    }
    let at = walk.state.vec3(state_lane::POS);
    assert!(at.y > 3.9 && at.x.abs() < 0.01, "{at:?}");
}

/// If this breaks, the walker or the ground changed; a whole run's digest breaks with it.
#[test]
fn the_walkers_golden_digest() {
    let mut walk = Walk::new(60);
    let mut digest = Digest::default();
    for i in 0u32..2000 {
        let mut input = ahead(i % 90 > 40, i % 70 == 0);
        input.set_real(input_lane::FACING, (i % 628) as f32 * 0.01 - 3.1);
        input.set_real(input_lane::MOVE, if i % 50 > 30 { 0.5 } else { 0.0 });
        walk.step(&input);
        digest.lanes(&walk.state, 8);
    }
    assert_eq!(format!("{:016x}", digest.value()), "c746ffae6846dfcd");
}
