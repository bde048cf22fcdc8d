//! Statements: what may be assigned to, and with what.

use super::Resolver;
use super::values::by_time;
use crate::diagnostic::{Diagnostic, Span, nearest};
use crate::syntax::{Expr, ExprKind, Stmt, Word};
use crate::tree::{LetInfo, Node, NodeKind, Step};
use crate::types::Type;
use crate::unit::Dimension;

/// The most sub-steps of a `repeat`.
const MOST_REPEATS: f64 = 64.0;

impl Resolver {
    pub(super) fn statements(&mut self, statements: &[Stmt]) -> Vec<Step> {
        let seen = self.scope.len();
        let out = statements.iter().filter_map(|s| self.statement(s)).collect();
        self.leave(seen);
        out
    }

    fn statement(&mut self, statement: &Stmt) -> Option<Step> {
        match statement {
            Stmt::Let { name, value } => {
                let value = self.value(value);
                self.new_name(name);
                let id = self.lets.len();
                self.lets.push(LetInfo { name: name.text.clone(), span: name.span, ty: value.ty });
                self.enter(id);
                Some(Step::Let { id, value })
            }
            Stmt::Assign { kick, target, value } => self.assign(*kick, target, value),
            Stmt::If { condition, then, otherwise } => {
                let condition = self.condition(condition);
                let then = self.statements(then);
                let otherwise = self.statements(otherwise);
                Some(Step::If { condition, then, otherwise })
            }
            Stmt::Repeat { times, body, span } => {
                let n = times.value;
                if times.has_unit || n.fract() != 0.0 || !(1.0..=MOST_REPEATS).contains(&n) {
                    let message = format!("expected a whole number of sub-steps from 1 to {MOST_REPEATS}; found {n}");
                    let why = "each sub-step is a part of the tick; how many there are must be known beforehand";
                    self.report(Diagnostic::error("range", *span, message).why(why));
                }
                let body = self.statements(body);
                Some(Step::Repeat { times: n.clamp(1.0, MOST_REPEATS) as u32, body })
            }
            Stmt::Slide { position, velocity, span: _ } => {
                let position = self.field_of(position, Type::Point, "the point to move")?;
                let velocity = self.field_of(velocity, Type::Vector(Dimension::SPEED), "a velocity in m/s")?;
                Some(Step::Slide { position, velocity })
            }
        }
    }

    fn field_of(&mut self, word: &Word, ty: Type, what: &str) -> Option<usize> {
        let found = self.state.iter().position(|f| f.name == word.text);
        match found {
            Some(i) if self.state[i].ty() == ty => Some(i),
            Some(i) => {
                let found = self.state[i].ty().words();
                self.error("type", word.span, format!("expected {what}; `{}` is {found}", word.text));
                None
            }
            None => {
                let help = nearest(&word.text, self.state.iter().map(|f| f.name.as_str()));
                let message = format!("expected {what}, a state field; found `{}`", word.text);
                self.report(Diagnostic::error("name", word.span, message).maybe_help(help));
                None
            }
        }
    }

    pub(super) fn condition(&mut self, e: &Expr) -> Node {
        let node = self.value(e);
        if !node.ty.is_truth() {
            let help = match node.ty {
                Type::Number(_) => "compare it: `… > 0`".to_owned(),
                _ => "compare a length or a component".to_owned(),
            };
            let message = format!("expected true or false; found {}", node.ty.words());
            self.report(Diagnostic::error("type", node.span, message).help(help));
        }
        node
    }

    fn assign(&mut self, kick: Option<Span>, target: &Expr, value: &Expr) -> Option<Step> {
        let (name, component) = match &target.kind {
            ExprKind::Name(name) => (name, None),
            ExprKind::Component(of, component) => match &of.kind {
                ExprKind::Name(name) => (name, Some(component)),
                _ => {
                    self.error("assign", target.span, "expected a state field or one of its components");
                    return None;
                }
            },
            ExprKind::Wrong => return None,
            _ => {
                self.error("assign", target.span, "expected a state field or one of its components");
                return None;
            }
        };
        let Some(field) = self.state.iter().position(|f| f.name == *name) else {
            self.not_assignable(name, target.span);
            self.value(value);
            return None;
        };
        if self.slides && name == "grounded" {
            let message = "expected a field that the rule sets; `grounded` is set by `slide` alone";
            let help = "name a flag of your own in `state`, such as `afloat flag`";
            self.report(Diagnostic::error("name", target.span, message).help(help));
            return None;
        }
        let whole = self.state[field].ty();
        let (from, ty) = match component {
            None => (0, whole),
            Some(c) => self.component(whole, c)?,
        };
        if let Some(span) = kick
            && whole != Type::Vector(Dimension::SPEED)
        {
            let message = format!("expected a velocity after `kick`; `{name}` is {}", whole.words());
            self.report(Diagnostic::error("kick", span, message).help("leave `kick` out"));
        }
        let node = self.value_for(value, ty);
        if node.ty == Type::Wrong || ty == Type::Wrong {
            return None;
        }
        if node.ty != ty && !(ty == Type::Truth && node.ty.is_truth()) {
            self.mismatch(target, ty, &node, value);
            return None;
        }
        Some(Step::Assign { field, from, ty, value: node, kick: kick.is_some(), span: target.span })
    }

    fn not_assignable(&mut self, name: &str, span: Span) {
        let (message, help) = if self.tunes.iter().any(|t| t.name == name) {
            (
                format!("expected a state field; `{name}` is a tunable and cannot be assigned to"),
                "a tunable is a constant of the rule; to remember something, add a field to `state`".to_owned(),
            )
        } else if self.inputs.iter().any(|i| i.name == name) {
            (
                format!("expected a state field; `{name}` is an input and cannot be assigned to"),
                "an input is what the player gave; name what you make of it with `let`".to_owned(),
            )
        } else if self.let_named(name).is_some() {
            (
                format!("expected a state field; `{name}` was named with `let` and stays as it is"),
                format!("name the new value: `let {name}2 = …`, or use `if … then … else …`"),
            )
        } else {
            let known = nearest(name, self.state.iter().map(|f| f.name.as_str()));
            let message = format!("expected a state field; nothing is called `{name}`");
            (message, known.unwrap_or_else(|| format!("to name a value, write `let {name} = …`")))
        };
        self.report(Diagnostic::error("assign", span, message).help(help));
    }

    fn mismatch(&mut self, target: &Expr, ty: Type, node: &Node, value: &Expr) {
        let message = format!("expected {}; found {}", ty.words(), node.ty.words());
        let help = match (ty, node.ty) {
            (Type::Vector(a), Type::Level(b)) if a == b => Some("assign to its level part: `….xy = …`".to_owned()),
            (Type::Bearing, Type::Number(Dimension::NONE)) => Some("make it a bearing: `wrap(…)`".to_owned()),
            (Type::Level(_), Type::Stick) => Some("turn it first: `turn(stick, bearing)`".to_owned()),
            (Type::Number(unit), Type::Number(Dimension::NONE)) if let NodeKind::Const(x) = node.kind => {
                Some(format!("give the number its unit: `{x} {unit}`"))
            }
            (Type::Number(a), Type::Number(b))
            | (Type::Level(a), Type::Level(b))
            | (Type::Vector(a), Type::Vector(b)) => by_time(a, b),
            _ => None,
        };
        let span = if value.span == Span::default() { target.span } else { node.span };
        self.report(Diagnostic::error("unit", span, message).maybe_help(help));
    }
}
