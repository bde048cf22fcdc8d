//! Calculating beforehand what is the same in every tick, with the very arithmetic of the machine.

use crate::arithmetic as calc;
use crate::builtin::Builtin;
use crate::syntax::Op;
use crate::tree::{Node, NodeKind, Step, Tree};

/// Folds constants everywhere.
pub(crate) fn fold(tree: Tree) -> Tree {
    let limits = tree.limits.map(node);
    Tree { step: steps(tree.step), limits, ..tree }
}

fn steps(all: Vec<Step>) -> Vec<Step> {
    let mut out = Vec::with_capacity(all.len());
    for step in all {
        match step {
            Step::Let { id, value } => out.push(Step::Let { id, value: node(value) }),
            Step::Assign { field, from, ty, value, kick, span } => {
                out.push(Step::Assign { field, from, ty, value: node(value), kick, span });
            }
            Step::If { condition, then, otherwise } => {
                let condition = node(condition);
                let (then, otherwise) = (steps(then), steps(otherwise));
                match condition.kind {
                    NodeKind::Const(c) => out.extend(if c == 0.0 { otherwise } else { then }),
                    _ => out.push(Step::If { condition, then, otherwise }),
                }
            }
            Step::Repeat { times, body } => out.push(Step::Repeat { times, body: steps(body) }),
            slide @ Step::Slide { .. } => out.push(slide),
        }
    }
    out
}

const fn constant(node: &Node) -> Option<f32> {
    match node.kind {
        NodeKind::Const(x) => Some(x),
        _ => None,
    }
}

fn node(n: Node) -> Node {
    let Node { kind, ty, span } = n;
    let made = |kind| Node { kind, ty, span };
    match kind {
        NodeKind::Negative(a) => {
            let a = Box::new(node(*a));
            made(constant(&a).map_or_else(|| NodeKind::Negative(a), |x| NodeKind::Const(-x)))
        }
        NodeKind::Not(a) => {
            let a = Box::new(node(*a));
            made(constant(&a).map_or_else(|| NodeKind::Not(a), |x| NodeKind::Const(calc::truth(x == 0.0))))
        }
        NodeKind::Component(a, from) => made(NodeKind::Component(Box::new(node(*a)), from)),
        NodeKind::Binary(op, a, b) => {
            let (a, b) = (Box::new(node(*a)), Box::new(node(*b)));
            match (op, constant(&a), constant(&b)) {
                (_, Some(x), Some(y)) => made(NodeKind::Const(calc::binary(op, x, y))),
                (Op::Mul, Some(1.0), _) => Node { ty, ..*b },
                (Op::Mul | Op::Div, _, Some(1.0)) => Node { ty, ..*a },
                _ => made(NodeKind::Binary(op, a, b)),
            }
        }
        NodeKind::If(c, a, b) => {
            let (c, a, b) = (Box::new(node(*c)), Box::new(node(*a)), Box::new(node(*b)));
            match constant(&c) {
                Some(0.0) => Node { ty, ..*b },
                Some(_) => Node { ty, ..*a },
                None => made(NodeKind::If(c, a, b)),
            }
        }
        NodeKind::Call(builtin, arguments) => {
            let arguments: Vec<Node> = arguments.into_iter().map(node).collect();
            let known: Option<Vec<f32>> = arguments.iter().map(constant).collect();
            match known.and_then(|x| call(builtin, &x)) {
                Some(x) => made(NodeKind::Const(x)),
                None => made(NodeKind::Call(builtin, arguments)),
            }
        }
        kind => made(kind),
    }
}

/// The value of a function of constant numbers, where it gives one number.
fn call(builtin: Builtin, x: &[f32]) -> Option<f32> {
    Some(match (builtin, x) {
        (Builtin::Clamp, [x, low, high]) => velocitas_core::clamp(*x, *low, *high),
        (Builtin::Min, [a, b]) => velocitas_core::min(*a, *b),
        (Builtin::Max, [a, b]) => velocitas_core::max(*a, *b),
        (Builtin::Abs, [x]) => calc::abs(*x),
        (Builtin::Sign, [x]) => calc::sign(*x),
        (Builtin::Sin, [x]) => libm::sinf(*x),
        (Builtin::Cos, [x]) => libm::cosf(*x),
        (Builtin::Sqrt, [x]) => calc::sqrt(*x),
        (Builtin::Wrap, [x]) => velocitas_core::wrap_angle(*x),
        _ => return None,
    })
}
