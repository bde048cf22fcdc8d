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

/// How far somebody at top speed goes on a surface before standing, and how far in two seconds.
fn on(surface: velocitas_core::Surface) -> (f32, f32) {
    let zone = velocitas_core::Zone { min: (-200.0, -200.0), max: (200.0, 200.0), surface };
    let bounds = *Ground::flat(200.0).bounds();
    let mut walk = Walk { ground: Ground::new(bounds, Vec::new(), vec![zone]), ..Walk::new(60) };
    for _ in 0..120 {
        walk.step(&ahead(true, false));
    }
    let gone = walk.state.vec3(state_lane::POS).x;
    for _ in 0..900 {
        walk.step(&Input::default());
    }
    (walk.state.vec3(state_lane::POS).x - gone, gone)
}

#[test]
fn ice_has_little_grip_and_water_is_slow() {
    use velocitas_core::Surface;
    let (stop, gone) = on(Surface::PLAIN);
    assert!((0.4..0.8).contains(&stop) && gone > 12.0, "{stop} {gone}");
    let (slid, _) = on(Surface { grip: 0.08, pace: 1.0 });
    assert!(slid > 5.0, "{slid}");
    let (_, waded) = on(Surface { grip: 0.6, pace: 0.45 });
    assert!((5.0..6.5).contains(&waded), "{waded}");
}

#[test]
fn diagonals_are_no_faster_and_half_a_stick_is_half_as_fast() {
    let speed = |x: f32, y: f32| {
        let mut walk = Walk::new(60);
        let mut input = Input::default();
        input.set_real(input_lane::MOVE, x);
        input.set_real(input_lane::MOVE + 1, y);
        for _ in 0..60 {
            walk.step(&input);
        }
        walk.state.vec3(state_lane::VEL).length()
    };
    assert!((speed(1.0, 1.0) - 4.2).abs() < 1e-4 && (speed(0.0, 1.0) - 4.2).abs() < 1e-4);
    assert!((speed(0.0, 0.5) - 2.1).abs() < 1e-4);
    assert_eq!(speed(f32::NAN, 0.0).to_bits(), speed(-1.0, 0.0).to_bits(), "nonsense is held in range");
}

#[test]
fn nothing_it_is_given_makes_it_leave_the_world_or_the_numbers() {
    let mut walk = Walk::new(60);
    walk.ground = Ground::flat(3.0);
    let mut seed = 1u32;
    for i in 0..5000u32 {
        seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        let mut input = Input::default();
        for lane in 0..5 {
            input.set_int(lane, seed.rotate_left(lane as u32 * 7) ^ i);
        }
        walk.step(&input);
        let at = walk.state.vec3(state_lane::POS);
        assert!(at.is_finite() && at.x.abs() < 3.0 && at.y.abs() < 3.0 && at.z >= 0.0, "{at:?} after {i}");
    }
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
    assert_eq!(format!("{:016x}", digest.value()), "2fae2ca1ec2c3d20");
}
