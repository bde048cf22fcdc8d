//! What is lawful: a line for each limit.
//!
//! The guard of positions judges without inputs and without a step: a limit may depend on tunables, and on those fields that owners
//! tell with where they are.

use velocitas_core::{LIMITS, Shape};

use super::Resolver;
use crate::diagnostic::{Diagnostic, Span, nearest};
use crate::interval::is_followed;
use crate::limit_kinds::{Kind, Of, PACES, kinds, limit_names};
use crate::syntax::{File, Limit};
use crate::tree::{Limits, Node, NodeKind, Var};
use crate::types::Type;
use crate::unit::Dimension;

/// What was read so far.
#[derive(Default)]
struct Found {
    paces: [Option<Node>; 3],
    burst: Option<[Node; 2]>,
    singles: [Option<Node>; LIMITS.len()],
    gains: Vec<(usize, Node)>,
    slack: Option<f64>,
}

impl Resolver {
    pub(super) fn limits(&mut self, file: &File) -> Limits {
        let (mut found, kinds) = (Found::default(), kinds());
        for limit in &file.limits {
            let Some(i) = kinds.iter().position(|kind| kind.name == limit.name.text) else {
                let message = format!("expected {}; found `{}`", limit_names(), limit.name.text);
                let help = nearest(&limit.name.text, kinds.iter().map(|kind| kind.name));
                self.report(Diagnostic::error("name", limit.name.span, message).maybe_help(help));
                continue;
            };
            self.limit(&kinds[i], i, limit, &mut found);
        }
        if found.paces[0].is_none()
            && let Some(section) = file.sections.iter().find(|s| s.text == "limits")
        {
            let message = "expected `pace` in `limits`: how fast along the ground";
            self.report(Diagnostic::error("missing", section.span, message).help(
                "add `pace vel.xy at most … slack 4 %`; `climb vel.z` and `drop vel.z` are as much unless given",
            ));
        }
        let zero = || Node { kind: NodeKind::Const(0.0), ty: Type::Number(Dimension::SPEED), span: Span::default() };
        let [pace, climb, drop] = found.paces;
        let pace = pace.unwrap_or_else(zero);
        let climb = climb.unwrap_or_else(|| pace.clone());
        let drop = drop.unwrap_or_else(|| pace.clone());
        Limits {
            paces: [pace, climb, drop],
            burst: found.burst,
            singles: found.singles,
            gains: found.gains,
            slack: found.slack.map_or(0.04, |s| s as f32),
        }
    }

    fn limit(&mut self, kind: &Kind, i: usize, limit: &Limit, found: &mut Found) {
        match (kind.least, limit.least) {
            (true, None) => {
                self.error(
                    "limit",
                    limit.name.span,
                    "expected `at least`: who has nothing under the feet falls no slower",
                );
            }
            (false, Some(span)) => {
                self.error("limit", span, format!("expected `at most` for `{}`; found `at least`", kind.name));
            }
            _ => {}
        }
        let (dimension, field) = self.limited(kind, limit);
        let most = self.bound(&limit.most, dimension, i < found.paces.len() && limit.burst.is_none());
        let burst = limit.burst.as_ref().map(|burst| self.bound(burst, Some(Dimension::LENGTH), false));
        if let (Some(burst), false) = (&burst, kind.name == "pace") {
            self.error("limit", burst.span, "expected `burst` for `pace` only");
        }
        self.slack(limit, found);
        let twice = match (kind.name, burst, field) {
            ("pace", Some(burst), _) => found.burst.replace([most, burst]).is_some(),
            ("gain", _, Some(field)) => {
                let twice = found.gains.iter().any(|(known, _)| *known == field);
                found.gains.push((field, most));
                twice
            }
            ("gain", ..) => false,
            _ if i < found.paces.len() => found.paces[i].replace(most).is_some(),
            _ => found.singles[i - PACES.len()].replace(most).is_some(),
        };
        if twice {
            self.error("limit", limit.name.span, format!("expected one `{}`; found another", kind.name));
        }
    }

    /// What the limit is of: the dimension of the limit, and which field.
    fn limited(&mut self, kind: &Kind, limit: &Limit) -> (Option<Dimension>, Option<usize>) {
        let target = self.value(&limit.target);
        let is_velocity = |node: &Node| matches!(node.kind, NodeKind::Read(Var::State(_)));
        let (fits, form) = match (&target.kind, kind.of) {
            (NodeKind::Component(of, 0), Of::Level) => {
                (is_velocity(of) && target.ty == Type::Level(Dimension::SPEED), "the velocity's `vel.xy`")
            }
            (NodeKind::Component(of, 2), Of::Height) => {
                (is_velocity(of) && target.ty == Type::Number(Dimension::SPEED), "the velocity's `vel.z`")
            }
            (NodeKind::Read(Var::State(_)), Of::Field) => (matches!(target.ty, Type::Number(_)), "a remembered number"),
            (_, Of::Level) => (false, "the velocity's `vel.xy`"),
            (_, Of::Height) => (false, "the velocity's `vel.z`"),
            (_, Of::Field) => (false, "a remembered number"),
        };
        if !fits {
            if target.ty != Type::Wrong {
                self.error("limit", target.span, format!("expected {form} for `{}`", kind.name));
            }
            return (None, None);
        }
        match (target.kind, target.ty, kind.of) {
            (NodeKind::Read(Var::State(field)), Type::Number(of), Of::Field) => {
                (Some(of.times(kind.dimension)), Some(field))
            }
            _ => (Some(kind.dimension), None),
        }
    }

    /// The value of a limit; `varies` where it may be another in another state.
    fn bound(&mut self, value: &crate::syntax::Expr, dimension: Option<Dimension>, varies: bool) -> Node {
        let node = self.value(value);
        match (node.ty, dimension) {
            (Type::Wrong, _) | (_, None) => {}
            (Type::Number(found), Some(wanted)) if found == wanted => {}
            (found, Some(Dimension::SPEED)) => {
                self.error("unit", node.span, format!("expected a speed; found {}", found.words()));
            }
            (found, Some(wanted)) => {
                let message = format!("expected {}; found {}", Type::Number(wanted).words(), found.words());
                self.error("unit", node.span, message);
            }
        }
        self.is_known(&node, varies);
        node
    }

    /// Whether a guard can know the value of a limit.
    fn is_known(&mut self, node: &Node, varies: bool) {
        let reads = |of: fn(&Var) -> bool| node.any(&|n| matches!(&n.kind, NodeKind::Read(var) if of(var)));
        let changes = reads(|var| matches!(var, Var::State(_) | Var::Grip | Var::Pace));
        let mut wrong: Option<(Span, String, &'static str)> = None;
        let mut say = |span: Span, what: String, why: &'static str| {
            wrong.get_or_insert((span, what, why));
        };
        node.walk(&mut |n| match &n.kind {
            NodeKind::Read(Var::Tune(_)) => {}
            NodeKind::Read(Var::Grip | Var::Pace) if varies => {}
            NodeKind::Read(Var::Grip | Var::Pace) => say(
                n.span,
                "tunables and numbers only; found what is underfoot, which changes from tick to tick".to_owned(),
                "only `pace`, `climb` and `drop` may be another on another surface",
            ),
            NodeKind::Read(Var::State(i)) if !varies => say(
                n.span,
                format!("tunables and numbers only; found `{}`, which changes from tick to tick", self.state[*i].name),
                "only `pace`, `climb` and `drop` may be another in another state",
            ),
            NodeKind::Read(Var::State(i)) => {
                if matches!(self.state[*i].shape, Shape::Point | Shape::Vector) {
                    say(
                        n.span,
                        format!("numbers, flags and bearings; found `{}`", self.state[*i].name),
                        "where it is and how fast is what the guard judges: a limit on them cannot depend on them",
                    );
                }
            }
            NodeKind::Read(Var::Input(i)) => say(
                n.span,
                format!("tunables and what is remembered; found the input `{}`", self.inputs[*i].name),
                "who says where it is does not say what it pressed: keep what the guard is to know in `state`",
            ),
            NodeKind::Read(_) => say(
                n.span,
                "tunables and what is remembered; found something that only the step knows".to_owned(),
                "the guard must know the limit without simulating",
            ),
            _ => {}
        });
        node.walk(&mut |n| {
            if !is_followed(n, changes) {
                wrong.get_or_insert_with(|| {
                    let message =
                        "arithmetic on numbers, comparisons, `if`, clamp, min, max, mix, abs, sign, sqrt, sin and cos";
                    let why = "the guard must know the limit without simulating, in every state that is possible";
                    (n.span, message.to_owned(), why)
                });
            }
        });
        if let Some((span, message, why)) = wrong {
            self.report(Diagnostic::error("limit", span, format!("expected {message}")).why(why));
        }
    }

    fn slack(&mut self, limit: &Limit, found: &mut Found) {
        let Some(q) = limit.slack else { return };
        if !q.dimension.is_none() || !(0.0..=1.0).contains(&q.value) {
            self.error("range", q.span, "expected a slack of 0 % to 100 %");
        }
        match found.slack {
            Some(s) if s != q.value => {
                self.error("limit", q.span, "expected the same slack for all limits; found another");
            }
            _ => found.slack = Some(q.value),
        }
    }
}
