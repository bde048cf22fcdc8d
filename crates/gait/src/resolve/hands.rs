//! What hands can give: a line for each thing said of them.

use velocitas_core::{Hands, InputKind};

use super::Resolver;
use crate::diagnostic::{Diagnostic, nearest};
use crate::syntax::{File, Habit, HabitOf, Quantity, Word};
use crate::unit::Dimension;

/// Turned faster than this in radians a second, a turn a tick at 128 Hz, nothing is ever noted.
const FASTEST: f64 = 128.0 * std::f64::consts::TAU;

impl Resolver {
    pub(super) fn hands(&mut self, file: &File) -> Hands {
        let mut hands = Hands::default();
        for habit in &file.hands {
            match &habit.what {
                HabitOf::Turn(most) => self.turn(habit, most, &mut hands),
                HabitOf::Apart(other) => self.apart(&habit.input, other, &mut hands),
            }
        }
        hands
    }

    fn turn(&mut self, habit: &Habit, most: &Quantity, hands: &mut Hands) {
        let Some(place) = self.input_named(&habit.input) else { return };
        if !matches!(self.inputs[place].kind, InputKind::Bearing { .. } | InputKind::Pitch { .. }) {
            let found = self.inputs[place].kind.name();
            self.error("kind", habit.input.span, format!("expected a bearing or a pitch to turn; found a {found}"));
        } else if most.dimension != Dimension::RATE {
            let message =
                format!("expected radians a second such as `30 1/s`, or `1700 deg/s`; found {}", most.dimension);
            self.error("unit", most.span, message);
        } else if !(most.value > 0.0 && most.value <= FASTEST) {
            let message = format!("expected more than 0 1/s and at most {FASTEST:.0} 1/s; found {} 1/s", most.value);
            self.error("range", most.span, message);
        } else if hands.turns.iter().any(|(known, _)| *known == place) {
            self.error(
                "limit",
                habit.name.span,
                format!("expected one `turn` of `{}`; found another", habit.input.text),
            );
        } else {
            hands.turns.push((place, most.value as f32));
        }
    }

    fn apart(&mut self, one: &Word, other: &Word, hands: &mut Hands) {
        let places = [self.input_named(one), self.input_named(other)];
        let [Some(a), Some(b)] = places else { return };
        for (place, word) in [(a, one), (b, other)] {
            if matches!(self.inputs[place].kind, InputKind::Bearing { .. } | InputKind::Pitch { .. }) {
                let message = format!("expected an input that is given or not; `{}` is always given", word.text);
                self.error("kind", word.span, message);
                return;
            }
        }
        if a == b {
            self.error("name", other.span, format!("expected another input than `{}`", one.text));
        } else {
            hands.apart.push([a, b]);
        }
    }

    fn input_named(&mut self, word: &Word) -> Option<usize> {
        let place = self.inputs.iter().position(|input| input.name == word.text);
        if place.is_none() {
            let message = format!("expected an input; found `{}`", word.text);
            let help = nearest(&word.text, self.inputs.iter().map(|input| input.name.as_str()));
            self.report(Diagnostic::error("name", word.span, message).maybe_help(help));
        }
        place
    }
}
