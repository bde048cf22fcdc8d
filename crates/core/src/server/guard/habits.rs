//! What hands give, held against what the rule's author says that hands can give.
//!
//! Of people nobody is sure: there are faster mice, other pads, two who play together. So whatever comes of it is a note for whoever
//! looks into a matter, and never moves or refuses anything.

use super::docket::{Docket, Offence};
use crate::data::Input;
use crate::float::wrap_angle;
use crate::motion::Motion;
use crate::policy::Policy;
use crate::tick::{Rate, Tick};
use crate::verdict::{Evidence, Rule};

/// One owner's hands.
#[derive(Clone, Debug, Default)]
pub(in crate::server) struct Habits {
    last: Option<(Tick, Input)>,
    /// The fastest turn since a tick: of each second one is measured.
    fastest: Option<(Tick, Evidence)>,
    docket: Docket,
}

impl Habits {
    /// Looks at what a step reads, of which its owner told.
    pub(in crate::server) fn watch(
        &mut self,
        (motion, policy): (&dyn Motion, &Policy),
        rate: Rate,
        tick: Tick,
        read: &Input,
    ) {
        let (hands, inputs) = (motion.hands(), &motion.schema().input);
        // Who has given nothing yet looks nowhere.
        let has_begun = |(last, was): &(Tick, Input)| *last < tick && *was != Input::default();
        let last = self.last.replace((tick, *read)).filter(has_begun);
        if let Some((before, was)) = last {
            let seconds = tick.since(before) as f32 * rate.dt();
            for (field, most) in hands.turns.iter().map(|(place, most)| (&inputs[*place], most)) {
                let turned = wrap_angle(read.real(field.lane) - was.real(field.lane)).abs();
                // Both ends are rounded by half a step.
                let quantum = field.kind.quantiser().map_or(0.0, |q| q.step());
                let limit = most * seconds + quantum;
                let plain = Evidence::plain(Rule::Turn, (before, tick), turned, limit);
                let allowed = policy.allowed[Rule::Turn as usize];
                self.hold(Evidence { quantum, ..plain }.allowing(allowed), rate);
            }
        }
        for [one, other] in &hands.apart {
            if inputs[*one].is_given(read) && inputs[*other].is_given(read) {
                self.hold(Evidence::plain(Rule::Hands, (tick, tick), 1.0, 0.0), rate);
            }
        }
    }

    fn hold(&mut self, evidence: Evidence, rate: Rate) {
        if evidence.rule.is_measured() {
            let (since, fastest) = self.fastest.unwrap_or((evidence.to, evidence));
            let fastest = if evidence.share() > fastest.share() { evidence } else { fastest };
            let is_over = evidence.to.since(since) >= i64::from(rate.hz());
            self.fastest = (!is_over).then_some((since, fastest));
            if is_over {
                self.docket.measured(fastest);
            }
        }
        if evidence.is_exceeded() {
            self.docket.note(evidence.into(), rate);
        }
    }

    /// What was measured since it was last asked.
    pub(in crate::server) fn measures(&mut self) -> std::vec::Drain<'_, Evidence> {
        self.docket.measures()
    }

    /// What was noted since it was last asked.
    pub(in crate::server) fn notes(&mut self) -> std::vec::Drain<'_, Offence> {
        self.docket.notes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::altered::Altered;

    use crate::motion::Hands;
    use crate::walker::{Walker, input_lane};

    fn place(name: &str) -> usize {
        Walker::new().schema().input.iter().position(|f| f.name == name).expect("an input")
    }

    fn looking(bearing: f32) -> Input {
        let mut input = Input::default();
        input.set_real(input_lane::FACING, bearing);
        input
    }

    /// Whose look turns at most 10 rad/s.
    fn said() -> Altered {
        let (turns, apart) = (vec![(place("facing"), 10.0)], vec![[place("sprint"), place("hop")]]);
        Altered { hands: Hands { turns, apart }, ..Altered::named("said") }
    }

    /// What is noted of it at 60 Hz.
    fn noted(inputs: &[(u64, Input)]) -> Vec<Evidence> {
        let motion = said();
        let rate = Rate::new(60).expect("60 Hz");
        let mut habits = Habits::default();
        inputs.iter().for_each(|(tick, input)| habits.watch((&motion, &Policy::default()), rate, Tick(*tick), input));
        habits.notes().map(|offence| offence.evidence).collect()
    }

    #[test]
    fn a_turn_is_noted_where_it_is_faster_than_hands() {
        // 10 rad/s are 0.167 rad a tick.
        assert_eq!(noted(&[(1, looking(0.1)), (2, looking(0.26)), (3, looking(0.42))]), vec![]);
        let notes = noted(&[(1, looking(0.1)), (2, looking(0.4))]);
        assert_eq!((notes.len(), notes[0].rule, notes[0].from, notes[0].to), (1, Rule::Turn, Tick(1), Tick(2)));
        assert!((notes[0].measured - 0.3).abs() < 1e-6 && (notes[0].limit - 10.0 / 60.0).abs() < 0.01);
        // Before anything was given, nothing was looked at.
        assert_eq!(noted(&[(1, Input::default()), (2, looking(2.0))]), vec![]);
        // The same way over three ticks is slow enough, and across half a turn it is as short as it is.
        assert_eq!(noted(&[(1, looking(0.1)), (4, looking(0.55))]), vec![]);
        assert_eq!(noted(&[(1, looking(3.1)), (2, looking(-3.1))]), vec![]);
    }

    #[test]
    fn of_each_second_the_fastest_turn_is_measured() {
        let motion = said();
        let mut habits = Habits::default();
        for tick in 1..=122u64 {
            // A little in every tick, and more in the fortieth.
            let bearing = tick as f32 * 0.01 + if tick >= 40 { 0.1 } else { 0.0 };
            habits.watch((&motion, &Policy::default()), Rate::new(60).expect("60 Hz"), Tick(tick), &looking(bearing));
        }
        let measured: Vec<Evidence> = habits.measures().collect();
        assert_eq!(measured.len(), 1, "{measured:?}");
        assert!((measured[0].measured - 0.11).abs() < 1e-4 && measured[0].to == Tick(40), "{measured:?}");
    }

    #[test]
    fn what_is_never_given_together_is_noted_once_a_second() {
        let mut both = Input::default();
        both.set_flag(input_lane::SPRINT, true);
        let alone = both;
        both.set_int(input_lane::HOP, 1);
        assert_eq!(noted(&[(1, alone), (2, alone)]), vec![]);
        let notes = noted(&[(1, both), (2, both), (60, both), (61, both)]);
        assert_eq!(
            notes.iter().map(|n| (n.rule, n.to)).collect::<Vec<_>>(),
            [(Rule::Hands, Tick(1)), (Rule::Hands, Tick(61))]
        );
    }
}
