//! Body, looks and limits.

use velocitas_core::Body;

use super::Resolver;
use crate::diagnostic::{Diagnostic, Span, nearest};
use crate::syntax::File;
use crate::tree::{Look, Node, NodeKind, Type, Var};
use crate::unit::Dimension;

impl Resolver {
    pub(super) fn body(&mut self, file: &File) -> Body {
        let mut body = Body { radius: 0.35, height: 1.7, step: 0.3 };
        let mut seen = Vec::new();
        for (word, q) in &file.body {
            let (place, least, most) = match word.text.as_str() {
                "radius" => (&mut body.radius, 0.05, 20.0),
                "height" => (&mut body.height, 0.05, 50.0),
                "step" => (&mut body.step, 0.0, 5.0),
                other => {
                    let message = format!("expected radius, height or step; found `{other}`");
                    let help = nearest(other, ["radius", "height", "step"].into_iter());
                    self.report(Diagnostic::error("name", word.span, message).maybe_help(help));
                    continue;
                }
            };
            seen.push(word.text.as_str());
            if q.dimension != Dimension::LENGTH {
                self.error("unit", q.span, format!("expected a length such as `0.3 m`; found {}", q.dimension));
            } else if !(least..=most).contains(&q.value) {
                self.error("range", q.span, format!("expected {least} m to {most} m; found {} m", q.value));
            } else {
                *place = q.value as f32;
            }
        }
        let section = file.sections.iter().find(|s| s.text == "body");
        if let Some(section) = section {
            for missing in ["radius", "height", "step"].into_iter().filter(|m| !seen.contains(m)) {
                self.error("missing", section.span, format!("expected `{missing}` in `body`; it is missing"));
            }
        }
        body
    }

    pub(super) fn looks(&mut self, file: &File) -> Vec<Look> {
        let mut before = 0.0;
        let count = file.looks.len();
        let mut out = Vec::new();
        for (i, look) in file.looks.iter().enumerate() {
            match look.below {
                Some(q) if q.dimension != Dimension::SPEED => {
                    self.error("unit", q.span, format!("expected a speed such as `0.3 m/s`; found {}", q.dimension));
                }
                Some(q) if q.value <= before => {
                    self.error("range", q.span, "expected each look's speed to be above the one before");
                }
                None if i + 1 < count => {
                    self.error("range", look.name.span, "expected `above` for the last look only");
                }
                _ => {}
            }
            before = look.below.map_or(before, |q| q.value);
            out.push(Look { name: look.name.text.clone(), below: look.below.map(|q| q.value as f32) });
        }
        out
    }

    pub(super) fn limits(&mut self, file: &File) -> ([Node; 3], f32) {
        let zero = || Node { kind: NodeKind::Const(0.0), ty: Type::Number(Dimension::SPEED), span: Span::default() };
        let mut out = [None, None, None];
        let mut slack: Option<(f64, Span)> = None;
        let names = ["pace", "climb", "drop"];
        for limit in &file.limits {
            let Some(i) = names.iter().position(|n| *n == limit.name.text) else {
                let message = format!("expected pace, climb or drop; found `{}`", limit.name.text);
                let help = nearest(&limit.name.text, names.into_iter());
                self.report(Diagnostic::error("name", limit.name.span, message).maybe_help(help));
                continue;
            };
            let target = self.value(&limit.target);
            let wanted = if i == 0 { Type::Level(Dimension::SPEED) } else { Type::Number(Dimension::SPEED) };
            let component = match (&target.kind, i) {
                (NodeKind::Component(of, 0), 0) => matches!(of.kind, NodeKind::Read(Var::State(_))),
                (NodeKind::Component(of, 2), 1 | 2) => matches!(of.kind, NodeKind::Read(Var::State(_))),
                _ => false,
            };
            if target.ty != Type::Wrong && (!component || target.ty != wanted) {
                let form = if i == 0 { "`vel.xy`" } else { "`vel.z`" };
                self.error("limit", target.span, format!("expected the velocity's {form} for `{}`", names[i]));
            }
            let most = self.value(&limit.most);
            if !matches!(most.ty, Type::Number(Dimension::SPEED) | Type::Wrong) {
                let message = format!("expected a speed; found {}", most.ty.words());
                self.error("unit", most.span, message);
            }
            let constant = !most.any(&|n| {
                matches!(n.kind, NodeKind::Read(v) if !matches!(v, Var::Tune(_)))
                    || matches!(
                        n.kind,
                        NodeKind::Call(crate::builtin::Builtin::Ahead | crate::builtin::Builtin::Decay, _)
                    )
            });
            if !constant {
                let message = "expected tunables and numbers only; found something that changes from tick to tick";
                let why = "the guard must know the limit without simulating";
                self.report(Diagnostic::error("limit", most.span, message).why(why));
            }
            if let Some(q) = limit.slack {
                if !q.dimension.is_none() || !(0.0..=1.0).contains(&q.value) {
                    self.error("range", q.span, "expected a slack of 0 % to 100 %");
                }
                match slack {
                    Some((s, _)) if s != q.value => {
                        let message = "expected the same slack for all limits; found another";
                        self.error("limit", q.span, message);
                    }
                    _ => slack = Some((q.value, q.span)),
                }
            }
            if out[i].replace(most).is_some() {
                self.error("limit", limit.name.span, format!("expected one `{}`; found another", names[i]));
            }
        }
        let [pace, climb, drop] = out;
        if pace.is_none()
            && let Some(section) = file.sections.iter().find(|s| s.text == "limits")
        {
            let message = "expected `pace` in `limits`: how fast along the ground";
            self.report(Diagnostic::error("missing", section.span, message).help(
                "add `pace vel.xy at most … slack 4 %`; `climb vel.z` and `drop vel.z` are as much unless given",
            ));
        }
        let pace = pace.unwrap_or_else(zero);
        let climb = climb.unwrap_or_else(|| pace.clone());
        let drop = drop.unwrap_or_else(|| pace.clone());
        ([pace, climb, drop], slack.map_or(0.04, |(s, _)| s as f32))
    }
}
