//! What a machine knows of the world, and from which tick on.

use std::sync::{Arc, OnceLock};

use super::kinds::Kinds;
use crate::ground::Ground;
use crate::motion::{Limits, Scene};
use crate::tick::Tick;

/// The ground, the rules and their tunables, as one machine knows them.
#[derive(Clone, Debug)]
pub struct Ingredients {
    /// The world.
    pub ground: Arc<Ground>,
    /// The rules.
    pub kinds: Kinds,
    /// For each kind its tunables.
    pub tunables: Arc<[Vec<f32>]>,
}

impl Ingredients {
    /// This ground and every kind's default tunables.
    pub fn new(ground: Arc<Ground>, kinds: &Kinds) -> Self {
        Self { ground, kinds: kinds.clone(), tunables: kinds.defaults().into() }
    }

    /// What a step of `kind` looks at.
    pub fn scene(&self, tick: Tick, dt: f32, kind: u8) -> Scene<'_> {
        Scene { tick, dt, ground: &self.ground, tunables: &self.tunables[usize::from(kind)] }
    }

    /// What each kind can lawfully reach with its tunables.
    fn limits(&self) -> Vec<Limits> {
        self.kinds.iter().zip(&*self.tunables).map(|((_, rule), tunables)| rule.limits(tunables)).collect()
    }
}

/// What holds from a tick on.
#[derive(Clone, Debug)]
struct Change {
    from: Tick,
    known: Ingredients,
    /// The limits that follow from it, once somebody asked.
    limits: OnceLock<Vec<Limits>>,
}

impl Change {
    const fn new(from: Tick, known: Ingredients) -> Self {
        Self { from, known, limits: OnceLock::new() }
    }
}

/// What a machine knew, from which tick on: a replay of tick t uses what held at t.
#[derive(Clone, Debug)]
pub struct Timeline {
    changes: Vec<Change>,
}

/// Changes remembered; older ones are merged into the first. Replays reach back a few seconds at most.
const MOST_CHANGES: usize = 64;

impl Timeline {
    /// The same from the beginning of time.
    pub fn new(ingredients: Ingredients) -> Self {
        Self { changes: vec![Change::new(Tick(0), ingredients)] }
    }

    /// From `tick` on, this holds instead. What was to change at or after `tick` is forgotten.
    pub fn change(&mut self, tick: Tick, ingredients: Ingredients) {
        self.changes.retain(|change| change.from < tick || change.from == Tick(0) && tick > Tick(0));
        self.changes.push(Change::new(tick, ingredients));
        if self.changes.len() > MOST_CHANGES {
            self.changes.remove(0);
            self.changes[0].from = Tick(0);
        }
    }

    /// The tick of the last change agreed on; 0 if there was none.
    pub fn last_change(&self) -> Tick {
        self.changes[self.changes.len() - 1].from
    }

    /// What holds at `tick`.
    pub fn at(&self, tick: Tick) -> &Ingredients {
        &self.change_at(tick).known
    }

    /// Everything that held at one of these ticks, the newest first, each with the limits of a kind.
    pub(crate) fn between(&self, from: Tick, to: Tick, kind: u8) -> impl Iterator<Item = (&Ingredients, &Limits)> {
        let last = self.changes.iter().rposition(|change| change.from <= to).unwrap_or(0);
        let first = self.changes.iter().rposition(|change| change.from <= from).unwrap_or(0);
        let changes = self.changes[first.min(last)..=last].iter().rev();
        changes
            .map(move |change| (&change.known, &change.limits.get_or_init(|| change.known.limits())[usize::from(kind)]))
    }

    fn change_at(&self, tick: Tick) -> &Change {
        let index = self.changes.iter().rposition(|change| change.from <= tick).unwrap_or(0);
        &self.changes[index]
    }

    /// What holds last.
    pub fn latest(&self) -> &Ingredients {
        &self.changes[self.changes.len() - 1].known
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::altered::Altered;

    use crate::schema::{Schema, SchemaError};
    use crate::walker::Walker;

    fn kinds() -> Kinds {
        Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema")
    }

    /// Ingredients told apart by the size of their world.
    fn sized(half: f32) -> Ingredients {
        Ingredients::new(Arc::new(Ground::flat(half)), &kinds())
    }

    fn size_at(timeline: &Timeline, tick: u64) -> f32 {
        timeline.at(Tick(tick)).ground.bounds().max.0
    }

    #[test]
    fn a_replay_of_a_tick_finds_what_held_at_that_tick() {
        let mut timeline = Timeline::new(sized(1.0));
        timeline.change(Tick(10), sized(2.0));
        timeline.change(Tick(20), sized(3.0));
        let found: Vec<f32> = [0, 9, 10, 19, 20, 900].map(|tick| size_at(&timeline, tick)).to_vec();
        assert_eq!(found, [1.0, 1.0, 2.0, 2.0, 3.0, 3.0]);
    }

    #[test]
    fn a_change_replaces_what_was_to_change_later() {
        let mut timeline = Timeline::new(sized(1.0));
        timeline.change(Tick(20), sized(3.0));
        timeline.change(Tick(15), sized(2.0));
        assert_eq!((size_at(&timeline, 14), size_at(&timeline, 30)), (1.0, 2.0));
        timeline.change(Tick(0), sized(9.0));
        assert_eq!((size_at(&timeline, 0), size_at(&timeline, 30)), (9.0, 9.0));
    }

    #[test]
    fn many_changes_keep_the_recent_past_right() {
        let mut timeline = Timeline::new(sized(1.0));
        for i in 1..1000u16 {
            timeline.change(Tick(u64::from(i) * 2), sized(f32::from(i)));
        }
        for i in 960..1000u16 {
            assert_eq!(size_at(&timeline, u64::from(i) * 2 + 1), f32::from(i));
        }
        assert_eq!(timeline.latest().ground.bounds().max.0, 999.0);
    }

    #[test]
    fn a_rule_whose_schema_is_unsound_is_refused_by_name() {
        let nowhere = Altered { schema: Schema::default(), ..Altered::named("nowhere") };
        let refused = Kinds::new(vec![Arc::new(nowhere)]);
        assert_eq!(refused.map(|_| ()), Err(("nowhere", SchemaError::NoPosition)));
    }
}
