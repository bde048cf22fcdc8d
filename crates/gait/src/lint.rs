//! What units cannot see: values that change per tick instead of per second, presses used like held keys, velocities
//! set where a kick is meant, names that nobody uses.

use std::collections::BTreeSet;

use crate::builtin::Builtin;
use crate::diagnostic::{Diagnostic, Span};
use crate::syntax::Op;
use crate::tree::{Node, NodeKind, Step, Tree, Var, values};
use crate::types::Type;
use crate::unit::Dimension;

/// Everything worth a warning, and what is wrong across statements.
pub(crate) fn lint(tree: &Tree) -> Vec<Diagnostic> {
    let mut out = Vec::new();
    slides(tree, &tree.step, &mut out);
    steps(tree, &tree.step, (false, false), &mut out);
    values(&tree.step, &mut |value| presses(tree, value, &mut out));
    unused(tree, &mut out);
    out
}

/// One body moves through the ground: the first field, always with the same velocity.
fn slides(tree: &Tree, all: &[Step], out: &mut Vec<Diagnostic>) {
    let mut pairs = Vec::new();
    gather(all, &mut pairs);
    for &(position, velocity) in &pairs {
        if position != 0 {
            let f = &tree.state[position];
            let message = format!("expected the first point to be the one that slides; `{}` is another", f.name);
            out.push(Diagnostic::error("slide", f.span, message).help(format!("slide `{}`", tree.state[0].name)));
        } else if velocity != pairs[0].1 {
            let message = "expected every `slide` to use the same velocity; found another";
            out.push(Diagnostic::error("slide", tree.state[velocity].span, message));
        }
    }
}

fn gather(all: &[Step], pairs: &mut Vec<(usize, usize)>) {
    for step in all {
        match step {
            Step::Slide { position, velocity } => pairs.push((*position, *velocity)),
            Step::If { then, otherwise, .. } => {
                gather(then, pairs);
                gather(otherwise, pairs);
            }
            Step::Repeat { body, .. } => gather(body, pairs),
            _ => {}
        }
    }
}

/// Assignments that do the same in every tick, however long a tick is.
fn steps(tree: &Tree, all: &[Step], (pressed, once): (bool, bool), out: &mut Vec<Diagnostic>) {
    for step in all {
        match step {
            Step::Assign { field, from, ty, value, kick, span } => {
                // What a press does, it does once.
                let per_tick = Change { tree, field: *field, from: *from, span: *span }.of(value);
                out.extend(per_tick.filter(|_| !pressed && !once));
                let moves = tree.state[*field].ty() == Type::Vector(Dimension::SPEED);
                let set = !value.reads(Var::Dt);
                if pressed && moves && set && !kick && slid_with(&tree.step, *field) && *ty != Type::Wrong {
                    let message = "a velocity set by a press counts only half in its first tick";
                    out.push(
                        Diagnostic::warning("kick", *span, message)
                            .why("`slide` moves by the mean of the velocity before and after; what is set at once is meant from the tick's beginning, or jumps lose height at low tick rates")
                            .help("write `kick` before it"),
                    );
                }
            }
            Step::If { condition, then, otherwise } => {
                let by_press = condition.any(&|n| n.ty == Type::Press);
                // What its own condition asks for is no longer so afterwards: it happens once.
                let is_asked = |field: usize| condition.any(&|n| n.kind == NodeKind::Read(Var::State(field)));
                let ends = |step: &Step| matches!(step, Step::Assign { field, value, .. } if is_asked(*field) && !value.reads(Var::State(*field)));
                steps(tree, then, (pressed || by_press, once || then.iter().any(ends)), out);
                steps(tree, otherwise, (pressed, once), out);
            }
            Step::Repeat { body, .. } => steps(tree, body, (pressed, once), out),
            Step::Let { .. } | Step::Slide { .. } => {}
        }
    }
}

fn slid_with(all: &[Step], field: usize) -> bool {
    let mut pairs = Vec::new();
    gather(all, &mut pairs);
    pairs.iter().any(|p| p.1 == field)
}

/// A change of a field by a part of itself or by a constant.
struct Change<'a> {
    tree: &'a Tree,
    field: usize,
    from: u8,
    span: Span,
}

impl Change<'_> {
    /// Whether it reads just what is assigned to.
    fn is_itself(&self, node: &Node) -> bool {
        let read = |n: &Node| n.kind == NodeKind::Read(Var::State(self.field));
        match &node.kind {
            NodeKind::Component(of, from) => read(of) && *from == self.from,
            _ => read(node),
        }
    }

    /// Whether it is the same in every tick, and more than nothing.
    fn is_constant(node: &Node) -> bool {
        let changes = |n: &Node| match &n.kind {
            NodeKind::Read(v) => !matches!(v, Var::Tune(_)),
            NodeKind::Call(b, _) => matches!(b, Builtin::Decay | Builtin::Ahead),
            _ => false,
        };
        !node.any(&changes) && node.kind != NodeKind::Const(0.0)
    }

    fn of(&self, value: &Node) -> Option<Diagnostic> {
        let NodeKind::Binary(op, a, b) = &value.kind else { return None };
        let (itself, other) = if self.is_itself(a) { (a, b) } else { (b, a) };
        if !self.is_itself(itself) || !Self::is_constant(other) {
            return None;
        }
        if self.tree.state[self.field].shape == velocitas_core::Shape::Counter {
            return None;
        }
        let name = &self.tree.state[self.field].name;
        let why = "at 20 ticks a second it happens 20 times a second, at 128 ticks 128 times";
        let (message, help) = match op {
            Op::Mul | Op::Div => (
                format!("`{name}` changes by the same factor in every tick, whatever the tick's length"),
                "to fade by a rate per second, write `decay(…, rate)` with a rate such as `6 1/s`".to_owned(),
            ),
            Op::Add | Op::Sub => (
                format!("`{name}` changes by the same amount in every tick, whatever the tick's length"),
                "multiply an amount per second by `dt`".to_owned(),
            ),
            _ => return None,
        };
        Some(Diagnostic::warning("per-tick", self.span.to(value.span), message).why(why).help(help))
    }
}

/// A press as the condition of a value: it holds for a single tick.
fn presses(tree: &Tree, value: &Node, out: &mut Vec<Diagnostic>) {
    value.walk(&mut |node| {
        let NodeKind::If(condition, ..) = &node.kind else { return };
        condition.walk(&mut |n| {
            if let NodeKind::Read(Var::Input(i)) = n.kind
                && n.ty == Type::Press
            {
                let name = &tree.inputs[i].name;
                let message =
                    format!("`{name}` is a press and is true for one tick only; here it is used like a held key");
                out.push(
                    Diagnostic::warning("press", n.span, message)
                        .help(format!("declare `{name} held`, or act once: `if {name} {{ … }}`")),
                );
            }
        });
    });
}

fn unused(tree: &Tree, out: &mut Vec<Diagnostic>) {
    let mut read = BTreeSet::new();
    let mut note = |value: &Node| {
        value.walk(&mut |n| {
            if let NodeKind::Read(var) = n.kind {
                read.insert(var);
            }
        });
    };
    values(&tree.step, &mut note);
    tree.limits.nodes().for_each(&mut note);
    let mut assigned = Vec::new();
    written(&tree.step, &mut assigned);
    let mut say = |span: Span, message: String, help: &str| {
        out.push(Diagnostic::warning("unused", span, message).help(help));
    };
    for (i, input) in tree.inputs.iter().enumerate().filter(|(i, _)| !read.contains(&Var::Input(*i))) {
        let _ = i;
        let message = format!("the input `{}` is sent with every tick but never read", input.name);
        say(input.span, message, "use it in `step`, or take it out of the packet");
    }
    for (_, tune) in tree.tunes.iter().enumerate().filter(|(i, _)| !read.contains(&Var::Tune(*i))) {
        say(tune.span, format!("the tunable `{}` is never read", tune.name), "use it in `step` or `limits`");
    }
    for (_, named) in tree.lets.iter().enumerate().filter(|(i, _)| !read.contains(&Var::Let(*i))) {
        say(named.span, format!("`{}` is named but never read", named.name), "leave it out");
    }
    for (i, field) in tree.state.iter().enumerate().filter(|(_, f)| f.name != "grounded") {
        if !assigned.contains(&i) {
            let message = if i == 0 {
                format!("`{}` never changes: nothing moves", field.name)
            } else {
                format!("the state field `{}` is sent in every snapshot but never changes", field.name)
            };
            let help = if i == 0 { "write `slide pos, vel`" } else { "assign to it in `step`, or make it a tunable" };
            say(field.span, message, help);
        }
    }
}

fn written(all: &[Step], fields: &mut Vec<usize>) {
    for step in all {
        match step {
            Step::Assign { field, .. } => fields.push(*field),
            Step::Slide { position, velocity } => fields.extend([*position, *velocity]),
            Step::If { then, otherwise, .. } => {
                written(then, fields);
                written(otherwise, fields);
            }
            Step::Repeat { body, .. } => written(body, fields),
            Step::Let { .. } => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::{Severity, compile};

    /// What is said about a step of a rule whose fields are all used elsewhere.
    fn said(step: &str) -> Vec<&'static str> {
        let text = format!(
            "gait \"x\"\n\
             input {{ move stick\n hop press\n go held\n look bearing }}\n\
             state {{ pos point m\n vel vector m/s\n heat number\n spins counter\n facing bearing }}\n\
             tune {{ k 2\n rate 3 1/s\n leap 5 m/s }}\n\
             body {{ radius 0.3 m height 1.5 m step 0.3 m }}\n\
             step {{\n{step}\n\
               if hop and go {{ spins = spins + 1 }}\n heat = decay(heat + k * dt * rate, rate)\n facing = look\n\
               vel.xy = vel.xy + turn(move, facing) * (leap * rate) * dt\n slide pos, vel\n }}\n\
             limits {{ pace vel.xy at most leap }}"
        );
        let compiled = compile(&text);
        assert!(compiled.diagnostics.iter().all(|d| d.severity == Severity::Warning), "{:?}", compiled.diagnostics);
        compiled.diagnostics.iter().map(|d| d.code).collect()
    }

    #[test]
    fn what_is_meant_so_is_not_warned_about() {
        for step in [
            "",
            "vel = vel * (1 - rate * dt)",
            "vel = decay(vel, rate)",
            "vel.z = vel.z - 9.81 m/s^2 * dt",
            "heat = heat * mix(1, 0, rate * dt)",
            "heat = k * 2",
            "heat = heat + 0",
            "spins = spins + 2",
            "if hop { kick vel.z = leap }",
            "if go { vel.z = leap }",
            "if hop { kick vel.z = vel.z + leap }",
            "if hop { heat = heat + 1 }",
            "if hop { vel.z = leap * rate * dt }",
            "heat = if go then 1 else 2",
            "if hop { heat = if go then 1 else 2 }",
            // What its own condition asks for is over then.
            "if heat > 1 and not go { vel.z = vel.z * 0.5\n heat = 0 }",
        ] {
            assert_eq!(said(step), Vec::<&str>::new(), "{step}");
        }
    }

    #[test]
    fn what_depends_on_the_tick_rate_is() {
        for (step, code) in [
            ("vel = vel * 0.98", "per-tick"),
            ("vel = 0.98 * vel", "per-tick"),
            ("vel = vel / 1.1", "per-tick"),
            ("vel.xy = vel.xy * k", "per-tick"),
            ("vel.z = vel.z - 0.2 m/s", "per-tick"),
            ("heat = heat + k", "per-tick"),
            ("heat = heat * sqrt(k)", "per-tick"),
            ("if heat > 1 { vel.z = vel.z * 0.5 }", "per-tick"),
            ("if heat > 1 { vel.z = vel.z * 0.5\n heat = heat + dt * rate }", "per-tick"),
            ("if hop { vel.z = leap }", "kick"),
            ("if hop { vel.z = vel.z + leap }", "kick"),
            ("if go and hop { repeat 2 { vel.z = 2 * leap } }", "kick"),
            ("heat = if hop then 1 else 2", "press"),
            ("let x = k", "unused"),
        ] {
            assert_eq!(said(step), [code], "{step}");
        }
    }
}
