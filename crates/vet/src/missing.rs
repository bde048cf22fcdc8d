//! Limits that a rule would need and does not declare: what owners who claim could do without any.

use velocitas_core::{Ground, Input, Motion, Rate, SeenBy, Shape, vec3};

use crate::{Stepper, defaults};

/// A limit that is not there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Missing {
    /// The line that would be needed.
    pub line: String,
    /// What an owner who claims can do without it.
    pub lets: String,
}

/// How high somebody is let go, and for how many ticks it is watched.
const HIGH: f32 = 50.0;
const WATCHED: usize = 30;

/// What a rule with gravity or breath declares no limit for. Of a rule that nothing pulls down no `fall` is asked.
pub fn missing(rule: &dyn Motion) -> Vec<Missing> {
    let limits = rule.limits(&defaults(rule));
    let mut all = Vec::new();
    if limits.fall.is_none() && is_pulled_down(rule) {
        all.push(Missing {
            line: "fall vel.z at least …".to_owned(),
            lets: "it may stay in the air, and rise there without end".to_owned(),
        });
    }
    for f in rule.schema().state.iter().filter(|f| f.shape == Shape::Number && f.seen_by == SeenBy::Owner) {
        if limits.gains[f.lane].is_infinite() {
            all.push(Missing {
                line: format!("gain {} at most …", f.name),
                lets: format!("its `{}` may be what its owner says it is", f.name),
            });
        }
    }
    all
}

/// Whether it falls that is let go in the air.
fn is_pulled_down(rule: &dyn Motion) -> bool {
    let (ground, tunables) = (Ground::flat(100.0), defaults(rule));
    let rate = Rate::new(60).unwrap_or_else(|| unreachable!("60 Hz is a rate"));
    let mut trial = Stepper::new(rule, &ground, &tunables, rate, rule.spawn(vec3(0.0, 0.0, HIGH), 0.0));
    (0..WATCHED).for_each(|_| trial.step(&Input::default()));
    trial.state.vec3(0).z < HIGH - 0.1
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(text: &str) -> Vec<String> {
        let rule = velocitas_gait::compile(text).gait.expect("it is sound");
        missing(&rule).into_iter().map(|one| one.line).collect()
    }

    #[test]
    fn what_falls_wants_to_be_held_down_and_what_does_not_is_not_asked() {
        let courier = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
        assert_eq!(lines(&courier), [""; 0]);
        let without = |word: &str| -> String {
            courier
                .lines()
                .filter(|line| !line.trim_start().starts_with(word))
                .map(|line| format!("{line}\n"))
                .collect()
        };
        assert_eq!(lines(&without("fall  vel.z")), ["fall vel.z at least …"]);
        assert_eq!(lines(&without("gain  breath")), ["gain breath at most …"]);
        assert_eq!(lines(include_str!("../../../docs/helm/glider.gait")), [""; 0], "it hangs in the air");
        assert_eq!(lines(include_str!("../../app/starter/walker.gait")), [""; 0], "the template is sound");
    }
}
