//! The wall between owner and server.
//!
//! What an owner decides (an input marked `owned`) the server takes as it is. It may say where the owner looks; it may
//! not say where the owner is or how fast. So an owned value may reach a position or a velocity only
//!
//! 1. as a bearing, since a direction has no size, or
//! 2. through `clamp`, `shorten`, `unit`, `sin`, `cos`, `sign` or a comparison, which bound it,
//!
//! and the way it took is named otherwise. Values are followed through `let` and through state, across ticks.

use crate::builtin::Builtin;
use crate::diagnostic::{Diagnostic, Span};
use crate::tree::{Node, NodeKind, Step, Tree, Var};
use crate::types::Type;

/// The names that a value came through, from the input on.
type Way = Vec<String>;

struct Trust<'a> {
    tree: &'a Tree,
    /// Ways that unbounded values took into fields and lets.
    state: Vec<Option<Way>>,
    lets: Vec<Option<Way>>,
    found: Vec<(Span, Way)>,
    changed: bool,
}

/// Every place where an unbounded value reaches a position or a velocity.
pub(crate) fn check(tree: &Tree) -> Vec<Diagnostic> {
    let mut trust = Trust {
        tree,
        state: vec![None; tree.state.len()],
        lets: vec![None; tree.lets.len()],
        found: Vec::new(),
        changed: true,
    };
    // A field once reached stays so: at most as many rounds as there are fields and lets.
    while trust.changed {
        trust.changed = false;
        trust.found.clear();
        trust.steps(&tree.step);
    }
    trust.found.iter().map(|(span, way)| told(*span, way)).collect()
}

fn told(span: Span, way: &Way) -> Diagnostic {
    let input = way.first().map_or("?", String::as_str);
    let message = format!("the owner decides `{input}`, and it reaches {}", way.join(" \u{2192} "));
    Diagnostic::error("trust", span, message)
        .why("whoever may send a position or a speed will send one that no rule allows")
        .help(format!("bound it on the way, such as `clamp({input}, low, high)`, or take it as a bearing"))
}

impl Trust<'_> {
    fn steps(&mut self, steps: &[Step]) {
        for step in steps {
            match step {
                Step::Let { id, value } => {
                    if let (None, Some(way)) = (&self.lets[*id], self.way(value)) {
                        self.lets[*id] = Some(longer(&way, &self.tree.lets[*id].name));
                        self.changed = true;
                    }
                }
                Step::Assign { field, value, span, .. } => {
                    let Some(way) = self.way(value) else { continue };
                    let info = &self.tree.state[*field];
                    let way = longer(&way, &info.name);
                    if matches!(info.ty(), Type::Point | Type::Vector(_)) {
                        self.found.push((*span, way.clone()));
                    }
                    if self.state[*field].is_none() {
                        self.state[*field] = Some(way);
                        self.changed = true;
                    }
                }
                Step::If { then, otherwise, .. } => {
                    self.steps(then);
                    self.steps(otherwise);
                }
                Step::Repeat { body, .. } => self.steps(body),
                Step::Slide { .. } => {}
            }
        }
    }

    /// The way an unbounded value took into this one, if there is one.
    fn way(&self, node: &Node) -> Option<Way> {
        if node.ty == Type::Bearing || node.ty.is_truth() {
            return None;
        }
        match &node.kind {
            NodeKind::Read(Var::Input(i)) => {
                self.tree.inputs[*i].owned.then(|| vec![self.tree.inputs[*i].name.clone()])
            }
            NodeKind::Read(Var::State(i)) => self.state[*i].clone(),
            NodeKind::Read(Var::Let(i)) => self.lets[*i].clone(),
            NodeKind::Read(_) | NodeKind::Const(_) | NodeKind::Wrong | NodeKind::Not(_) => None,
            NodeKind::Component(of, _) | NodeKind::Negative(of) => self.way(of),
            NodeKind::Binary(_, a, b) | NodeKind::If(_, a, b) => self.way(a).or_else(|| self.way(b)),
            NodeKind::Call(builtin, arguments) => {
                let first = |n: usize| arguments.get(n).and_then(|a| self.way(a));
                match builtin {
                    // What is turned keeps its size; a bound is only as good as the values that bound it.
                    Builtin::Clamp => first(1).or_else(|| first(2)),
                    Builtin::Shorten => first(1),
                    Builtin::Unit | Builtin::Sin | Builtin::Cos | Builtin::Sign | Builtin::Heading | Builtin::Ahead => {
                        None
                    }
                    // A stick is a disc even when its owner decides it.
                    Builtin::Turn if arguments[0].ty == Type::Stick => None,
                    _ => arguments.iter().find_map(|a| self.way(a)),
                }
            }
        }
    }
}

fn longer(way: &Way, name: &str) -> Way {
    let mut way = way.clone();
    if way.last().is_none_or(|last| last != name) {
        way.push(name.to_owned());
    }
    way
}

#[cfg(test)]
mod tests {
    use crate::compile;

    /// Whether a step may do this with an input `push` that its owner decides.
    fn trusted(step: &str) -> bool {
        let text = format!(
            "gait \"x\"\n\
             input {{ push axis owned\n aim point owned\n look bearing owned\n tilt pitch owned\n move stick owned\n free axis }}\n\
             state {{ pos point m\n vel vector m/s\n kept number\n facing bearing }}\n\
             body {{ radius 0.3 m height 1.5 m step 0.3 m }}\n\
             step {{ let v = 2 m/s\n{step}\n slide pos, vel }}\n\
             limits {{ pace vel.xy at most 5 m/s }}"
        );
        let compiled = compile(&text);
        let errors: Vec<_> =
            compiled.diagnostics.iter().filter(|d| d.severity == crate::Severity::Error).map(|d| d.code).collect();
        assert!(errors.iter().all(|code| *code == "trust"), "{step}: {:?}", compiled.diagnostics);
        errors.is_empty()
    }

    #[test]
    fn an_owned_value_passes_the_wall_as_a_direction_or_bounded() {
        for step in [
            "vel.x = v * free",
            "facing = look\n vel.xy = heading(facing) * v",
            "vel.xy = turn(move, look) * v",
            "vel.x = v * clamp(push, -1, 1)",
            "vel.x = v * sin(tilt)",
            "vel.x = if push > 0.5 then v else 0",
            "vel.xy = unit((aim - pos).xy) * v",
            "vel.xy = shorten((aim - pos).xy / 1 s, v)",
            "kept = push",
            "kept = clamp(push, 0, 1)\n vel.x = v * kept",
            "vel.x = v * sign(push)",
            "vel.x = v * cos(wrap(push))",
        ] {
            assert!(trusted(step), "{step}");
        }
    }

    #[test]
    fn an_owned_size_does_not_whichever_way_it_takes() {
        for step in [
            "vel.x = v * push",
            "vel.x = v + 1 m/s * push",
            "let fast = v * push\n vel.x = fast",
            "if free > 0 { vel.z = v * push }",
            "vel.x = if free > 0 then v else v * push",
            "vel.x = max(v * push, 0)",
            "vel.x = clamp(v, -v, v * push)",
            "vel.xy = shorten(vec(v, v), v * push)",
            "vel.xy = turn(vec(v * push, v), look)",
            "vel.xy = toward(vel.xy, vec(v, v) * push, v)",
            "pos = aim",
            "pos = mix(pos, aim, 0.1)",
            "vel.x = v * kept\n kept = kept + push",
            "repeat 2 { vel.x = v * kept }\n if push > 0 { kept = push }",
            "vel.x = length(aim - pos) / 1 s",
        ] {
            assert!(!trusted(step), "{step}");
        }
    }
}
