//! What machines knew of rules and ground, by what they had learned by then: worked out once, each from the one before.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

use super::cast::Cast;
use crate::ids::{MachineId, Part, RecordTick};
use crate::known::{Change, Known};

/// So many are kept at hand.
const MOST: usize = 4096;

/// By the part and the changes that reached it, in their order.
type All = BTreeMap<(Part, Vec<u32>), Arc<Known>>;

/// What was worked out so far. Who takes a copy of the record works it out anew.
#[derive(Default)]
pub(super) struct Learned(Mutex<All>);

impl Clone for Learned {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl fmt::Debug for Learned {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Learned").finish_non_exhaustive()
    }
}

impl Learned {
    /// Changes are others from here on.
    pub(super) fn forget(&mut self) {
        self.0.get_mut().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// What a part of a machine knew at a tick.
    pub(super) fn of(
        &self,
        (cast, changes): (&Cast, &[Change]),
        machine: MachineId,
        part: Part,
        tick: RecordTick,
    ) -> Arc<Known> {
        let reached = changes.iter().zip(0u32..).filter(|(c, _)| c.tick <= tick && c.reach.covers(machine));
        let reached: Vec<u32> = reached.map(|(_, place)| place).collect();
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let at = |n: usize| (part, reached[..n].to_vec());
        let known = (0..=reached.len()).rev().find_map(|n| Some((n, all.get(&at(n))?.clone())));
        let (begun, mut known) = known.unwrap_or_else(|| (0, Arc::new(cast.rules(part).clone())));
        for (n, place) in reached.iter().enumerate().skip(begun) {
            let mut next = (*known).clone();
            next.take(&changes[*place as usize].what);
            next.settle();
            known = Arc::new(next);
            if all.len() >= MOST {
                all.clear();
            }
            all.insert(at(n + 1), known.clone());
        }
        known
    }
}
