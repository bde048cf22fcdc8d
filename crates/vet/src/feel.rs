//! The figures a player notices, measured by trying.

use serde::Serialize;
use velocitas_core::{Input, InputField, InputKind, Motion, Rate, Schema, State, Vec3, max};

use crate::grounds::GROUNDS;
use crate::walk::ahead;
use crate::{Stepper, defaults};

/// The tick rates at which rules are compared.
pub const RATES: [u32; 3] = [20, 60, 128];

/// How long anything is tried, in seconds.
const PATIENCE: u32 = 20;

/// How a rule feels at a tick rate, with whatever keys make it go fastest.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
pub struct Feel {
    /// Ticks a second.
    pub tick_rate: u32,
    /// The greatest speed along the ground, in metres a second.
    pub top_mps: f32,
    /// From standing to 95 % of that, in seconds.
    pub to_top_s: f32,
    /// From letting everything go at that speed to a stop, in metres; `None` for what goes on to where it was ordered.
    pub stop_m: Option<f32>,
    /// The same in seconds; `None` if it does not stop.
    pub stop_s: Option<f32>,
    /// How high a press lifts it, in metres; `None` if nothing is pressed or nothing lifts.
    pub jump_m: Option<f32>,
    /// How long it is then in the air, in seconds.
    pub air_s: Option<f32>,
    /// Across the circle it turns in with the helm hard over, in metres; `None` if it is not steered.
    pub circle_m: Option<f32>,
    /// From being ordered to a place twenty metres away to being within five centimetres of it for good, in seconds; `None` if
    /// it takes no orders or does not arrive.
    pub arrive_s: Option<f32>,
    /// How far it goes beyond that place, in metres; `None` if it takes no orders.
    pub overshoot_m: Option<f32>,
}

/// Tries a rule on flat ground with its own tunables.
pub fn feel(rule: &dyn Motion, rate: Rate) -> Feel {
    let ground = GROUNDS[0].ground();
    let tunables = defaults(rule);
    let begin = rule.spawn(Vec3::ZERO, 0.0);
    let trial = |state| Stepper::new(rule, &ground, &tunables, rate, state);
    let mut out = Feel { tick_rate: rate.hz(), ..Feel::default() };

    let top = |speeds: &[(f32, State)]| speeds.iter().map(|(v, _)| *v).fold(0.0, max);
    let tried = held(rule.schema(), &ahead(rule.schema())).into_iter().map(|go| {
        let speeds = speeds(&mut trial(begin), &go, rate);
        (go, speeds)
    });
    // Of those that are as fast the first: with the fewest keys down.
    let fastest = tried.reduce(|best, next| if top(&next.1) > top(&best.1) * ALIKE { next } else { best });
    let (go, speeds) = fastest.unwrap_or_default();
    out.top_mps = top(&speeds);
    let near = speeds.iter().position(|(v, _)| *v >= 0.95 * out.top_mps).unwrap_or(0);
    out.to_top_s = (near + 1) as f32 * rate.dt();

    if let Some((_, fast)) = speeds.get(near).filter(|_| out.top_mps > 0.0 && orders(rule).is_none()) {
        let mut stopping = trial(*fast);
        let from = fast.vec3(0);
        for tick in 1..=PATIENCE * rate.hz() {
            let before = stopping.state.vec3(0);
            stopping.step(&Input::default());
            out.stop_m = Some(stopping.state.vec3(0).distance(from));
            if stopping.state.vec3(0).distance(before) < 0.01 * rate.dt() {
                out.stop_s = Some(tick as f32 * rate.dt());
                break;
            }
        }
    }
    for lift in lifts(rule.schema()) {
        jump(&mut trial(begin), &lift, rate, &mut out);
    }
    arrival(rule, &mut trial(begin), rate, &mut out);
    if let Some(rudder) = rule.schema().input.iter().filter(|f| matches!(f.kind, InputKind::Axis { .. })).nth(1) {
        let mut hard_over = go;
        hard_over.set_real(rudder.lane, 1.0);
        out.circle_m = circle(&mut trial(begin), &hard_over, rate);
    }
    out
}

/// What is faster or higher by less than this is alike.
const ALIKE: f32 = 1.001;

/// An input with none of the held keys down, each alone, each two, and all: one of them may brake.
fn held(schema: &Schema, with: &Input) -> Vec<Input> {
    let keys: Vec<usize> = schema.input.iter().filter(|f| f.kind == InputKind::Held).map(|f| f.lane).collect();
    let down = |which: &dyn Fn(usize) -> bool| {
        let mut input = *with;
        keys.iter().enumerate().for_each(|(i, lane)| input.set_flag(*lane, which(i)));
        input
    };
    let mut all = vec![down(&|_| false)];
    all.extend((0..keys.len()).map(|a| down(&|i| i == a)));
    all.extend(
        (0..keys.len())
            .flat_map(|a| (a + 1..keys.len()).map(move |b| (a, b)))
            .map(|(a, b)| down(&|i| i == a || i == b)),
    );
    all.push(down(&|_| true));
    all
}

/// What may lift somebody who stands: each press, all of them, and each held key; with what is held on after the first tick.
fn lifts(schema: &Schema) -> Vec<(Input, Input)> {
    let presses: Vec<usize> = schema.input.iter().filter(|f| f.kind == InputKind::Press).map(|f| f.lane).collect();
    let mut all = Vec::new();
    let press = |lanes: &[usize]| {
        let mut input = Input::default();
        lanes.iter().for_each(|lane| input.set_int(*lane, 1));
        input
    };
    all.extend(presses.iter().map(|lane| (press(&[*lane]), *trial_rest())));
    all.push((press(&presses), *trial_rest()));
    for input in held(schema, &Input::default()) {
        let mut pressed = input;
        presses.iter().for_each(|lane| pressed.set_int(*lane, 1));
        all.extend([(input, input), (pressed, pressed)]);
    }
    all.retain(|(first, _)| *first != Input::default());
    all
}

/// The input by which a rule is ordered to places, if by any.
fn orders(rule: &dyn Motion) -> Option<&InputField> {
    rule.schema().input.iter().find(|f| matches!(f.kind, InputKind::Point { .. }))
}

/// How it obeys an order to a place twenty metres to the east.
fn arrival(rule: &dyn Motion, trial: &mut Stepper<'_>, rate: Rate, out: &mut Feel) {
    const WAY: f32 = 20.0;
    const NEAR: f32 = 0.05;
    let Some(field) = orders(rule) else { return };
    let mut order = Input::default();
    field.give(&mut order, Vec3 { x: WAY, y: 0.0, z: 0.0 });
    let order = rule.schema().round_input(&order);
    let (mut beyond, mut since) = (0.0, None);
    for tick in 1..=3 * PATIENCE * rate.hz() {
        trial.step(&order);
        let at = trial.state.vec3(0).x;
        beyond = max(beyond, at - order.real(field.lane));
        since = if libm::fabsf(at - order.real(field.lane)) > NEAR { None } else { since.or(Some(tick)) };
    }
    (out.arrive_s, out.overshoot_m) = (since.map(|tick| tick as f32 * rate.dt()), Some(beyond));
}

/// Speed and state after every tick of going.
fn speeds(trial: &mut Stepper<'_>, go: &Input, rate: Rate) -> Vec<(f32, State)> {
    (0..PATIENCE * rate.hz())
        .map(|_| {
            let before = trial.state.vec3(0);
            trial.step(go);
            ((trial.state.vec3(0) - before).level().length() / rate.dt(), trial.state)
        })
        .collect()
}

/// How high it comes with an input, and then another, if that is higher than before.
fn jump(trial: &mut Stepper<'_>, (first, then): &(Input, Input), rate: Rate, out: &mut Feel) {
    // Standing settles to the skin's distance first.
    (0..rate.hz()).for_each(|_| trial.step(&Input::default()));
    let floor = trial.state.vec3(0).z;
    let mut highest = 0.0;
    for tick in 0..PATIENCE * rate.hz() {
        trial.step(if tick == 0 { first } else { then });
        let height = trial.state.vec3(0).z - floor;
        highest = max(highest, height);
        if highest > 0.01 && height < 0.005 {
            if out.jump_m.is_none_or(|before| highest > before * ALIKE) {
                (out.jump_m, out.air_s) = (Some(highest), Some((tick + 1) as f32 * rate.dt()));
            }
            return;
        }
    }
}

const fn trial_rest() -> &'static Input {
    const REST: Input = Input::from_bits([0; velocitas_core::INPUT_LANES]);
    &REST
}

/// Across the circle, once the turn is steady: the extent of the last half of the time.
fn circle(trial: &mut Stepper<'_>, hard_over: &Input, rate: Rate) -> Option<f32> {
    let half = PATIENCE * rate.hz();
    (0..half).for_each(|_| trial.step(hard_over));
    let (mut least, mut most) = (f32::INFINITY, f32::NEG_INFINITY);
    for _ in 0..half {
        trial.step(hard_over);
        let x = trial.state.vec3(0).x;
        least = velocitas_core::min(least, x);
        most = max(most, x);
    }
    let across = most - least;
    (across.is_finite() && across > 0.0 && across < 300.0).then_some(across)
}
