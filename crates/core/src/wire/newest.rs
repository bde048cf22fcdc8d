//! The last of what was said or read, by tick: what comes later may rest on it.

use std::collections::VecDeque;

use crate::tick::Tick;

/// So many are kept on either side. Who writes rests on none of which it has sent so many since.
pub(crate) const KEPT: usize = 64;

/// Something that was told of a tick.
pub(crate) trait OfTick {
    fn tick(&self) -> Tick;
}

/// The newest [`KEPT`], one of a tick, whatever order they come in.
#[derive(Clone, Debug)]
pub(crate) struct Newest<T>(VecDeque<T>);

impl<T> Newest<T> {
    /// None.
    pub(crate) const fn new() -> Self {
        Self(VecDeque::new())
    }

    /// All of them, the oldest first.
    pub(crate) fn iter(&self) -> impl Iterator<Item = &T> {
        self.0.iter()
    }
}

impl<T: OfTick> Newest<T> {
    /// Keeps one, unless there is one of its tick; the oldest goes.
    pub(crate) fn keep(&mut self, it: T) {
        let at = self.0.iter().rposition(|other| other.tick() <= it.tick()).map_or(0, |at| at + 1);
        if at.checked_sub(1).is_some_and(|before| self.0[before].tick() == it.tick()) {
            return;
        }
        self.0.insert(at, it);
        if self.0.len() > KEPT {
            self.0.pop_front();
        }
    }

    /// That of a tick.
    pub(crate) fn of(&self, tick: Tick) -> Option<&T> {
        self.0.iter().rev().find(|it| it.tick() == tick)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    impl OfTick for Tick {
        fn tick(&self) -> Tick {
            *self
        }
    }

    #[test]
    fn the_newest_are_kept_whatever_order_they_come_in() {
        let mut newest = Newest::new();
        for tick in [5, 3, 4, 5, 90] {
            newest.keep(Tick(tick));
        }
        assert!([3, 4, 5, 90].iter().all(|tick| newest.of(Tick(*tick)).is_some()));
        assert!(newest.of(Tick(6)).is_none());
        (100..162).for_each(|tick| newest.keep(Tick(tick)));
        assert_eq!([4, 5, 90, 100].map(|tick| newest.of(Tick(tick)).is_some()), [false, true, true, true]);
        newest.keep(Tick(1));
        assert!(newest.of(Tick(1)).is_none(), "it is older than all that there is room for");
    }
}
