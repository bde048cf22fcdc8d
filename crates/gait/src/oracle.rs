//! The language a second time, slow and obvious: a walk over the resolved tree, with branches that are taken or not.
//! Random rules must come to the same bits here and in the machine.

use proptest::prelude::*;
use velocitas_core::{
    Ground, Input, Motion, STATE_LANES, Scene, State, Tick, canonical_bits, clamp, max, min, mix, mix_angle, wrap_angle,
};

use crate::arithmetic::{abs, binary, div, sign, sqrt, truth};
use crate::builtin::Builtin;
use crate::syntax::Op;
use crate::tree::{Node, NodeKind, Step, Var};
use crate::types::Type;

/// What names stand for.
struct Env {
    state: Vec<Vec<f32>>,
    inputs: Vec<Vec<f32>>,
    tunes: Vec<f32>,
    lets: Vec<Vec<f32>>,
    dt: f32,
}

impl Env {
    fn steps(&mut self, steps: &[Step]) {
        for step in steps {
            match step {
                Step::Let { id, value } => self.lets[*id] = self.value(value),
                Step::Assign { field, from, value, .. } => {
                    let value = self.value(value);
                    let from = usize::from(*from);
                    self.state[*field][from..from + value.len()].copy_from_slice(&value);
                }
                Step::If { condition, then, otherwise } => {
                    let taken = if self.value(condition)[0] == 0.0 { otherwise } else { then };
                    self.steps(taken);
                }
                Step::Repeat { times, body } => {
                    let dt = self.dt;
                    self.dt = div(dt, *times as f32);
                    (0..*times).for_each(|_| self.steps(body));
                    self.dt = dt;
                }
                Step::Slide { .. } => unreachable!("the rules made here do not slide"),
            }
        }
    }

    fn number(&self, node: &Node) -> f32 {
        self.value(node)[0]
    }

    fn value(&self, node: &Node) -> Vec<f32> {
        match &node.kind {
            NodeKind::Wrong => unreachable!("the rules made here are sound"),
            NodeKind::Const(x) => vec![*x],
            NodeKind::Read(var) => match *var {
                Var::State(i) => self.state[i].clone(),
                Var::Input(i) => self.inputs[i].clone(),
                Var::Tune(i) => vec![self.tunes[i]],
                Var::Let(i) => self.lets[i].clone(),
                Var::Dt => vec![self.dt],
                Var::Grip | Var::Pace => vec![1.0],
                Var::Contact => vec![0.0; 3],
            },
            NodeKind::Component(of, from) => {
                let from = usize::from(*from);
                self.value(of)[from..from + node.ty.width()].to_vec()
            }
            NodeKind::Negative(a) => self.value(a).iter().map(|x| -x).collect(),
            NodeKind::Not(a) => vec![truth(self.number(a) == 0.0)],
            NodeKind::If(c, a, b) => self.value(if self.number(c) == 0.0 { b } else { a }),
            NodeKind::Binary(op, a, b) => self.operator(*op, a, b),
            NodeKind::Call(builtin, arguments) => self.call(*builtin, arguments),
        }
    }

    fn operator(&self, op: Op, a: &Node, b: &Node) -> Vec<f32> {
        let bearing = a.ty == Type::Bearing || b.ty == Type::Bearing;
        let (a, b) = (self.value(a), self.value(b));
        let part = |v: &[f32], i: usize| if v.len() == 1 { v[0] } else { v[i] };
        let out = (0..a.len().max(b.len())).map(|i| binary(op, part(&a, i), part(&b, i)));
        out.map(|x| if bearing && matches!(op, Op::Add | Op::Sub) { wrap_angle(x) } else { x }).collect()
    }

    fn call(&self, builtin: Builtin, arguments: &[Node]) -> Vec<f32> {
        let v: Vec<Vec<f32>> = arguments.iter().map(|a| self.value(a)).collect();
        let bearing = arguments[0].ty == Type::Bearing;
        let x = |i: usize| v[i][0];
        let dot = |a: &[f32], b: &[f32]| {
            let mut sum = a[0] * b[0];
            for i in 1..a.len() {
                sum += a[i] * b[i];
            }
            sum
        };
        let scaled = |v: &[f32], k: f32| v.iter().map(|x| x * k).collect::<Vec<f32>>();
        match builtin {
            Builtin::Toward if bearing => {
                let gap = wrap_angle(x(1) - x(0));
                let near = abs(gap) <= x(2);
                vec![wrap_angle(if near { x(1) } else { x(0) + sign(gap) * max(x(2), 0.0) })]
            }
            Builtin::Toward => {
                let gap: Vec<f32> = v[1].iter().zip(&v[0]).map(|(to, from)| to - from).collect();
                let length = if gap.len() == 1 { abs(gap[0]) } else { libm::sqrtf(dot(&gap, &gap)) };
                if length <= x(2) {
                    return v[1].clone();
                }
                let share = if x(2) > 0.0 { x(2) / length } else { 0.0 };
                v[0].iter().zip(&gap).map(|(from, gap)| from + gap * share).collect()
            }
            Builtin::Decay => scaled(&v[0], libm::expf(-(max(x(1), 0.0) * self.dt))),
            Builtin::Clamp => vec![clamp(x(0), x(1), x(2))],
            Builtin::Shorten => {
                let length = sqrt(dot(&v[0], &v[0]));
                scaled(&v[0], if length > x(1) { div(max(x(1), 0.0), length) } else { 1.0 })
            }
            Builtin::Length => vec![sqrt(dot(&v[0], &v[0]))],
            Builtin::Unit => {
                let length = sqrt(dot(&v[0], &v[0]));
                v[0].iter().map(|x| div(*x, length)).collect()
            }
            Builtin::Dot => vec![dot(&v[0], &v[1])],
            Builtin::Cross if v[0].len() == 2 => vec![v[0][0] * v[1][1] - v[0][1] * v[1][0]],
            Builtin::Cross => {
                let (a, b) = (&v[0], &v[1]);
                vec![a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]
            }
            Builtin::Mix => {
                let t = clamp(x(2), 0.0, 1.0);
                let one = |(a, b): (&f32, &f32)| if bearing { mix_angle(*a, *b, t) } else { mix(*a, *b, t) };
                v[0].iter().zip(&v[1]).map(one).collect()
            }
            Builtin::Min => vec![min(x(0), x(1))],
            Builtin::Max => vec![max(x(0), x(1))],
            Builtin::Abs => vec![abs(x(0))],
            Builtin::Sign => vec![sign(x(0))],
            Builtin::Sin => vec![libm::sinf(x(0))],
            Builtin::Cos => vec![libm::cosf(x(0))],
            Builtin::Atan2 => vec![libm::atan2f(x(0), x(1))],
            Builtin::Sqrt => vec![sqrt(x(0))],
            Builtin::Wrap => vec![wrap_angle(x(0))],
            Builtin::Bearing => vec![libm::atan2f(v[0][1], v[0][0])],
            Builtin::Heading => vec![libm::cosf(x(0)), libm::sinf(x(0))],
            Builtin::Vec => v.concat(),
            Builtin::Turn => {
                let (sin, cos) = (libm::sinf(v[1][0]), libm::cosf(v[1][0]));
                let [a, b] = [v[0][0], v[0][1]];
                if arguments[0].ty != Type::Stick {
                    return vec![a * cos - b * sin, a * sin + b * cos];
                }
                let world = [b * cos + a * sin, b * sin - a * cos];
                let length = libm::sqrtf(dot(&world, &world));
                scaled(&world, if length > 1.0 { 1.0 / length } else { 1.0 })
            }
            Builtin::Ahead => unreachable!("the rules made here do not ask the ground"),
        }
    }
}

const HEAD: &str = "gait \"random\"\n\
    input { move stick\n push axis\n go held\n look bearing }\n\
    state { pos point m\n a number\n b number\n u vector\n w vector\n face bearing\n on flag\n vel vector m/s }\n\
    tune { k 2  from -9 to 9 }\n\
    body { radius 0.3 m height 1.5 m step 0.3 m }\n\
    limits { pace vel.xy at most 5 m/s }\n";

/// Numbers, level vectors, vectors, bearings and conditions made of each other.
fn numbers(depth: u32) -> BoxedStrategy<String> {
    let leaf = prop::sample::select(vec!["a", "b", "k", "push", "u.x", "w.z", "1", "-0.5", "3", "move.y", "0"])
        .prop_map(str::to_owned);
    if depth == 0 {
        return leaf.boxed();
    }
    let n = || numbers(depth - 1);
    prop_oneof![
        leaf,
        (n(), n(), prop::sample::select(vec!["+", "-", "*", "/"])).prop_map(|(a, b, op)| format!("({a} {op} {b})")),
        (n(), n(), prop::sample::select(vec!["min", "max"])).prop_map(|(a, b, f)| format!("{f}({a}, {b})")),
        (n(), prop::sample::select(vec!["abs", "sign", "sqrt", "sin", "cos"])).prop_map(|(a, f)| format!("{f}({a})")),
        (n(), n(), n(), prop::sample::select(vec!["clamp", "mix", "toward"]))
            .prop_map(|(a, b, c, f)| format!("{f}({a}, {b}, {c})")),
        (truths(depth - 1), n(), n()).prop_map(|(c, a, b)| format!("(if {c} then {a} else {b})")),
        (vectors(depth - 1), vectors(depth - 1)).prop_map(|(a, b)| format!("dot({a}, {b})")),
        (levels(depth - 1), levels(depth - 1)).prop_map(|(a, b)| format!("cross({a}, {b})")),
        vectors(depth - 1).prop_map(|a| format!("length({a})")),
        (bearings(depth - 1), bearings(depth - 1)).prop_map(|(a, b)| format!("({a} - {b})")),
        n().prop_map(|a| format!("decay({a}, 3 1/s)")),
    ]
    .boxed()
}

fn truths(depth: u32) -> BoxedStrategy<String> {
    let two = (numbers(depth), numbers(depth), prop::sample::select(vec!["<", "<=", ">", ">=", "==", "!="]));
    let compared = two.prop_map(|(a, b, op)| format!("{a} {op} {b}"));
    let leaf = prop::sample::select(vec!["go", "on", "true", "not on"]).prop_map(str::to_owned);
    let joined = (compared.clone(), leaf.clone(), prop::sample::select(vec!["and", "or"]));
    prop_oneof![leaf, compared, joined.prop_map(|(a, b, op)| format!("({a} {op} {b})"))].boxed()
}

fn levels(depth: u32) -> BoxedStrategy<String> {
    let leaf = prop::sample::select(vec!["u.xy", "w.xy", "turn(move, look)", "heading(face)", "vec(1, -2)"])
        .prop_map(str::to_owned);
    if depth == 0 {
        return leaf.boxed();
    }
    let l = || levels(depth - 1);
    prop_oneof![
        leaf,
        (l(), l()).prop_map(|(a, b)| format!("({a} - {b})")),
        (l(), numbers(depth - 1)).prop_map(|(a, b)| format!("({a} * {b})")),
        (l(), bearings(depth - 1)).prop_map(|(a, b)| format!("turn({a}, {b})")),
        (l(), l(), numbers(depth - 1)).prop_map(|(a, b, c)| format!("toward({a}, {b}, {c})")),
        (l(), numbers(depth - 1)).prop_map(|(a, b)| format!("shorten({a}, {b})")),
        l().prop_map(|a| format!("unit({a})")),
    ]
    .boxed()
}

fn vectors(depth: u32) -> BoxedStrategy<String> {
    let leaf = prop::sample::select(vec!["u", "w", "-u", "vec(1, 2, a)"]).prop_map(str::to_owned);
    if depth == 0 {
        return leaf.boxed();
    }
    let v = || vectors(depth - 1);
    prop_oneof![
        leaf,
        (v(), v(), prop::sample::select(vec!["+", "-"])).prop_map(|(a, b, op)| format!("({a} {op} {b})")),
        (v(), numbers(depth - 1)).prop_map(|(a, b)| format!("({a} / {b})")),
        (v(), v()).prop_map(|(a, b)| format!("cross({a}, {b})")),
        (v(), v(), numbers(depth - 1)).prop_map(|(a, b, t)| format!("mix({a}, {b}, {t})")),
        (v(), v(), numbers(depth - 1)).prop_map(|(a, b, t)| format!("toward({a}, {b}, {t})")),
        (truths(depth - 1), v(), v()).prop_map(|(c, a, b)| format!("(if {c} then {a} else {b})")),
    ]
    .boxed()
}

fn bearings(depth: u32) -> BoxedStrategy<String> {
    let leaf =
        prop::sample::select(vec!["face", "look", "wrap(a)", "bearing(u.xy)", "atan2(b, a)"]).prop_map(str::to_owned);
    if depth == 0 {
        return leaf.boxed();
    }
    let both = (bearings(depth - 1), bearings(depth - 1), numbers(depth - 1));
    prop_oneof![
        leaf,
        (bearings(depth - 1), numbers(depth - 1)).prop_map(|(a, b)| format!("({a} + {b})")),
        (both, prop::sample::select(vec!["toward", "mix"])).prop_map(|((a, b, t), f)| format!("{f}({a}, {b}, {t})")),
    ]
    .boxed()
}

fn statements(depth: u32) -> BoxedStrategy<String> {
    let simple = prop_oneof![
        numbers(2).prop_map(|x| format!("a = {x}\n")),
        numbers(2).prop_map(|x| format!("b = {x}\n")),
        numbers(1).prop_map(|x| format!("w.y = {x}\n")),
        vectors(2).prop_map(|x| format!("u = {x}\n")),
        levels(2).prop_map(|x| format!("w.xy = {x}\n")),
        bearings(1).prop_map(|x| format!("face = {x}\n")),
        truths(1).prop_map(|x| format!("on = {x}\n")),
        levels(1).prop_map(|x| format!("pos = pos + vec(({x}).x, ({x}).y, 0) * 1 m\n")),
    ];
    if depth == 0 {
        return simple.boxed();
    }
    let many = || prop::collection::vec(statements(depth - 1), 1..4).prop_map(|s| s.concat());
    prop_oneof![
        4 => simple,
        1 => (truths(1), many(), many()).prop_map(|(c, a, b)| format!("if {c} {{\n{a}}} else {{\n{b}}}\n")),
        1 => (truths(1), many()).prop_map(|(c, a)| format!("if {c} {{\n{a}}}\n")),
        1 => (1u32..4, many()).prop_map(|(n, a)| format!("repeat {n} {{\n{a}}}\n")),
    ]
    .boxed()
}

fn lanes(value: &[f32], flag: bool) -> Vec<u32> {
    value.iter().map(|x| if flag { u32::from(*x != 0.0) } else { canonical_bits(*x) }).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, max_shrink_iters: 2000, ..ProptestConfig::default() })]

    #[test]
    fn random_rules_come_to_the_same_bits_in_the_tree_and_in_the_machine(
        body in prop::collection::vec(statements(2), 1..8),
        reals in prop::collection::vec(-5.0f32..5.0, 16),
        go: bool,
    ) {
        let text = format!("{HEAD}step {{\n{}}}\n", body.concat());
        let compiled = crate::compile(&text);
        let Some(gait) = compiled.gait else {
            // Random rules may be too large, and nothing else.
            prop_assert!(compiled.diagnostics.iter().any(|d| d.code == "size" || d.code == "nesting"), "{text}\n{:?}", compiled.diagnostics);
            return Ok(());
        };
        let (tokens, _) = crate::lexer::lex(&text);
        let (tree, _) = crate::resolve::resolve(&crate::parser::parse(&text, &tokens).0);

        let (mut state, mut input) = (State::default(), Input::default());
        (0..11).for_each(|lane| state.set_real(lane, reals[lane]));
        state.set_real(11, clamp(reals[11], -3.0, 3.0));
        for lane in 0..3 {
            input.set_real(lane, clamp(reals[12 + lane] / 5.0, -1.0, 1.0));
        }
        input.set_flag(3, go);
        input.set_real(4, clamp(reals[15], -3.1, 3.1));

        let take = |lane: usize, width: usize| (lane..lane + width).map(|l| state.real(l)).collect::<Vec<f32>>();
        let mut env = Env {
            state: tree.state.iter().zip(&gait.schema().state).map(|(f, s)| take(s.lane, f.ty().width())).collect(),
            inputs: vec![vec![input.real(0), input.real(1)], vec![input.real(2)], vec![truth(go)], vec![input.real(4)]],
            tunes: vec![2.0],
            lets: vec![Vec::new(); tree.lets.len()],
            dt: 0.05,
        };
        env.steps(&tree.step);
        let mut expected = [0; STATE_LANES];
        for (value, f) in env.state.iter().zip(&gait.schema().state) {
            let bits = lanes(value, f.shape == velocitas_core::Shape::Flag);
            expected[f.lane..f.lane + bits.len()].copy_from_slice(&bits);
        }
        let ground = Ground::flat(5.0);
        let scene = Scene { tick: Tick(1), dt: 0.05, ground: &ground, tunables: &[2.0] };
        prop_assert_eq!(gait.step(&scene, &state, &input).state, State::from_bits(expected), "{}", text);
    }
}
