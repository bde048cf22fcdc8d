//! The built-in rule stated in the language is the built-in rule, bit for bit.

use rand_like::Dice;
use velocitas_core::walker::Walker;
use velocitas_core::{Bounds, Ground, Input, Motion, Rate, Scene, Solid, SolidId, State, Surface, Tick, Zone, vec3};
use velocitas_gait::{Gait, compile};

/// A small generator with a seed: tests must not depend on luck.
mod rand_like {
    pub struct Dice(pub u64);

    impl Dice {
        /// xorshift64* (Vigna 2016).
        pub fn roll(&mut self) -> u32 {
            self.0 ^= self.0 >> 12;
            self.0 ^= self.0 << 25;
            self.0 ^= self.0 >> 27;
            (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 32) as u32
        }

        /// Between two numbers.
        pub fn within(&mut self, low: f32, high: f32) -> f32 {
            low + (high - low) * (self.roll() as f32 / u32::MAX as f32)
        }
    }
}

fn stated() -> Gait {
    let text = include_str!("../gaits/walker.gait");
    compile(text).gait.expect("it ships")
}

/// Boxes to run into, ice, water.
fn quay() -> Ground {
    let solids = (0..20u16)
        .map(|i| Solid {
            id: SolidId(i),
            x: f32::from(i % 5) * 9.0 - 18.0,
            y: f32::from(i / 5) * 10.0 - 15.0,
            half_x: 1.0 + f32::from(i % 3),
            half_y: 1.5,
            yaw: f32::from(i) * 0.3,
            low: 0.0,
            high: if i % 4 == 0 { 0.2 } else { 2.0 },
        })
        .collect();
    let zone = |x: f32, grip, pace| Zone { min: (x, -26.0), max: (x + 9.0, 26.0), surface: Surface { grip, pace } };
    let zones = vec![zone(-20.0, 0.1, 1.0), zone(5.0, 0.7, 0.5)];
    Ground::new(Bounds { min: (-42.0, -26.0), max: (42.0, 26.0), floor: 0.0 }, solids, zones)
}

fn pressed(dice: &mut Dice, schema: &velocitas_core::Schema) -> Input {
    let mut input = Input::default();
    input.set_real(0, dice.within(-1.2, 1.2));
    input.set_real(1, dice.within(-1.2, 1.2));
    input.set_flag(2, dice.roll().is_multiple_of(3));
    input.set_int(3, u32::from(dice.roll().is_multiple_of(11)));
    input.set_real(4, dice.within(-3.2, 3.2));
    // Now and then something that no honest client sends.
    if dice.roll().is_multiple_of(50) {
        input.set_real(4, f32::NAN);
        return input;
    }
    schema.round_input(&input)
}

fn scene<'a>(ground: &'a Ground, tunables: &'a [f32], hz: u32) -> Scene<'a> {
    Scene { tick: Tick(1), dt: Rate::new(hz).expect("a rate").dt(), ground, tunables }
}

fn defaults(rule: &dyn Motion) -> Vec<f32> {
    rule.tunables().iter().map(|t| t.default).collect()
}

#[test]
fn both_have_one_layout_one_body_and_one_table_of_tunables() {
    let (walker, stated) = (Walker::new(), stated());
    let lanes = |m: &dyn Motion| {
        let fields: Vec<_> =
            m.schema().state.iter().map(|f| (f.name, f.lane, f.shape, f.unit, f.agree, f.seen_bits())).collect();
        (fields, m.schema().input.iter().map(|f| (f.lane, f.kind)).collect::<Vec<_>>())
    };
    assert_eq!(lanes(&walker), lanes(&stated));
    assert_eq!(walker.body(), stated.body());
    assert_eq!(walker.tunables(), stated.tunables());
    let tuned = defaults(&walker);
    assert_eq!(walker.limits(&tuned), stated.limits(&tuned));
    assert_eq!(walker.spawn(vec3(1.0, 2.0, 3.0), 0.5), stated.spawn(vec3(1.0, 2.0, 3.0), 0.5));
}

#[test]
fn ten_thousand_ticks_lead_to_the_same_bits_at_every_rate() {
    let (walker, stated, ground) = (Walker::new(), stated(), quay());
    let tunables = defaults(&walker);
    for (seed, hz) in [(3, 20), (5, 60), (7, 128)] {
        let mut dice = Dice(seed);
        let mut native = walker.spawn(vec3(-13.0, -10.0, 0.002), 0.0);
        let mut spoken = native;
        let mut input = Input::default();
        for tick in 0..10_000 {
            if tick % 7 == 0 {
                input = pressed(&mut dice, walker.schema());
            }
            let scene = scene(&ground, &tunables, hz);
            let (a, b) = (walker.step(&scene, &native, &input), stated.step(&scene, &spoken, &input));
            assert_eq!(a.state, b.state, "tick {tick} at {hz} Hz, seed {seed}");
            assert_eq!(a.contacts, b.contacts, "tick {tick} at {hz} Hz, seed {seed}");
            (native, spoken) = (a.state, b.state);
        }
        assert!(native.vec3(0).distance(vec3(-13.0, -10.0, 0.0)) > 1.0, "it moved");
    }
}

fn anywhere(dice: &mut Dice) -> State {
    let mut state = State::default();
    state.set_vec3(0, vec3(dice.within(-41.0, 41.0), dice.within(-25.0, 25.0), dice.within(-0.1, 3.0)));
    if dice.roll().is_multiple_of(2) {
        state.set_real(2, 0.002);
    }
    state.set_vec3(3, vec3(dice.within(-9.0, 9.0), dice.within(-9.0, 9.0), dice.within(-42.0, 9.0)));
    if dice.roll().is_multiple_of(3) {
        state.set_real(5, 0.0);
    }
    state.set_real(6, dice.within(-3.1, 3.1));
    state.set_flag(7, dice.roll().is_multiple_of(2));
    state
}

#[test]
fn a_million_random_states_step_to_the_same_bits_one_by_one_and_in_rows() {
    let (walker, stated, ground) = (Walker::new(), stated(), quay());
    let tunables = defaults(&walker);
    let mut dice = Dice(11);
    let rates = [20, 60, 128];
    for round in 0..10_000usize {
        let scene = scene(&ground, &tunables, rates[round % 3]);
        let mut states: Vec<State> = (0..100).map(|_| anywhere(&mut dice)).collect();
        let inputs: Vec<Input> = (0..100).map(|_| pressed(&mut dice, walker.schema())).collect();
        let native: Vec<State> = states.iter().zip(&inputs).map(|(s, i)| walker.step(&scene, s, i).state).collect();
        for ((state, input), native) in states.iter().zip(&inputs).zip(&native) {
            let spoken = stated.step(&scene, state, input).state;
            assert_eq!(spoken, *native, "round {round}: from {state:?} with {input:?}");
        }
        stated.step_many(&scene, &mut states, &inputs);
        assert_eq!(states, native, "round {round}, in rows");
    }
}
