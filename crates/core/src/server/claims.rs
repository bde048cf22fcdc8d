//! What an owner said of where it is, by tick, until its turn comes.

use std::collections::{BTreeMap, BTreeSet};

use crate::data::State;
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::wire::Claim;

/// Claims waiting at most: two seconds at 128 Hz.
const QUEUE: usize = 256;
/// Ticks remembered as heard of: more than a message repeats.
const TOLD: usize = 512;

/// The ticks that a message told of for the first time, oldest first.
#[derive(Clone, Debug, Default)]
pub(super) struct Heard {
    /// These wait for their turn now.
    pub(super) fresh: Vec<Tick>,
    /// These came after a newer one was accepted.
    pub(super) overtaken: Vec<Tick>,
    /// These go on from before a pull back, and are dropped.
    pub(super) outdated: Vec<Tick>,
}

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
    /// The newest ticks that any claim told of: of each it is told once.
    told: BTreeSet<Tick>,
    /// Ticks of claims that waited when a new epoch began.
    let_go: Vec<Tick>,
    /// The oldest: before it nothing is missing.
    first: Option<Tick>,
}

impl Claims {
    /// Whether a claim for `tick` can be missing: its owner had begun by then.
    pub(super) fn has_begun(&self, tick: Tick) -> bool {
        self.first.is_some_and(|first| first <= tick)
    }

    /// Whether this is the first word of a tick.
    fn is_first_word(&mut self, tick: Tick) -> bool {
        let first = self.told.insert(tick);
        if self.told.len() > TOLD {
            self.told.pop_first();
        }
        first
    }

    /// Queues what a claim says of ticks not yet known.
    pub(super) fn take_in(&mut self, newest: Tick, since: Tick, claim: &Claim, expected: Tick) -> Heard {
        let mut heard = Heard::default();
        let oldest = newest.offset(-(claim.count as i64));
        self.first.get_or_insert(oldest.max(since));
        let known = self.heard.map_or(oldest, |heard| heard.next().max(oldest));
        self.heard = self.heard.max(Some(newest));
        if claim.epoch != self.epoch {
            heard.outdated = (known.0..=newest.0).map(Tick).filter(|tick| self.is_first_word(*tick)).collect();
            return heard;
        }
        for back in (0..=claim.count).rev() {
            let tick = newest.offset(-(back as i64));
            let known = self.last.is_some_and(|last| tick <= last) || tick < since;
            if known || tick.since(expected) > QUEUE as i64 || self.queue.len() >= QUEUE {
                if known && tick >= since && self.is_first_word(tick) {
                    heard.overtaken.push(tick);
                }
                continue;
            }
            let (pos, state) =
                if back == 0 { (claim.state.vec3(0), Some(claim.state)) } else { (claim.trail[back - 1], None) };
            let is_first_word = self.is_first_word(tick);
            let entry = self.queue.entry(tick).or_insert(Pending { pos, state, since });
            if is_first_word {
                heard.fresh.push(tick);
            }
            // The first word counts; a later message may only add what the first did not carry.
            if entry.state.is_none() && entry.pos == pos {
                entry.state = state;
            }
        }
        heard
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
        self.let_go.extend(std::mem::take(&mut self.queue).into_keys());
    }

    /// Ticks of claims that waited when a new epoch began; each is handed out once.
    pub(super) fn let_go(&mut self) -> Vec<Tick> {
        std::mem::take(&mut self.let_go)
    }
}
