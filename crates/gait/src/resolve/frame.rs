//! Body and looks.

use velocitas_core::{Body, Look};

use super::Resolver;
use crate::diagnostic::{Diagnostic, nearest};
use crate::syntax::File;
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
}
