//! What a rule in the language costs against the same rule in Rust. `cargo bench -p velocitas-bench --bench gait`.

#![allow(missing_docs, reason = "criterion's macros make undocumented functions")]

use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};
use velocitas_core::walker::{Walker, input_lane, state_lane};
use velocitas_core::{Bounds, Ground, Input, Motion, Rate, Scene, Solid, SolidId, State, Step, Tick, clamp, max, vec3};
use velocitas_gait::{Gait, compile};

const WALKER: &str = include_str!("../../../gaits/walker.gait");
const COURIER: &str = include_str!("../../../gaits/courier.gait");

/// The walker without a ground: it flies through everything.
fn unbound() -> Gait {
    let text = WALKER
        .replace("  slide pos, vel\n", "  pos = pos + vel * dt\n")
        .replace("surface.pace", "1")
        .replace("surface.grip", "1")
        .replace("agree 0.1\n", "agree 0.1\n  grounded flag\n");
    compile(&text).gait.expect("the walker without ground")
}

/// The same in Rust.
fn unbound_native(dt: f32, tunables: &[f32; 7], state: &State, input: &Input) -> State {
    let [walk, haste, grip, steer, fall, leap, plunge] = *tunables;
    let grounded = state.flag(state_lane::GROUNDED);
    let facing = input.real(input_lane::FACING);
    let facing = if facing.is_finite() { facing } else { 0.0 };
    let (x, y) = (clamp(input.real(0), -1.0, 1.0), clamp(input.real(1), -1.0, 1.0));
    let (sin, cos) = (libm::sinf(facing), libm::cosf(facing));
    let mut want = vec3(y * cos + x * sin, y * sin - x * cos, 0.0);
    let length = want.length();
    if length > 1.0 {
        want = want * (1.0 / length);
    }
    let pace = if input.flag(input_lane::SPRINT) { walk * haste } else { walk };
    let want = want * pace;
    let mut vel = state.vec3(state_lane::VEL);
    let most = if grounded { grip } else { steer } * dt;
    let gap = want - vel.level();
    let length = gap.length();
    let level = if length <= most { want } else { vel.level() + gap * (most / length) };
    if grounded && input.int(input_lane::HOP) > 0 {
        vel.z = leap;
    }
    let vel = vec3(level.x, level.y, max(vel.z - fall * dt, -plunge));
    let mut next = State::default();
    next.set_vec3(state_lane::POS, state.vec3(state_lane::POS) + vel * dt);
    next.set_vec3(state_lane::VEL, vel);
    next.set_real(state_lane::FACING, facing);
    next.set_flag(state_lane::GROUNDED, grounded);
    next
}

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
            high: 2.0,
        })
        .collect();
    Ground::new(Bounds { min: (-42.0, -26.0), max: (42.0, 26.0), floor: 0.0 }, solids, Vec::new())
}

fn ahead(facing: f32) -> Input {
    let mut input = Input::default();
    input.set_real(input_lane::MOVE, 0.3);
    input.set_real(input_lane::MOVE + 1, 0.9);
    input.set_real(input_lane::FACING, facing);
    input
}

fn facing_of(i: usize) -> f32 {
    (i % 628) as f32 * 0.01 - 3.1
}

fn bench(c: &mut Criterion) {
    let ground = quay();
    let (walker, stated, free) = (Walker::new(), compile(WALKER).gait.expect("it ships"), unbound());
    let tunables: Vec<f32> = walker.tunables().iter().map(|t| t.default).collect();
    let tuned: [f32; 7] = std::array::from_fn(|i| tunables[i]);
    let scene = Scene { tick: Tick(1), dt: Rate::new(60).map_or(0.0, Rate::dt), ground: &ground, tunables: &tunables };
    let begin = walker.spawn(vec3(-13.0, -10.0, 0.002), 0.0);

    // The same thousand steps every time: what is met on the way costs as much as the rule.
    let mut run = |name: &str, step: &dyn Fn(&State, &Input) -> State| {
        c.bench_function(&format!("1000 steps, {name}"), |b| {
            b.iter(|| {
                let mut state = begin;
                for i in 0..1000 {
                    state = step(&state, &ahead(facing_of(i)));
                }
                black_box(&state);
            });
        });
    };
    let state_of = |step: Step| step.state;
    run("no ground: native", &|s, i| unbound_native(scene.dt, &tuned, s, i));
    run("no ground: machine", &|s, i| state_of(free.step(&scene, s, i)));
    run("with slide: native", &|s, i| state_of(walker.step(&scene, s, i)));
    run("with slide: machine", &|s, i| state_of(stated.step(&scene, s, i)));

    let inputs: Vec<Input> = (0..64).map(|i| ahead(facing_of(i * 9))).collect();
    let many = |i: usize| walker.spawn(vec3((i % 8) as f32 * 4.0 - 16.0, (i / 8) as f32 * 5.0 - 20.0, 0.002), 0.0);
    let mut run_many = |name: &str, step: &dyn Fn(&mut [State])| {
        let mut states: Vec<State> = (0..64).map(many).collect();
        c.bench_function(name, |b| {
            b.iter(|| {
                step(&mut states);
                black_box(&states);
            });
        });
    };
    let each = |states: &mut [State], step: &dyn Fn(&State, &Input) -> State| {
        for (s, i) in states.iter_mut().zip(&inputs) {
            *s = step(s, i);
        }
    };
    run_many("64 entities, no ground: native", &|all| {
        for (s, i) in all.iter_mut().zip(&inputs) {
            *s = unbound_native(scene.dt, &tuned, s, i);
        }
    });
    run_many("64 entities, no ground: machine, rows", &|all| free.step_many(&scene, all, &inputs));
    run_many("64 entities, with slide: native", &|all| each(all, &|s, i| walker.step(&scene, s, i).state));
    run_many("64 entities, with slide: machine, rows", &|all| stated.step_many(&scene, all, &inputs));

    let long = format!("{COURIER}\n{}", "# a line that says nothing\n".repeat(100 - COURIER.lines().count().min(99)));
    c.bench_function(&format!("source of {} lines to program", long.lines().count()), |b| {
        b.iter(|| black_box(compile(black_box(&long))));
    });
}

criterion_group!(benches, bench);
criterion_main!(benches);
