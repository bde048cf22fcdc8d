//! Which of the authority's states answers a tick of an owner.
//!
//! Mostly it is the state of the same tick. An owner whose inputs are waited for may be some ticks behind: a tick of its own is then made in a
//! later one of the server, and several in one.

use super::Record;
use crate::ids::{ActorId, MachineId, RecordTick};

/// So many ticks later one is looked for: longer than anything is waited for.
const REACH: usize = 64;

impl Record {
    /// The first state of the authority that includes a tick of an owner's.
    pub fn made_in(&self, machine: MachineId, actor: ActorId, tick: RecordTick) -> Option<usize> {
        let authority = self.authority(actor);
        let same = authority.of_tick(tick)?;
        // Mostly it is as simple as that.
        if authority.head(same).is_some_and(|head| head.used() == Some(tick)) {
            return Some(same);
        }
        let waits = self.cast.sends_inputs(machine);
        let includes = |i: &usize| authority.head(*i).is_some_and(|head| head.used().is_none_or(|used| used >= tick));
        if !waits || includes(&same) {
            return Some(same);
        }
        (same + 1..authority.len().min(same + REACH)).find(includes)
    }

    /// The same, if it includes none that is later.
    pub fn answer(&self, machine: MachineId, actor: ActorId, tick: RecordTick) -> Option<usize> {
        let made = self.made_in(machine, actor, tick)?;
        let head = self.authority(actor).head(made)?;
        (head.tick == tick || head.used() == Some(tick)).then_some(made)
    }

    /// The tick of an owner's that was the first to be made in a tick of the server's or after it: what happened to the entity by the server's
    /// will in that tick happened in this one of its owner's.
    pub fn owners_tick(&self, machine: MachineId, actor: ActorId, tick: RecordTick) -> RecordTick {
        let authority = self.authority(actor);
        let Some(at) = authority.of_tick(tick) else { return tick };
        let used = |i: usize| authority.head(i).and_then(|head| head.used());
        let is_behind = used(at).is_some_and(|used| used < tick)
            || at.checked_sub(1).and_then(used).is_some_and(|before| before.0 + 1 < tick.0);
        let waits = self.cast.sends_inputs(machine);
        let Some(before) = at.checked_sub(1).and_then(used).filter(|_| waits && is_behind) else { return tick };
        RecordTick(before.0 + 1)
    }
}
