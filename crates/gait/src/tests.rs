//! What programs do, asked of small rules.

use proptest::prelude::*;
use velocitas_core::{Ground, Input, Motion, Scene, Solid, SolidId, State, Tick, Vec3, checked_step, vec3};

use crate::gait::{Gait, compile};

/// A rule with these statements; `out` and `list` are numbers, `way` a vector without unit, `turnwise` a bearing.
fn rule(step: &str) -> Gait {
    let text = format!(
        "gait \"test\"\n\
         input {{ move stick\n push axis\n go held\n hop press\n look bearing owned\n up pitch\n to point }}\n\
         state {{ pos point m\n vel vector m/s\n out number\n list number\n way vector\n turnwise bearing\n count counter\n on flag }}\n\
         tune {{ k 2  from -1000 to 1000 }}\n\
         body {{ radius 0.3 m height 1.5 m step 0.3 m }}\n\
         step {{ {step} }}\n\
         limits {{ pace vel.xy at most 5 m/s }}"
    );
    let compiled = compile(&text);
    match compiled.gait {
        Some(gait) => gait,
        None => panic!(
            "{}",
            crate::Report { file: "test", text: &text, diagnostics: &compiled.diagnostics, coloured: false }
        ),
    }
}

fn lane(gait: &Gait, name: &str) -> usize {
    gait.schema().state.iter().find(|f| f.name == name).map_or(0, |f| f.lane)
}

fn step_on(gait: &Gait, ground: &Ground, state: &State, input: &Input) -> State {
    let tunables: Vec<f32> = gait.tunables().iter().map(|t| t.default).collect();
    let scene = Scene { tick: Tick(1), dt: 0.05, ground, tunables: &tunables };
    let (step, ran) = gait.counted_step(&scene, state, input);
    assert!(ran <= gait.work(), "{ran} operations run, {} at most", gait.work());
    // One by one and in rows are the same, in the second row as well.
    let mut row = [*state; 11];
    gait.step_many(&scene, &mut row, &[*input; 11]);
    assert_eq!(row, [step.state; 11]);
    step.state
}

fn step(gait: &Gait, state: &State, input: &Input) -> State {
    step_on(gait, &Ground::flat(50.0), state, input)
}

/// The value of an expression after one step, where `list` is −2.5 and the rest is zero.
#[track_caller]
fn value(expression: &str) -> f32 {
    let gait = rule(&format!("out = {expression}"));
    let mut state = State::default();
    state.set_real(lane(&gait, "list"), -2.5);
    step(&gait, &state, &Input::default()).real(lane(&gait, "out"))
}

/// The same with the tunable k, which is 2, in place of every 2 that is a number by itself.
fn hidden(expression: &str) -> String {
    let part = |c: Option<char>| c.is_some_and(|c| c.is_ascii_alphanumeric() || c == '.');
    let all: Vec<char> = expression.chars().collect();
    let at = |i: usize| all.get(i).copied();
    let alone = |i: usize| all[i] == '2' && !part(at(i.wrapping_sub(1))) && !part(at(i + 1));
    (0..all.len()).map(|i| if alone(i) { 'k' } else { all[i] }).collect()
}

#[test]
fn every_function_does_what_the_reference_says() {
    let near = |expression: &str, expected: f32| {
        // Once as constants, folded beforehand, and once with values the folder cannot know.
        for text in [expression.to_owned(), hidden(expression)] {
            let found = value(&text);
            assert!((found - expected).abs() < 1e-5, "{text} is {found}, expected {expected}");
        }
    };
    near("min(2, 3) + max(2, 3) * 10", 32.0);
    near("clamp(2, 3, 5) + clamp(2, -1, 1) * 10", 13.0);
    near("abs(0 - 2) + sign(2) * 10 + sign(0 - 2) * 100 + sign(2 - 2)", -88.0);
    near("sqrt(2) * sqrt(2) + sqrt(0 - 2)", 2.0);
    near("sin(2) * sin(2) + cos(2) * cos(2)", 1.0);
    near("mix(2, 4, 0.25) + mix(2, 4, 7) * 10 + mix(2, 4, -7) * 100", 242.5);
    near("length(vec(3, 2 * 2)) + dot(vec(2, 3), vec(2, 1))", 12.0);
    near("cross(vec(1, 0), vec(0, 2)) + cross(vec(0, 0, 2), vec(1, 0, 0)).y * 10", 22.0);
    near("unit(vec(0, 2)).y + length(unit(vec(2 - 2, 0)))", 1.0);
    near("length(shorten(vec(3, 4), 2)) + length(shorten(vec(0, 1), 2)) * 10", 12.0);
    near("toward(1, 5, 2) + toward(1, 2, 5) * 10 + toward(1, 5, 0 - 2) * 100", 123.0);
    near("toward(vec(0, 0), vec(0, 9), 2).y + toward(vec(0, 0, 0), vec(0, 0, 1), 2).z * 10", 12.0);
    near("decay(2, 20 1/s) / 2", libm::expf(-1.0));
    near("wrap(2 * 3.1415927) - wrap(0)", 0.0);
    near("atan2(2, 0) - wrap(0)", std::f32::consts::FRAC_PI_2);
    near("bearing(vec(0 - 2, 0)) - atan2(0, -1)", 0.0);
    near("heading(wrap(0)).x * 2 + heading(atan2(1, 0)).y * 10", 12.0);
    near("turn(vec(2, 0), atan2(1, 0)).y", 2.0);
    near("toward(wrap(3), wrap(-3), 0.2) - wrap(3)", 0.2);
    near(
        "mix(wrap(3), wrap(-3), 0.5) - wrap(0) - 3.1415927 * (if mix(wrap(3), wrap(-3), 0.5) - wrap(0) > 0 then 1 else -1)",
        0.0,
    );
}

#[test]
fn every_function_of_the_table_is_tried_above() {
    let tried = include_str!("tests.rs");
    for spec in crate::BUILTINS {
        assert!(tried.contains(&format!("{}(", spec.name)), "{}", spec.name);
        assert!(!spec.help.is_empty() && !spec.takes.is_empty());
    }
    // Which asks the ground has a test of its own.
    assert!(tried.contains("ahead(vec("));
}

#[test]
fn dividing_by_zero_and_what_has_no_value_are_defined() {
    assert_eq!(value("1 / (k - 2)"), 0.0);
    assert_eq!(value("vec(1, 2).x / (k - 2)"), 0.0);
    assert_eq!(value("sqrt(list)"), 0.0);
    assert_eq!(value("if 1 / (k - 2) > 0 then 1 else 2"), 2.0);
}

#[test]
fn a_step_that_overflows_is_rejected_and_names_the_field() {
    let gait = rule("out = 1e38 * k * k * 1e30");
    let ground = Ground::flat(5.0);
    let scene = Scene { tick: Tick(1), dt: 0.05, ground: &ground, tunables: &[2.0] };
    let before = gait.spawn(vec3(1.0, 0.0, 0.0), 0.0);
    assert_eq!(checked_step(&gait, &scene, &before, &Input::default()).map(|_| ()), Err("out"));
    // Infinite on the way is no harm where it does not end up in the state.
    assert_eq!(value("if 1e38 * k * 1e30 > 5 then 1 else 2"), 1.0);
}

#[test]
fn values_choose_and_statements_keep_what_their_condition_excludes() {
    let gait = rule(
        "if list < 0 { out = 1 way.y = 5 } else { out = 2 way.x = 5 }\n\
         if list > 0 { out = 9 } else if k == 2 and not go { count = count + 3 on = true } else { out = 8 }",
    );
    let mut state = State::default();
    state.set_real(lane(&gait, "list"), -2.5);
    let after = step(&gait, &state, &Input::default());
    assert_eq!(after.real(lane(&gait, "out")), 1.0);
    assert_eq!(after.vec3(lane(&gait, "way")), vec3(0.0, 5.0, 0.0));
    assert_eq!((after.int(lane(&gait, "count")), after.flag(lane(&gait, "on"))), (3, true));
    assert_eq!(after.real(lane(&gait, "list")), -2.5, "what is not assigned stays");
}

#[test]
fn components_are_assigned_without_reading_what_was_just_written() {
    let gait = rule("way.xy = vec(way.y, way.x + 1)");
    let mut state = State::default();
    state.set_vec3(lane(&gait, "way"), vec3(3.0, 5.0, 7.0));
    let after = step(&gait, &state, &Input::default());
    assert_eq!(after.vec3(lane(&gait, "way")), vec3(5.0, 4.0, 7.0));
}

#[test]
fn repeat_divides_the_tick_and_counts_its_work() {
    let once = rule("out = out + dt / 1 s");
    let often = rule("repeat 8 { out = out + dt / 1 s  repeat 2 { list = list + dt / 1 s } }");
    let after = |gait: &Gait| step(gait, &State::default(), &Input::default());
    assert_eq!(after(&once).real(lane(&once, "out")), 0.05);
    let after = after(&often);
    assert!((after.real(lane(&often, "out")) - 0.05).abs() < 1e-6);
    assert!((after.real(lane(&often, "list")) - 0.05).abs() < 1e-6);
    assert!(often.work() > 8 * 5, "{}", often.work());
}

#[test]
fn inputs_reach_the_step_bounded_and_a_press_is_true_once() {
    let gait = rule(
        "if hop { count = count + 1 }\n if go { on = true }\n out = push\n way.xy = turn(move, look)\n turnwise = look\n\
         list = sin(up)\n vel.xy = unit(to - pos).xy * 1 m/s\n pos = pos + vel * dt",
    );
    let at = |name: &str| gait.schema().input.iter().find(|f| f.name == name).map_or(0, |f| f.lane);
    let mut input = Input::default();
    input.set_int(at("hop"), 3);
    input.set_flag(at("go"), true);
    input.set_real(at("push"), 7.0);
    input.set_real(at("move") + 1, f32::NAN);
    input.set_real(at("move"), 1.0);
    input.set_real(at("look"), f32::INFINITY);
    input.set_real(at("up"), std::f32::consts::FRAC_PI_2);
    input.set_vec3(at("to"), vec3(0.0, 9.0, 0.0));
    let after = step(&gait, &State::default(), &input);
    assert_eq!((after.int(lane(&gait, "count")), after.flag(lane(&gait, "on"))), (1, true));
    assert_eq!(after.real(lane(&gait, "out")), 1.0, "an axis ends at 1");
    assert_eq!(after.vec3(lane(&gait, "way")), vec3(0.0, -1.0, 0.0), "to the right of east is south");
    assert_eq!(after.real(lane(&gait, "turnwise")), 0.0, "no number is no direction");
    assert_eq!(after.real(lane(&gait, "list")), 1.0);
    assert_eq!(after.vec3(0), vec3(0.0, 0.05, 0.0), "ordered there, going there");
}

fn wall() -> Ground {
    let solid = Solid { id: SolidId(3), x: 5.0, y: 0.0, half_x: 1.0, half_y: 9.0, yaw: 0.0, low: 0.0, high: 4.0 };
    let bounds = velocitas_core::Bounds { min: (-50.0, -50.0), max: (50.0, 50.0), floor: 0.0 };
    Ground::new(bounds, vec![solid], Vec::new())
}

#[test]
fn the_ground_can_be_asked_and_met() {
    let gait = rule("out = ahead(vec(1, 0), 9 m) / 1 m\n slide pos, vel\n way = contact");
    let mut state = gait.spawn(vec3(3.5, 0.0, 0.002), 0.0);
    state.set_vec3(lane(&gait, "vel"), vec3(20.0, 0.0, 0.0));
    let after = step_on(&gait, &wall(), &state, &Input::default());
    assert!(
        (after.real(lane(&gait, "out")) - 0.2).abs() < 1e-3,
        "20 cm to the wall: {}",
        after.real(lane(&gait, "out"))
    );
    assert!(after.vec3(0).x < 3.7 && after.vec3(lane(&gait, "vel")) == Vec3::ZERO);
    assert_eq!(after.vec3(lane(&gait, "way")), vec3(-1.0, 0.0, 0.0));
    assert!(after.flag(lane(&gait, "grounded")));
}

#[test]
fn a_kick_counts_from_the_ticks_beginning_and_a_slide_may_be_left_out() {
    let gait = rule("if hop { kick vel.z = 4 m/s }\n if not go { slide pos, vel }");
    let hop = gait.schema().input.iter().find(|f| f.name == "hop").map_or(0, |f| f.lane);
    let go = gait.schema().input.iter().find(|f| f.name == "go").map_or(0, |f| f.lane);
    let state = gait.spawn(vec3(0.0, 0.0, 0.002), 0.0);
    let mut input = Input::default();
    input.set_int(hop, 1);
    let after = step(&gait, &state, &input);
    assert!((after.vec3(0).z - 0.202).abs() < 1e-4, "the whole of 4 m/s for 50 ms: {}", after.vec3(0).z);
    input.set_flag(go, true);
    assert_eq!(step(&gait, &state, &input).vec3(0), state.vec3(0));
}

#[test]
fn a_reloaded_rule_keeps_the_lanes_of_what_keeps_its_name() {
    let text = include_str!("../gaits/courier.gait");
    let before = compile(text).gait.expect("it ships");
    let edited = text
        .replace("  vel     vector", "  dust    number m   wire 1/8  range 9 m\n  vel     vector")
        .replace("  facing = look", "  facing = look\n  dust = clamp(dust + length(vel) * dt, 0, 9 m)")
        .replace("  breath  number s ", "  breath  vector s ")
        .replace(
            "breath = clamp(breath + dt * if pays then -1 else recover, 0, stamina)",
            "breath.x = stamina * recover * if pays then 1 else 2",
        )
        .replace("clamp(breath / 1 s, 0, 1)", "1")
        .replace("  gain  breath  at most recover           slack 4 %\n", "")
        .replace("clamp((breath - dt / 2) / 1 s, 0, 1)", "clamp(breath.x / 1 s, 0, 1)")
        .replace(" start 4 s", "");
    let compiled = crate::gait::compile_after(&edited, Some(before.schema()));
    let after = compiled.gait.unwrap_or_else(|| panic!("{:?}", compiled.diagnostics));
    assert_eq!(after.schema().check(), Ok(()));
    for name in ["pos", "vel", "facing", "grounded"] {
        assert_eq!(lane(&after, name), lane(&before, name), "{name}");
    }
    assert_ne!(lane(&after, "breath"), lane(&before, "breath"), "another kind is another field");
    assert_ne!(before.schema().fingerprint(), after.schema().fingerprint());
    // What the rule before left in a lane that is no longer used is dropped.
    let mut state = before.spawn(Vec3::ZERO, 0.0);
    state.set_vec3(lane(&before, "vel"), vec3(1.0, 0.0, 0.0));
    let next = step(&after, &state, &Input::default());
    assert!(next.real(lane(&after, "dust")) > 0.0);
    // Only the step differs: the same layout.
    let same = compile(&text.replace("4.2 m/s ", "5 m/s ")).gait.expect("sound");
    assert_eq!(same.schema().fingerprint(), before.schema().fingerprint());
}

#[test]
fn looks_are_taken_by_speed() {
    let gait = compile(include_str!("../gaits/courier.gait")).gait.expect("it ships");
    let looks = [0.0, 0.29, 0.31, 5.5, 99.0].map(|v| gait.look(v).unwrap_or("-"));
    assert_eq!(looks, ["idle", "idle", "walk", "sprint", "sprint"]);
}

/// Expressions of numbers without unit, for the law below.
fn expressions() -> impl Strategy<Value = String> {
    let leaf = prop::sample::select(vec!["k", "list", "out", "0", "1", "-3.5", "2", "1e20", "push", "dot(way, way)"]);
    leaf.prop_map(str::to_owned).prop_recursive(5, 40, 3, |inner| {
        let two = (inner.clone(), inner.clone(), prop::sample::select(vec!["+", "-", "*", "/"]));
        let call = (inner.clone(), inner.clone(), prop::sample::select(vec!["min", "max", "toward3", "mix3"]));
        prop_oneof![
            two.prop_map(|(a, b, op)| format!("({a} {op} {b})")),
            inner.clone().prop_map(|a| format!("sqrt(abs({a}))")),
            (inner.clone(), inner.clone(), inner).prop_map(|(a, b, c)| format!("(if {a} < {b} then {b} else {c})")),
            call.prop_map(|(a, b, name)| match name {
                "toward3" => format!("toward({a}, {b}, 0.5)"),
                "mix3" => format!("mix({a}, {b}, 0.3)"),
                name => format!("{name}({a}, {b})"),
            }),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    /// Any expression gives the same bits folded or not, alone or in a row, and takes no more than its bound.
    #[test]
    fn programs_keep_to_their_bound_and_folding_changes_nothing(text in expressions(), list in -50.0f32..50.0) {
        let folded = rule(&format!("out = {text}"));
        // The same with constants the folder cannot see: 2 is the tunable k.
        let unfolded = rule(&format!("out = {}", hidden(&text)));
        let mut state = State::default();
        state.set_real(lane(&folded, "list"), list);
        state.set_real(lane(&folded, "out"), 3.25);
        let a = step(&folded, &state, &Input::default());
        let b = step(&unfolded, &state, &Input::default());
        prop_assert_eq!(a, b, "{}", text);
    }
}

#[test]
fn a_jump_without_kick_leaves_the_ground_with_half_of_it_in_its_first_tick() {
    let with =
        |jump: &str| rule(&format!("if grounded and hop {{ {jump} }} vel.z = vel.z - 20 m/s^2 * dt\n slide pos, vel"));
    let ground = Ground::flat(50.0);
    let first_two = |gait: &Gait| {
        let mut input = Input::default();
        input.set_int(gait.schema().input.iter().find(|f| f.name == "hop").map_or(0, |f| f.lane), 1);
        let stands = gait.spawn(vec3(0.0, 0.0, 0.0), 0.0);
        let up = step_on(gait, &ground, &stands, &input);
        (up.vec3(0).z, step_on(gait, &ground, &up, &Input::default()).vec3(0).z)
    };
    let (kicked, plain) = (first_two(&with("kick vel.z = 8 m/s")), first_two(&with("vel.z = 8 m/s")));
    // A twentieth of a second: the mean of 8 and 7 m/s, or of 0 and 7; from there on both fly alike.
    assert!((kicked.0 - 0.375).abs() < 0.01 && (plain.0 - 0.175).abs() < 0.01, "{kicked:?} {plain:?}");
    assert!(((kicked.1 - kicked.0) - (plain.1 - plain.0)).abs() < 1e-4, "{kicked:?} {plain:?}");
}
