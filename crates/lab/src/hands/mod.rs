//! What moves the hands of a member of the cast: a route, a script or a track, with presses at random and exercise on top.

mod exercise;
mod random;
mod route;
mod strokes;

pub use route::Waypoint;
pub use strokes::{Given, Stroke, Strokes};

use std::sync::Arc;

use velocitas_core::{Bounds, Schema, State};

use crate::controls::Controls;
use crate::time::LabTime;
use exercise::Exercise;
use random::Random;
use route::Walk;

/// What the hands of a member do by themselves: one of a route, a script or nothing, and what comes on top.
#[derive(Clone, Debug, Default)]
pub struct Script {
    /// Places to walk to, round and round.
    pub route: Vec<Waypoint>,
    /// What to do by the clock: a script or a track.
    pub strokes: Arc<Strokes>,
    /// The file of the track, as the course names it.
    pub track: Option<String>,
    /// So often a second, on average, something is pressed, held, let go or turned at random.
    pub random: Option<f64>,
    /// Whether what nothing else moves is used now and then.
    pub exercise: bool,
}

impl Script {
    /// Whether the hands have anywhere to go: if not, random presses steer as well.
    fn leads(&self) -> bool {
        !self.route.is_empty() || !self.strokes.all.is_empty()
    }
}

/// What hands have before them.
#[derive(Clone, Copy)]
pub(crate) struct Seen<'a> {
    /// When.
    pub(crate) now: LabTime,
    /// Where the body believes itself to be.
    pub(crate) own: Option<&'a State>,
    /// What its rule reads.
    pub(crate) schema: &'a Schema,
    /// Where the world ends.
    pub(crate) bounds: Bounds,
}

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

/// What is asked of luck.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Luck {
    /// How late hands move after a wait.
    Loose = 0,
    /// When the next random thing is done.
    When = 1,
    /// To which input.
    Which = 2,
    /// How.
    How = 3,
    /// And how far.
    Far = 4,
}
