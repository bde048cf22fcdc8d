//! What moves the hands of a member of the cast: a route, a script or a track, with presses at random and exercise on top.
//!
//! What they do in a frame is the same whether it comes from a keyboard, a route, a script or a track: a stick, eyes and an order that
//! any rule understands, and what the member's own rule asks for by name.

mod exercise;
mod random;
mod route;
mod script;
mod seen;
mod strokes;

pub use route::Waypoint;
pub use script::Script;
pub(crate) use seen::{Luck, Seen};
pub use strokes::{Given, Stroke, Strokes};

use exercise::Exercise;
use random::Random;
use route::Walk;
use velocitas_record::controls::Controls;
use velocitas_record::time::LabTime;

/// The hands of a member. Everything they do follows from what they see and from luck.
#[derive(Clone, Debug, Default)]
pub(crate) struct Hands {
    /// From when their clock counts: their program's start, or when the keyboard gave them back.
    begun: LabTime,
    walk: Walk,
    strokes: strokes::Playing,
    random: Random,
    exercise: Exercise,
}

impl Hands {
    /// Hands at their beginning.
    pub(crate) fn begin(now: LabTime) -> Self {
        Self { begun: now, ..Self::default() }
    }

    /// Leaves out the next place of a route.
    pub(crate) fn cut_corner(&mut self) {
        self.walk.cut_corner();
    }

    /// What they do in a frame, and when they began to. `luck` gives a share from 0 to 1 for each kind of question and number.
    pub(crate) fn controls(
        &mut self,
        script: &Script,
        seen: &Seen<'_>,
        luck: &dyn Fn(Luck, u64) -> f64,
    ) -> (Controls, LabTime) {
        let (mut controls, mut moved) = if script.strokes.all.is_empty() {
            let controls = self.walk.controls(&script.route, seen, |count| luck(Luck::Loose, count));
            (controls, self.walk.stood_until())
        } else {
            let (controls, since) = self.strokes.controls(&script.strokes, seen.now.minus(self.begun), seen.schema);
            (controls, self.begun.plus(since))
        };
        if let Some(often) = script.random {
            let since = self.random.play((often, self.begun), seen, script.leads(), luck, &mut controls);
            moved = moved.max(since);
        }
        if script.exercise {
            self.exercise.play(self.begun, seen, script, &mut controls);
        }
        (controls, moved)
    }
}
