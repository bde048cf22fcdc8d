//! Values: what each name is, and which types go together.

use super::Resolver;
use crate::builtin::{BUILTINS, builtin_named};
use crate::diagnostic::{Diagnostic, Span, nearest};
use crate::gait::MOST_TOLD;
use crate::syntax::{Expr, ExprKind, Op, Word};
use crate::tree::{Node, NodeKind, Var};
use crate::types::Type;
use crate::unit::Dimension;

fn is_zero(e: &Expr) -> bool {
    matches!(&e.kind, ExprKind::Quantity(q) if q.value == 0.0 && !q.has_unit)
}

impl Resolver {
    pub(super) fn component(&mut self, of: Type, word: &Word) -> Option<(u8, Type)> {
        let d = match of {
            Type::Wrong => return None,
            Type::Vector(d) | Type::Level(d) => d,
            Type::Point => Dimension::LENGTH,
            Type::Stick => Dimension::NONE,
            _ => {
                self.error("type", word.span, format!("expected something with components; found {}", of.words()));
                return None;
            }
        };
        let three = of.width() == 3;
        match word.text.as_str() {
            "x" => Some((0, Type::Number(d))),
            "y" => Some((1, Type::Number(d))),
            "z" if three => Some((2, Type::Number(d))),
            "xy" if three => Some((0, Type::Level(d))),
            other => {
                let known = if three { "x, y, z or xy" } else { "x or y" };
                self.error("component", word.span, format!("expected {known}; found `{other}`"));
                None
            }
        }
    }

    fn wrong(span: Span) -> Node {
        Node { kind: NodeKind::Wrong, ty: Type::Wrong, span }
    }

    pub(super) fn value_for(&mut self, e: &Expr, ty: Type) -> Node {
        if is_zero(e) && matches!(ty, Type::Number(_)) {
            return Node { kind: NodeKind::Const(0.0), ty, span: e.span };
        }
        self.value(e)
    }

    pub(super) fn value(&mut self, e: &Expr) -> Node {
        let span = e.span;
        let made = |kind, ty| Node { kind, ty, span };
        match &e.kind {
            ExprKind::Wrong => Self::wrong(span),
            ExprKind::Quantity(q) if q.unclear => Self::wrong(span),
            ExprKind::Quantity(q) => made(NodeKind::Const(q.value as f32), Type::Number(q.dimension)),
            ExprKind::Truth(t) => made(NodeKind::Const(f32::from(u8::from(*t))), Type::Truth),
            ExprKind::Name(name) => self.read(name, span),
            ExprKind::Component(of, word) => self.part(of, word, span),
            ExprKind::Negative(inner) => {
                let inner = self.value(inner);
                let ty = match inner.ty {
                    Type::Number(_) | Type::Level(_) | Type::Vector(_) | Type::Wrong => inner.ty,
                    other => {
                        self.error("type", span, format!("expected a number or a vector; found {}", other.words()));
                        Type::Wrong
                    }
                };
                made(NodeKind::Negative(Box::new(inner)), ty)
            }
            ExprKind::Not(inner) => {
                let inner = self.condition(inner);
                made(NodeKind::Not(Box::new(inner)), Type::Truth)
            }
            ExprKind::Binary(op, a, b) => self.binary(*op, a, b, span),
            ExprKind::If(c, a, b) => self.choice(c, a, b, span),
            ExprKind::Call(name, arguments) => self.call(name, arguments, span),
        }
    }

    fn read(&mut self, name: &str, span: Span) -> Node {
        let found = if name == "dt" {
            Some((Var::Dt, Type::Number(Dimension::TIME)))
        } else if name == "contact" {
            Some((Var::Contact, Type::Vector(Dimension::NONE)))
        } else if let Some(id) = self.let_named(name) {
            Some((Var::Let(id), self.lets[id].ty))
        } else if let Some(i) = self.state.iter().position(|f| f.name == name) {
            Some((Var::State(i), self.state[i].ty()))
        } else if let Some(i) = self.inputs.iter().position(|f| f.name == name) {
            Some((Var::Input(i), self.inputs[i].ty()))
        } else {
            self.tunes.iter().position(|t| t.name == name).map(|i| {
                let t = &self.tunes[i];
                (Var::Tune(i), if t.unclear { Type::Wrong } else { Type::Number(t.dimension) })
            })
        };
        if let Some((var, ty)) = found {
            return Node { kind: NodeKind::Read(var), ty, span };
        }
        self.unknown(name, span);
        Self::wrong(span)
    }

    fn unknown(&mut self, name: &str, span: Span) {
        if name == "grounded" {
            // One cause, told once and where it lies: nothing slides.
            self.wants_slide.get_or_insert(span);
            return;
        }
        let visible = self.scope.iter().map(|&id| self.lets[id].name.as_str());
        let fields = self.state.iter().map(|f| f.name.as_str()).chain(self.inputs.iter().map(|f| f.name.as_str()));
        let tunes = self.tunes.iter().map(|t| t.name.as_str());
        let known: Vec<&str> = visible.chain(fields).chain(tunes).chain(["dt", "surface", "contact"]).collect();
        let help = match name {
            "delta" | "delta_time" | "deltaTime" | "frame_time" | "timestep" => {
                Some("the tick's length is `dt`".to_owned())
            }
            "time" | "now" | "tick" => {
                Some("a rule knows no clock; count time in a state field: `rest = rest + dt`".to_owned())
            }
            "rand" | "random" => Some("a rule knows no chance: every machine must come to the same result".to_owned()),
            _ if self.lets.iter().any(|l| l.name == name) => {
                Some(format!("`{name}` was named inside a block and is not seen outside it"))
            }
            // Beyond what anybody reads, a suggestion is not worth its search.
            _ if self.diagnostics.len() > 2 * MOST_TOLD => None,
            _ => nearest(name, known.into_iter()),
        };
        let message = format!("expected a name that is known here; found `{name}`");
        self.report(Diagnostic::error("name", span, message).maybe_help(help));
    }

    fn part(&mut self, of: &Expr, word: &Word, span: Span) -> Node {
        if matches!(&of.kind, ExprKind::Name(name) if name == "surface") {
            let (var, ty) = match word.text.as_str() {
                "grip" => (Var::Grip, Type::Number(Dimension::NONE)),
                "pace" => (Var::Pace, Type::Number(Dimension::NONE)),
                other => {
                    self.error(
                        "component",
                        word.span,
                        format!("expected surface.grip or surface.pace; found `{other}`"),
                    );
                    return Self::wrong(span);
                }
            };
            return Node { kind: NodeKind::Read(var), ty, span };
        }
        let of = self.value(of);
        if word.text == "given"
            && let NodeKind::Read(Var::Input(i)) = of.kind
            && of.ty == Type::Point
        {
            let from = self.inputs[i].kind.real_lanes() as u8;
            return Node { kind: NodeKind::Component(Box::new(of), from), ty: Type::Truth, span };
        }
        match self.component(of.ty, word) {
            Some((from, ty)) => Node { kind: NodeKind::Component(Box::new(of), from), ty, span },
            None => Self::wrong(span),
        }
    }

    fn binary(&mut self, op: Op, a: &Expr, b: &Expr, span: Span) -> Node {
        if matches!(op, Op::And | Op::Or) {
            let (a, b) = (self.condition(a), self.condition(b));
            return Node { kind: NodeKind::Binary(op, Box::new(a), Box::new(b)), ty: Type::Truth, span };
        }
        let (mut left, mut right) = (self.value(a), self.value(b));
        // A bare 0 fits every unit where the two must be alike.
        if !matches!(op, Op::Mul | Op::Div) {
            if is_zero(a) && matches!(right.ty, Type::Number(_)) {
                left.ty = right.ty;
            } else if is_zero(b) && matches!(left.ty, Type::Number(_)) {
                right.ty = left.ty;
            }
        }
        let ty = if left.ty == Type::Wrong || right.ty == Type::Wrong {
            Some(Type::Wrong)
        } else {
            match op {
                Op::Add | Op::Sub => sum(op, left.ty, right.ty),
                Op::Mul => product(left.ty, right.ty),
                Op::Div => quotient(left.ty, right.ty),
                _ => match (left.ty, right.ty) {
                    (Type::Number(x), Type::Number(y)) if x == y => Some(Type::Truth),
                    (x, y) if x.is_truth() && y.is_truth() && matches!(op, Op::Equal | Op::NotEqual) => {
                        Some(Type::Truth)
                    }
                    _ => None,
                },
            }
        };
        let Some(ty) = ty else {
            self.misfit(op, &left, &right, span);
            return Self::wrong(span);
        };
        Node { kind: NodeKind::Binary(op, Box::new(left), Box::new(right)), ty, span }
    }

    fn misfit(&mut self, op: Op, left: &Node, right: &Node, span: Span) {
        let (l, r) = (left.ty, right.ty);
        let shown = |ty: Type| match ty {
            Type::Number(d) if !d.is_none() => d.to_string(),
            Type::Level(d) | Type::Vector(d) if !d.is_none() => d.to_string(),
            other => other.words(),
        };
        let alike = matches!(
            op,
            Op::Add | Op::Sub | Op::Less | Op::LessEqual | Op::More | Op::MoreEqual | Op::Equal | Op::NotEqual
        );
        let help = match (l, r) {
            (Type::Stick, _) | (_, Type::Stick) => {
                Some("turn the stick first: `turn(stick, bearing)`, or take `.x` or `.y`".to_owned())
            }
            (Type::Press, _) | (_, Type::Press) | (Type::Truth, _) | (_, Type::Truth) => {
                Some("choose a value by it: `if … then … else …`".to_owned())
            }
            (Type::Number(unit), Type::Number(Dimension::NONE)) if alike && bare(right).is_some() => {
                bare(right).map(|x| format!("give the number its unit: `{x} {unit}`"))
            }
            (Type::Number(Dimension::NONE), Type::Number(unit)) if alike && bare(left).is_some() => {
                bare(left).map(|x| format!("give the number its unit: `{x} {unit}`"))
            }
            (Type::Number(a), Type::Number(b))
            | (Type::Level(a), Type::Level(b))
            | (Type::Vector(a), Type::Vector(b))
                if alike =>
            {
                by_time(a, b).or_else(|| Some("both sides must be of one unit".to_owned()))
            }
            (Type::Vector(_), Type::Level(_)) | (Type::Level(_), Type::Vector(_)) => {
                Some("take the level part of both: `.xy`".to_owned())
            }
            (Type::Vector(_) | Type::Level(_), Type::Vector(_) | Type::Level(_)) => {
                Some("for a product of vectors use `dot(a, b)` or `cross(a, b)`".to_owned())
            }
            (Type::Bearing, Type::Bearing) if matches!(op, Op::Add) => {
                Some("a bearing plus a bearing is none; add a number in radians".to_owned())
            }
            (Type::Bearing, _) | (_, Type::Bearing) => {
                Some("take the difference of two bearings, or `sin` and `cos`".to_owned())
            }
            (Type::Point, _) | (_, Type::Point) => Some("take the way between two points: `a - b`".to_owned()),
            (_, Type::Vector(_) | Type::Level(_)) if op == Op::Div => Some("divide by its `length(…)`".to_owned()),
            (Type::Vector(_) | Type::Level(_), _) if alike => Some("take its `length(…)` or a component".to_owned()),
            _ => None,
        };
        let message = format!("{} {} {}: these do not go together", shown(l), op.sign(), shown(r));
        self.report(Diagnostic::error("unit", span, message).maybe_help(help));
    }

    fn choice(&mut self, c: &Expr, a: &Expr, b: &Expr, span: Span) -> Node {
        let condition = self.condition(c);
        let (mut then, mut otherwise) = (self.value(a), self.value(b));
        if is_zero(a) && matches!(otherwise.ty, Type::Number(_)) {
            then.ty = otherwise.ty;
        } else if is_zero(b) && matches!(then.ty, Type::Number(_)) {
            otherwise.ty = then.ty;
        }
        let ty = match (then.ty, otherwise.ty) {
            (Type::Wrong, other) | (other, Type::Wrong) => other,
            (x, y) if x == y => x,
            (x, y) if x.is_truth() && y.is_truth() => Type::Truth,
            (x, y) => {
                let message = format!("expected both ways to give the same; found {} and {}", x.words(), y.words());
                self.error("type", span, message);
                Type::Wrong
            }
        };
        Node { kind: NodeKind::If(Box::new(condition), Box::new(then), Box::new(otherwise)), ty, span }
    }

    fn call(&mut self, name: &Word, arguments: &[Expr], span: Span) -> Node {
        let nodes: Vec<Node> = arguments.iter().map(|a| self.value(a)).collect();
        let Some(spec) = builtin_named(&name.text) else {
            let help = match name.text.as_str() {
                "lerp" => Some("write `mix(a, b, t)`".to_owned()),
                "normalize" | "normalized" | "normalise" => Some("write `unit(v)`".to_owned()),
                "magnitude" | "norm" | "len" => Some("write `length(v)`".to_owned()),
                "rotate" => Some("write `turn(v, angle)`".to_owned()),
                "pow" => Some("write the product: `x * x`".to_owned()),
                "rand" | "random" => {
                    Some("a rule knows no chance: every machine must come to the same result".to_owned())
                }
                other => nearest(other, BUILTINS.iter().map(|b| b.name)),
            };
            let message = format!("expected a function of the language; found `{}`", name.text);
            self.report(Diagnostic::error("name", name.span, message).maybe_help(help));
            return Self::wrong(span);
        };
        if !spec.builtin.arity().contains(&nodes.len()) {
            let message = format!("expected {}({}); found {} arguments", spec.name, spec.takes, nodes.len());
            self.error("arguments", span, message);
            return Self::wrong(span);
        }
        let mut types: Vec<Type> = nodes.iter().map(|n| n.ty).collect();
        // Where it does not fit as it is, a bare 0 takes the unit of its neighbours.
        let as_they_are = spec.builtin.result(&types).ok();
        let unit =
            types.iter().zip(arguments).find(|(t, e)| matches!(t, Type::Number(_)) && !is_zero(e)).map(|(t, _)| *t);
        for (t, e) in types.iter_mut().zip(arguments).filter(|_| as_they_are.is_none()) {
            if let (true, Some(unit)) = (is_zero(e), unit) {
                *t = unit;
            }
        }
        match as_they_are.map_or_else(|| spec.builtin.result(&types), Ok) {
            Ok(ty) => Node { kind: NodeKind::Call(spec.builtin, nodes), ty, span },
            Err(misfit) => {
                let at = misfit.argument.unwrap_or(0);
                let found = types[at].words();
                let message = format!("{}({}): expected {}; found {found}", spec.name, spec.takes, misfit.expected);
                let help = match (types[at], misfit.expected.as_str()) {
                    (Type::Number(d), _) if d == Dimension::ACCELERATION && spec.name == "toward" => {
                        Some("multiply by `dt`: how much it may change in one tick".to_owned())
                    }
                    (Type::Stick, _) => Some("turn the stick first: `turn(stick, bearing)`".to_owned()),
                    (Type::Vector(_), "a level vector, such as `vel.xy`") => {
                        Some("take its level part: `.xy`".to_owned())
                    }
                    _ => None,
                };
                self.report(Diagnostic::error("unit", nodes[at].span, message).maybe_help(help));
                Self::wrong(span)
            }
        }
    }
}

/// A number that is written without a unit.
fn bare(node: &Node) -> Option<f32> {
    if let NodeKind::Const(x) = node.kind { Some(x) } else { None }
}

/// What to multiply by so that `found` becomes `wanted`, where that is the tick's length.
pub(super) fn by_time(wanted: Dimension, found: Dimension) -> Option<String> {
    let bare = |d: Dimension| if d.is_none() { "a bare number".to_owned() } else { d.to_string() };
    if wanted == found.times(Dimension::TIME) {
        Some(format!("multiply by dt? {} times `dt` is {wanted}", bare(found)))
    } else if wanted.times(Dimension::TIME) == found {
        Some(format!("divide by dt? {found} over `dt` is {}; or leave `dt` out", bare(wanted)))
    } else {
        None
    }
}

fn sum(op: Op, a: Type, b: Type) -> Option<Type> {
    match (a, b) {
        (Type::Number(x), Type::Number(y)) if x == y => Some(a),
        (Type::Level(x), Type::Level(y)) if x == y => Some(a),
        (Type::Vector(x), Type::Vector(y)) if x == y => Some(a),
        (Type::Point, Type::Vector(Dimension::LENGTH)) => Some(Type::Point),
        (Type::Vector(Dimension::LENGTH), Type::Point) if op == Op::Add => Some(Type::Point),
        (Type::Point, Type::Point) if op == Op::Sub => Some(Type::Vector(Dimension::LENGTH)),
        (Type::Bearing, Type::Number(Dimension::NONE)) => Some(Type::Bearing),
        (Type::Bearing, Type::Bearing) if op == Op::Sub => Some(Type::Number(Dimension::NONE)),
        _ => None,
    }
}

fn product(a: Type, b: Type) -> Option<Type> {
    match (a, b) {
        (Type::Number(x), Type::Number(y)) => Some(Type::Number(x.times(y))),
        (Type::Number(x), Type::Level(y)) | (Type::Level(y), Type::Number(x)) => Some(Type::Level(x.times(y))),
        (Type::Number(x), Type::Vector(y)) | (Type::Vector(y), Type::Number(x)) => Some(Type::Vector(x.times(y))),
        _ => None,
    }
}

fn quotient(a: Type, b: Type) -> Option<Type> {
    match (a, b) {
        (Type::Number(x), Type::Number(y)) => Some(Type::Number(x.per(y))),
        (Type::Level(x), Type::Number(y)) => Some(Type::Level(x.per(y))),
        (Type::Vector(x), Type::Number(y)) => Some(Type::Vector(x.per(y))),
        _ => None,
    }
}
