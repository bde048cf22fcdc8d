//! What an owner said of where it is, by tick, until its turn comes.

use std::collections::BTreeMap;

use crate::data::State;
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::wire::Claim;

/// Claims waiting at most: two seconds at 128 Hz.
const QUEUE: usize = 256;

/// What is claimed of one tick.
#[derive(Clone, Copy, Debug)]
pub(super) struct Pending {
    pub(super) pos: Vec3,
    /// The whole state, where this tick was some message's newest.
    pub(super) state: Option<State>,
    pub(super) since: Tick,
}

/// One owner's claims of one entity.
#[derive(Clone, Debug, Default)]
pub(super) struct Claims {
    /// Claims of another are dropped.
    pub(super) epoch: u8,
    /// Newest claim accepted in this epoch.
    pub(super) last: Option<Tick>,
    /// Newest tick accepted in any epoch.
    pub(super) newest: Option<Tick>,
    queue: BTreeMap<Tick, Pending>,
    /// Newest tick that any claim told of, believed or not.
    heard: Option<Tick>,
    /// The oldest: before it nothing is missing.
    first: Option<Tick>,
}

impl Claims {
    /// Whether a claim for `tick` can be missing: its owner had begun by then.
    pub(super) fn has_begun(&self, tick: Tick) -> bool {
        self.first.is_some_and(|first| first <= tick)
    }

    /// Queues what a claim says of ticks not yet known. Returns the ticks heard of for the first time, oldest first;
    /// those of an older epoch are among them, but dropped.
    pub(super) fn take_in(&mut self, newest: Tick, since: Tick, claim: &Claim, expected: Tick) -> Vec<Tick> {
        let oldest = newest.offset(-(claim.count as i64));
        self.first.get_or_insert(oldest.max(since));
        let known = self.heard.map_or(oldest, |heard| heard.next().max(oldest));
        if claim.epoch != self.epoch {
            self.heard = self.heard.max(Some(newest));
            return (known.0..=newest.0).map(Tick).collect();
        }
        let mut arrived = Vec::new();
        self.heard = self.heard.max(Some(newest));
        for back in (0..=claim.count).rev() {
            let tick = newest.offset(-(back as i64));
            let known = self.last.is_some_and(|last| tick <= last) || tick < since;
            if known || tick.since(expected) > QUEUE as i64 || self.queue.len() >= QUEUE {
                continue;
            }
            let (pos, state) =
                if back == 0 { (claim.state.vec3(0), Some(claim.state)) } else { (claim.trail[back - 1], None) };
            let entry = self.queue.entry(tick).or_insert_with(|| {
                arrived.push(tick);
                Pending { pos, state, since }
            });
            // The first word counts; a later message may only add what the first did not carry.
            if entry.state.is_none() && entry.pos == pos {
                entry.state = state;
            }
        }
        arrived
    }

    /// The oldest claim whose turn has come at `now`, and the tick from which it goes on: that of the last one accepted, or
    /// in a new epoch the one in which the owner learnt of it. What is older than that is passed over.
    pub(super) fn next_due(&mut self, now: Tick) -> Option<(Tick, Tick, Pending)> {
        while let Some((&tick, &pending)) = self.queue.first_key_value() {
            if tick > now {
                return None;
            }
            let from = self.last.unwrap_or(pending.since.max(self.newest.unwrap_or(pending.since)));
            if tick < from || self.last == Some(tick) {
                self.queue.remove(&tick);
                continue;
            }
            return Some((from, tick, pending));
        }
        None
    }

    /// Takes a claim out of the queue.
    pub(super) fn take(&mut self, tick: Tick) {
        self.queue.remove(&tick);
    }

    /// A claim was accepted: the state it stands for, going on from `good`.
    pub(super) fn accept(&mut self, tick: Tick, pending: &Pending, good: State) -> State {
        let mut accepted = pending.state.unwrap_or(good);
        accepted.set_vec3(0, pending.pos);
        self.last = Some(tick);
        self.newest = Some(tick);
        accepted
    }

    /// From now on claims must carry a new epoch; what waits is dropped.
    pub(super) fn begin_epoch(&mut self) {
        self.epoch = self.epoch.wrapping_add(1);
        self.last = None;
        self.queue.clear();
    }
}
