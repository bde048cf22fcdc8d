//! A step takes nothing from the heap.

use velocitas_core::{Ground, Input, Motion, Scene, State, Tick, vec3};
use velocitas_gait::compile;

#[test]
fn a_step_allocates_nothing_alone_or_in_a_row() {
    let ground = Ground::flat(50.0);
    for text in [include_str!("../gaits/courier.gait"), include_str!("../gaits/ferry.gait")] {
        let gait = compile(text).gait.expect("it ships");
        let tunables: Vec<f32> = gait.tunables().iter().map(|t| t.default).collect();
        let scene = Scene { tick: Tick(1), dt: 1.0 / 60.0, ground: &ground, tunables: &tunables };
        let mut state = gait.spawn(vec3(0.0, 0.0, 0.002), 0.3);
        let mut row = [state; 20];
        let mut input = Input::default();
        input.set_real(1, 1.0);
        let counted = allocation_counter::measure(|| {
            for _ in 0..100 {
                state = gait.step(&scene, &state, &input).state;
                gait.step_many(&scene, &mut row, &[input; 20]);
            }
        });
        assert_eq!(counted.count_total, 0, "{}", gait.name());
        assert_ne!(state, State::default());
        // The counter counts: compiling does allocate.
        assert!(allocation_counter::measure(|| drop(compile(text))).count_total > 100);
    }
}
