//! Somebody run on past its newest state by its rule.
//!
//! What only its owner is told stands at its start, and what it is pressed to do next nobody knows yet: its keys stay as they were.

use super::blend::BlendPlan;
use super::samples::{Sample, Shown};
use crate::data::{Input, State};
use crate::motion::{Motion, checked_step};
use crate::session::Timeline;
use crate::tick::{Rate, Tick};
use crate::vec3::Vec3;

/// The ticks made past the newest state: the last two.
#[derive(Clone, Debug)]
pub(crate) struct Ahead {
    /// The state it went on from, by its tick.
    from: Tick,
    /// Where that was told to be, and whether it is still there as far as places travel: then it stands, and rounding is not to be seen.
    told: Vec3,
    stands: bool,
    /// The newest made, and the state before it.
    newest: Tick,
    state: State,
    before: State,
}

/// No more ticks are made at once: nobody is run on for longer.
const MOST: i64 = 600;

impl Ahead {
    /// From a state on, of which only its owner is told all: what it does not say stands at its start.
    fn of(sample: &Sample, rule: &dyn Motion) -> Self {
        let mut state = sample.state;
        let start = rule.spawn(state.vec3(0), 0.0);
        rule.schema().keep_private(&mut state, &start);
        let told = state.vec3(0);
        Self { from: sample.tick, told, stands: true, newest: sample.tick, state, before: state }
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
            _ => slot.insert(Box::new(Self::of(sample, timeline.at(sample.tick).kinds.motion(kind)))),
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
            ahead.stands &= rule.schema().round_state(&ahead.state).vec3(0) == ahead.told;
        }
    }

    /// The state at a moment past the one it went on from, if it was made.
    pub(crate) fn at(&self, plan: &BlendPlan, from: Tick, moment: Shown, rate: Rate) -> Option<State> {
        if self.from != from || self.newest != moment.tick.next() {
            return None;
        }
        let mut state = plan.blend(&self.before, &self.state, moment.fraction, rate.dt());
        if self.stands {
            state.set_vec3(0, self.told);
        }
        Some(state)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::field::SeenBy;
    use crate::ground::Ground;
    use crate::session::{Ingredients, Kinds};
    use crate::vec3::vec3;
    use crate::walker::{Walker, input_lane, state_lane};

    #[test]
    fn what_only_its_owner_is_told_stands_at_its_start() {
        let walker = Walker::new();
        let mut rule = crate::altered::Altered::named("winded");
        // Whether it stands on something nobody else is told; at its start it does.
        let grounded = rule.schema.state.iter_mut().find(|field| field.lane == state_lane::GROUNDED);
        grounded.expect("a walker knows").seen_by = SeenBy::Owner;
        let kinds = Kinds::new(vec![Arc::new(rule)]).expect("a sound schema");
        let timeline = Timeline::new(Ingredients::new(Arc::new(Ground::flat(90.0)), &kinds));
        let rate = Rate::new(60).expect("60 Hz");
        let mut input = Input::default();
        input.set_real(input_lane::MOVE + 1, 1.0);
        let told = kinds.motion(0).schema().seen(&walker.spawn(vec3(0.0, 0.0, 0.0), 0.0));
        assert!(!told.flag(state_lane::GROUNDED), "nothing is told of it");
        let sample = Sample { tick: Tick(100), teleports: 0, state: told };
        let mut slot = None;
        let moment = Shown { tick: Tick(100), fraction: 1.0 };
        Ahead::reach(&mut slot, (&sample, 0), &input, moment, (&timeline, rate));
        let plan = BlendPlan::of(walker.schema());
        let made = slot.as_ref().and_then(|ahead| ahead.at(&plan, Tick(100), moment, rate)).expect("it was made");
        let known = timeline.at(Tick(101));
        let begin = walker.spawn(vec3(0.0, 0.0, 0.0), 0.0);
        let truth = walker.step(&known.scene(Tick(101), rate.dt(), 0), &begin, &input).state;
        assert_eq!(made.vec3(0), truth.vec3(0));
    }

    #[test]
    fn its_keys_stay_as_they_were_and_nothing_is_pressed_anew() {
        let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema");
        let timeline = Timeline::new(Ingredients::new(Arc::new(Ground::flat(90.0)), &kinds));
        let rate = Rate::new(60).expect("60 Hz");
        let (rule, mut input) = (Walker::new(), Input::default());
        input.set_real(input_lane::MOVE + 1, 1.0);
        input.set_int(input_lane::HOP, 1);
        let sample = Sample { tick: Tick(100), teleports: 0, state: rule.spawn(vec3(0.0, 0.0, 0.0), 0.0) };
        let plan = BlendPlan::of(rule.schema());
        let mut slot = None;
        let mut at = |tick, fraction| {
            let moment = Shown { tick: Tick(tick), fraction };
            Ahead::reach(&mut slot, (&sample, 0), &input, moment, (&timeline, rate));
            slot.as_ref().and_then(|ahead| ahead.at(&plan, Tick(100), moment, rate)).expect("it was made").vec3(0)
        };
        let places = [at(100, 0.5), at(115, 0.0), at(130, 0.0), at(130, 0.5)];
        assert!(places.windows(2).all(|w| w[0].x < w[1].x), "it walks on: {places:?}");
        assert!(places.iter().all(|place| place.z < 0.1), "and does not hop: {places:?}");
        // The same states as the rule makes one after the other.
        let mut state = sample.state;
        let known = timeline.at(Tick(101));
        for tick in 101..=130 {
            let held = rule.schema().held_on(&input);
            state = rule.step(&known.scene(Tick(tick), rate.dt(), 0), &state, &held).state;
        }
        assert_eq!(state.vec3(0), places[2]);
    }
}
