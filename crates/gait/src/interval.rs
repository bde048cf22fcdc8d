//! Between what and what a value lies when some of what it is made of is known within bounds only.
//!
//! Interval arithmetic (R. E. Moore, *Interval Analysis*, 1966), with the operations of the machine: whatever values within the bounds
//! are given to it, the machine's result lies within the result here. A guard that knows a state of a while ago, or rounded, knows by
//! this what a limit can be at most.

use velocitas_core::Underfoot;

use crate::arithmetic as calc;
use crate::builtin::Builtin;
use crate::syntax::Op;
use crate::tree::{Node, NodeKind, Var};
use crate::types::Type;

/// From the least to the greatest, both included.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Interval {
    pub(crate) low: f32,
    pub(crate) high: f32,
}

/// What is known.
pub(crate) struct Known<'a> {
    pub(crate) tunables: &'a [f32],
    /// Those of which nothing else is said.
    pub(crate) defaults: &'a [f32],
    pub(crate) field: &'a dyn Fn(usize) -> Interval,
    /// What may be underfoot.
    pub(crate) underfoot: &'a Underfoot,
}

impl Interval {
    pub(crate) const ANYTHING: Self = Self { low: f32::NEG_INFINITY, high: f32::INFINITY };
    const EITHER: Self = Self { low: 0.0, high: 1.0 };

    pub(crate) const fn of(x: f32) -> Self {
        Self { low: x, high: x }
    }

    const fn between([low, high]: [f32; 2]) -> Self {
        Self { low, high }
    }

    /// What is no number may be anything.
    const fn new(low: f32, high: f32) -> Self {
        if low <= high { Self { low, high } } else { Self::ANYTHING }
    }

    /// Of the values at all corners.
    fn around(corners: impl IntoIterator<Item = f32>) -> Self {
        let mut all = Self { low: f32::INFINITY, high: f32::NEG_INFINITY };
        for corner in corners {
            if corner.is_nan() {
                return Self::ANYTHING;
            }
            all = Self { low: velocitas_core::min(all.low, corner), high: velocitas_core::max(all.high, corner) };
        }
        Self::new(all.low, all.high)
    }

    const fn is(self, x: f32) -> bool {
        self.low == x && self.high == x
    }

    const fn holds(self, x: f32) -> bool {
        self.low <= x && x <= self.high
    }

    /// Whether as a condition it is false, true, or either.
    const fn truth(self) -> Option<bool> {
        if self.is(0.0) {
            Some(false)
        } else if self.holds(0.0) {
            None
        } else {
            Some(true)
        }
    }
}

/// A condition of which this much is known.
fn truth(known: Option<bool>) -> Interval {
    known.map_or(Interval::EITHER, |t| Interval::of(calc::truth(t)))
}

/// Whether intervals follow a value: where nothing depends on a state everything is followed, since the machine itself calculates it.
pub(crate) fn is_followed(node: &Node, varies: bool) -> bool {
    match &node.kind {
        NodeKind::Call(Builtin::Ahead | Builtin::Decay, _) => false,
        _ if !varies => true,
        NodeKind::Call(builtin, _) => follows(*builtin) && node.ty.width() == 1,
        _ => node.ty.width() == 1 || matches!(node.kind, NodeKind::Read(_)),
    }
}

const fn follows(builtin: Builtin) -> bool {
    matches!(
        builtin,
        Builtin::Clamp
            | Builtin::Min
            | Builtin::Max
            | Builtin::Mix
            | Builtin::Abs
            | Builtin::Sign
            | Builtin::Sqrt
            | Builtin::Sin
            | Builtin::Cos
    )
}

/// Between what a value lies.
pub(crate) fn interval(node: &Node, known: &Known<'_>) -> Interval {
    let of = |n: &Node| interval(n, known);
    match &node.kind {
        NodeKind::Const(x) => Interval::of(*x),
        NodeKind::Read(Var::Tune(i)) => {
            known.tunables.get(*i).or(known.defaults.get(*i)).map_or(Interval::ANYTHING, |x| Interval::of(*x))
        }
        NodeKind::Read(Var::State(i)) => (known.field)(*i),
        NodeKind::Read(Var::Grip) => Interval::between(known.underfoot.grip),
        NodeKind::Read(Var::Pace) => Interval::between(known.underfoot.pace),
        NodeKind::Negative(a) => {
            let a = of(a);
            Interval::new(-a.high, -a.low)
        }
        NodeKind::Not(a) => truth(of(a).truth().map(|t| !t)),
        NodeKind::Binary(op, a, b) => binary(*op, of(a), of(b)),
        NodeKind::If(condition, then, otherwise) => match of(condition).truth() {
            Some(true) => of(then),
            Some(false) => of(otherwise),
            None => {
                let (a, b) = (of(then), of(otherwise));
                Interval::around([a.low, a.high, b.low, b.high])
            }
        },
        NodeKind::Call(builtin, arguments) => {
            // None of those that are followed takes more.
            let mut known = [Interval::ANYTHING; 3];
            known.iter_mut().zip(arguments).for_each(|(known, argument)| *known = of(argument));
            call(*builtin, &known[..arguments.len().min(3)], matches!(node.ty, Type::Number(_)))
        }
        NodeKind::Read(_) | NodeKind::Component(..) | NodeKind::Wrong => Interval::ANYTHING,
    }
}

fn binary(op: Op, a: Interval, b: Interval) -> Interval {
    let corners = || [(a.low, b.low), (a.low, b.high), (a.high, b.low), (a.high, b.high)];
    match op {
        Op::Add => Interval::new(a.low + b.low, a.high + b.high),
        Op::Sub => Interval::new(a.low - b.high, a.high - b.low),
        Op::Mul => Interval::around(corners().map(|(x, y)| x * y)),
        // By as little as one likes: any number, and that of a division by nothing.
        Op::Div if b.holds(0.0) && !b.is(0.0) => Interval::ANYTHING,
        Op::Div => Interval::around(corners().map(|(x, y)| calc::div(x, y))),
        Op::Less => truth(less(a, b)),
        Op::MoreEqual => truth(less(a, b).map(|t| !t)),
        Op::More => truth(less(b, a)),
        Op::LessEqual => truth(less(b, a).map(|t| !t)),
        Op::Equal => truth(equal(a, b)),
        Op::NotEqual => truth(equal(a, b).map(|t| !t)),
        Op::And => truth(match (a.truth(), b.truth()) {
            (Some(false), _) | (_, Some(false)) => Some(false),
            (Some(true), Some(true)) => Some(true),
            _ => None,
        }),
        Op::Or => truth(match (a.truth(), b.truth()) {
            (Some(true), _) | (_, Some(true)) => Some(true),
            (Some(false), Some(false)) => Some(false),
            _ => None,
        }),
    }
}

const fn less(a: Interval, b: Interval) -> Option<bool> {
    if a.high < b.low {
        Some(true)
    } else if a.low >= b.high {
        Some(false)
    } else {
        None
    }
}

const fn equal(a: Interval, b: Interval) -> Option<bool> {
    if a.high < b.low || b.high < a.low {
        Some(false)
    } else if a.low == a.high && b.is(a.low) {
        Some(true)
    } else {
        None
    }
}

fn call(builtin: Builtin, x: &[Interval], is_number: bool) -> Interval {
    // These grow with each of their arguments, or do not change.
    let growing = |f: &dyn Fn(&[f32]) -> f32| {
        let at = |end: fn(&Interval) -> f32| {
            let mut values = [0.0; 3];
            values.iter_mut().zip(x).for_each(|(value, x)| *value = end(x));
            f(&values)
        };
        Interval::new(at(|i| i.low), at(|i| i.high))
    };
    match (builtin, x) {
        // A value below a lower bound that lies above the upper one becomes the lower: then nothing grows.
        (Builtin::Clamp, [_, low, high]) if low.high > high.low => {
            Interval::around([low.low, low.high, high.low, high.high])
        }
        (Builtin::Clamp, [..]) => growing(&|a| velocitas_core::clamp(a[0], a[1], a[2])),
        (Builtin::Min, _) => growing(&|a| velocitas_core::min(a[0], a[1])),
        (Builtin::Max, _) => growing(&|a| velocitas_core::max(a[0], a[1])),
        (Builtin::Sign, _) => growing(&|a| calc::sign(a[0])),
        (Builtin::Sqrt, _) => growing(&|a| calc::sqrt(a[0])),
        (Builtin::Abs, [a]) => {
            let most = velocitas_core::max(calc::abs(a.low), calc::abs(a.high));
            let least = velocitas_core::min(calc::abs(a.low), calc::abs(a.high));
            Interval::new(if a.holds(0.0) { 0.0 } else { least }, most)
        }
        (Builtin::Mix, [a, b, t]) if is_number => {
            let share = |t: f32| velocitas_core::clamp(t, 0.0, 1.0);
            let ends = |t: f32| {
                let t = share(t);
                [(a.low, b.low), (a.low, b.high), (a.high, b.low), (a.high, b.high)]
                    .map(|(a, b)| velocitas_core::mix(a, b, t))
            };
            // Bilinear: the extremes lie at corners. Rounding aside: an eighth of a thousandth covers it.
            let all = Interval::around(ends(t.low).into_iter().chain(ends(t.high)));
            let most = velocitas_core::max(calc::abs(all.low), calc::abs(all.high)) * 1e-6;
            Interval::new(all.low - most, all.high + most)
        }
        (Builtin::Sin | Builtin::Cos, _) => Interval::new(-1.0, 1.0),
        _ => Interval::ANYTHING,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::diagnostic::Span;
    use crate::unit::Dimension;

    const FIELDS: usize = 3;

    fn made(kind: NodeKind) -> Node {
        Node { kind, ty: Type::Number(Dimension::NONE), span: Span::default() }
    }

    fn value() -> impl Strategy<Value = Node> {
        let leaf = prop_oneof![
            (-4.0f32..4.0).prop_map(|x| made(NodeKind::Const(x))),
            (0..FIELDS).prop_map(|i| made(NodeKind::Read(Var::State(i)))),
        ];
        leaf.prop_recursive(5, 40, 3, |inner| {
            let ops = prop::sample::select(vec![
                Op::Add,
                Op::Sub,
                Op::Mul,
                Op::Div,
                Op::Less,
                Op::LessEqual,
                Op::More,
                Op::MoreEqual,
                Op::Equal,
                Op::NotEqual,
                Op::And,
                Op::Or,
            ]);
            let calls = prop::sample::select(vec![
                Builtin::Clamp,
                Builtin::Min,
                Builtin::Max,
                Builtin::Mix,
                Builtin::Abs,
                Builtin::Sign,
                Builtin::Sqrt,
                Builtin::Sin,
                Builtin::Cos,
            ]);
            let three = prop::collection::vec(inner.clone(), 3);
            prop_oneof![
                (ops, inner.clone(), inner.clone()).prop_map(|(op, a, b)| made(NodeKind::Binary(
                    op,
                    Box::new(a),
                    Box::new(b)
                ))),
                inner.clone().prop_map(|a| made(NodeKind::Negative(Box::new(a)))),
                inner.prop_map(|a| made(NodeKind::Not(Box::new(a)))),
                three.clone().prop_map(|all| {
                    let [a, b, c] = <[Node; 3]>::try_from(all).expect("three").map(Box::new);
                    made(NodeKind::If(a, b, c))
                }),
                (calls, three).prop_map(|(builtin, mut all)| {
                    all.truncate(match builtin {
                        Builtin::Clamp | Builtin::Mix => 3,
                        Builtin::Min | Builtin::Max => 2,
                        _ => 1,
                    });
                    made(NodeKind::Call(builtin, all))
                }),
            ]
        })
    }

    /// What the machine makes of a value: the meaning of each operation, with fields known to the bit.
    fn exactly(node: &Node, fields: &[f32; FIELDS]) -> f32 {
        let of = |n: &Node| exactly(n, fields);
        match &node.kind {
            NodeKind::Const(x) => *x,
            NodeKind::Read(Var::State(i)) => fields[*i],
            NodeKind::Negative(a) => -of(a),
            NodeKind::Not(a) => calc::truth(of(a) == 0.0),
            NodeKind::Binary(op, a, b) => calc::binary(*op, of(a), of(b)),
            NodeKind::If(c, a, b) => {
                if of(c) == 0.0 {
                    of(b)
                } else {
                    of(a)
                }
            }
            NodeKind::Call(builtin, x) => {
                let x: Vec<f32> = x.iter().map(of).collect();
                match builtin {
                    Builtin::Clamp => velocitas_core::clamp(x[0], x[1], x[2]),
                    Builtin::Min => velocitas_core::min(x[0], x[1]),
                    Builtin::Max => velocitas_core::max(x[0], x[1]),
                    Builtin::Mix => velocitas_core::mix(x[0], x[1], velocitas_core::clamp(x[2], 0.0, 1.0)),
                    Builtin::Abs => calc::abs(x[0]),
                    Builtin::Sign => calc::sign(x[0]),
                    Builtin::Sqrt => calc::sqrt(x[0]),
                    Builtin::Sin => libm::sinf(x[0]),
                    _ => libm::cosf(x[0]),
                }
            }
            _ => unreachable!("no other is made"),
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4000, ..ProptestConfig::default() })]

        /// Whatever the fields are within what is known of them, the value lies within what is said of it.
        #[test]
        fn a_value_lies_within_its_interval(
            node in value(),
            at in prop::array::uniform3((-5.0f32..5.0, 0.0f32..2.0, 0.0f32..1.0)),
        ) {
            let within = |i: usize| Interval { low: at[i].0, high: at[i].0 + at[i].1 };
            let known = Known { tunables: &[], defaults: &[], field: &within, underfoot: &Underfoot::ANY };
            let said = interval(&node, &known);
            let fields = [0, 1, 2].map(|i: usize| velocitas_core::min(at[i].0 + at[i].1 * at[i].2, within(i).high));
            let value = exactly(&node, &fields);
            prop_assert!(value.is_nan() || said.holds(value), "{value} is not in {said:?}");
        }
    }
}
