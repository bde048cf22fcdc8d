//! Somebody run on past its newest state by its rule.
//!
//! What only its owner is told stands at its start, and what it is pressed to do next nobody knows yet: its keys stay as they were.

use super::blend::BlendPlan;
use super::samples::{Sample, Shown};
use crate::data::{Input, State};
use crate::motion::checked_step;
use crate::session::Timeline;
use crate::tick::{Rate, Tick};

/// The ticks made past the newest state: the last two.
#[derive(Clone, Debug)]
pub(crate) struct Ahead {
    /// The state it went on from, by its tick.
    from: Tick,
    /// The newest made, and the state before it.
    newest: Tick,
    state: State,
    before: State,
}

/// No more ticks are made at once: nobody is run on for longer.
const MOST: i64 = 600;

impl Ahead {
    /// From a state on.
    fn of(sample: &Sample) -> Self {
        Self { from: sample.tick, newest: sample.tick, state: sample.state, before: sample.state }
    }

    /// Goes on from the newest state received until a moment lies before the newest tick made.
    pub(crate) fn reach(
        slot: &mut Option<Box<Self>>,
        (sample, kind): (&Sample, u8),
        input: &Input,
        moment: Shown,
        (timeline, rate): (&Timeline, Rate),
    ) {
        let ahead = match slot.take() {
            Some(ahead) if ahead.from == sample.tick => slot.insert(ahead),
            _ => slot.insert(Box::new(Self::of(sample))),
        };
        while ahead.newest <= moment.tick && ahead.newest.since(ahead.from) < MOST {
            let tick = ahead.newest.next();
            let known = timeline.at(tick);
            let rule = known.kinds.motion(kind);
            let input = rule.schema().held_on(input);
            let scene = known.scene(tick, rate.dt(), kind);
            ahead.before = ahead.state;
            // What comes out non-finite is not drawn: it stands.
            if let Ok(step) = checked_step(rule, &scene, &ahead.state, &input) {
                ahead.state = step.state;
            }
            ahead.newest = tick;
        }
    }

    /// The state at a moment past the one it went on from, if it was made.
    pub(crate) fn at(&self, plan: &BlendPlan, from: Tick, moment: Shown, rate: Rate) -> Option<State> {
        if self.from != from || self.newest != moment.tick.next() {
            return None;
        }
        Some(plan.blend(&self.before, &self.state, moment.fraction, rate.dt()))
    }
}
