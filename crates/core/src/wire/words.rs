//! An owner's last words of an entity, as they were heard: later ones may be told against them.

use std::collections::VecDeque;

use super::rests::Spoken;
use crate::data::State;
use crate::tick::Tick;

/// Words kept. No later one rests on one of which so many were said since.
const KEPT: usize = 64;

/// The newest, by tick.
#[derive(Clone, Debug, Default)]
pub(crate) struct Words(VecDeque<Spoken>);

impl Words {
    /// Keeps one; the oldest goes.
    pub(crate) fn keep(&mut self, word: Spoken) {
        let at = self.0.iter().rposition(|other| other.tick <= word.tick).map_or(0, |at| at + 1);
        if at.checked_sub(1).is_some_and(|before| self.0[before].tick == word.tick) {
            return;
        }
        self.0.insert(at, word);
        if self.0.len() > KEPT {
            self.0.pop_front();
        }
    }

    /// That of a tick.
    pub(crate) fn of(&self, tick: Tick) -> Option<&Spoken> {
        self.0.iter().rev().find(|word| word.tick == tick)
    }

    /// Bytes they take.
    pub(crate) fn bytes(&self) -> usize {
        let state = |word: &Spoken| if word.state.is_some() { size_of::<State>() } else { 0 };
        self.0.iter().map(|word| size_of::<Spoken>() + state(word)).sum()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::data::Input;

    #[test]
    fn the_newest_are_kept_whatever_order_they_come_in() {
        let mut words = Words::default();
        let word = |tick| Spoken { tick: Tick(tick), input: Input::default(), state: None };
        for tick in [5, 3, 4, 5, 90] {
            words.keep(word(tick));
        }
        assert!([3, 4, 5, 90].iter().all(|tick| words.of(Tick(*tick)).is_some()));
        assert!(words.of(Tick(6)).is_none());
        (100..162).for_each(|tick| words.keep(word(tick)));
        assert_eq!([4, 5, 90, 100].map(|tick| words.of(Tick(tick)).is_some()), [false, true, true, true]);
        words.keep(word(1));
        assert!(words.of(Tick(1)).is_none(), "it is older than all that there is room for");
    }
}
