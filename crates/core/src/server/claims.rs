//! What an owner who decides said of its ticks, until their turn comes: where it was, or what it pressed.

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
    /// Of these something else had been said.
    pub(super) conflicts: Vec<Tick>,
}

/// Which ticks a message is about.
#[derive(Clone, Copy, Debug)]
pub(super) struct Said {
    pub(super) newest: Tick,
    /// How many before it as well.
    pub(super) before: usize,
    /// The first of the epoch.
    pub(super) since: Tick,
    pub(super) epoch: u8,
}

/// What is said of a tick.
pub(super) trait Word: Copy {
    /// Takes from a later word of the same tick what this one did not carry. `false` where the two contradict each other: the first
    /// counts.
    fn add(&mut self, later: &Self) -> bool;
}

/// Where somebody was.
#[derive(Clone, Copy, Debug)]
pub(super) struct ClaimedPlace {
    pub(super) pos: Vec3,
    /// The whole state, where this tick was some message's newest.
    pub(super) state: Option<State>,
}

impl ClaimedPlace {
    /// What a claim says of the tick `back` before its newest.
    pub(super) fn of(claim: &Claim, back: usize) -> Self {
        match back {
            0 => Self { pos: claim.state.vec3(0), state: Some(claim.state) },
            _ => Self { pos: claim.trail[back - 1], state: None },
        }
    }
}

impl Word for ClaimedPlace {
    fn add(&mut self, later: &Self) -> bool {
        let same = self.pos == later.pos;
        if same {
            self.state = self.state.or(later.state);
        }
        same
    }
}

/// A tick's word, and the first tick of its epoch.
#[derive(Clone, Copy, Debug)]
pub(super) struct Pending<W> {
    pub(super) word: W,
    pub(super) since: Tick,
    /// The server's tick in which it came.
    pub(super) arrived: Tick,
}

/// One owner's claims of one entity.
#[derive(Clone, Debug)]
pub(super) struct Claims<W> {
    /// Claims of another are dropped.
    pub(super) epoch: u8,
    /// Whether any epoch ended: then the first tick of one is said again, as where its owner was put.
    has_turned: bool,
    /// Newest claim accepted in this epoch.
    pub(super) last: Option<Tick>,
    /// Newest tick accepted in any epoch.
    pub(super) newest: Option<Tick>,
    queue: BTreeMap<Tick, Pending<W>>,
    /// Newest tick that any claim told of, believed or not.
    heard: Option<Tick>,
    /// The newest ticks that any claim told of: of each it is told once.
    told: BTreeSet<Tick>,
    /// Ticks of claims that waited when a new epoch began.
    let_go: Vec<Tick>,
    /// The oldest: before it nothing is missing.
    first: Option<Tick>,
}

impl<W> Default for Claims<W> {
    fn default() -> Self {
        Self {
            epoch: 0,
            has_turned: false,
            last: None,
            newest: None,
            queue: BTreeMap::new(),
            heard: None,
            told: BTreeSet::new(),
            let_go: Vec::new(),
            first: None,
        }
    }
}

impl<W: Word> Claims<W> {
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

    /// Takes note of the ticks that a message is about. Gives back the first that none was about before.
    fn hears_of(&mut self, said: &Said) -> Tick {
        let oldest = said.newest.offset(-(said.before as i64));
        self.first.get_or_insert(oldest.max(said.since));
        let known = self.heard.map_or(oldest, |heard| heard.next().max(oldest));
        self.heard = self.heard.max(Some(said.newest));
        known
    }

    /// Drops what a message says: it goes on from something that is over.
    pub(super) fn leave_aside(&mut self, said: &Said) -> Heard {
        let known = self.hears_of(said);
        let outdated = (known.0..=said.newest.0).map(Tick).filter(|tick| self.is_first_word(*tick)).collect();
        Heard { outdated, ..Heard::default() }
    }

    /// Queues what a message says of ticks not yet known; `word` gives that of the tick this number before the newest.
    pub(super) fn take_in(&mut self, said: &Said, expected: Tick, word: impl Fn(usize) -> W) -> Heard {
        let mut heard = Heard::default();
        let Said { newest, since, .. } = *said;
        if said.epoch != self.epoch {
            return self.leave_aside(said);
        }
        self.hears_of(said);
        for back in (0..=said.before).rev() {
            let tick = newest.offset(-(back as i64));
            let known = self.last.is_some_and(|last| tick <= last) || tick < since;
            if known || tick.since(expected) > QUEUE as i64 || self.queue.len() >= QUEUE {
                if known && tick >= since && self.is_first_word(tick) {
                    heard.overtaken.push(tick);
                }
                continue;
            }
            let word = word(back);
            let is_first_word = self.is_first_word(tick);
            let entry = self.queue.entry(tick).or_insert(Pending { word, since, arrived: expected });
            match is_first_word {
                // What its owner had claimed of it first goes on from before the pull back, and did not come.
                true if self.has_turned && tick == since => heard.outdated.push(tick),
                true => heard.fresh.push(tick),
                false => {}
            }
            if !entry.word.add(&word) {
                heard.conflicts.push(tick);
            }
        }
        heard
    }

    /// The oldest claim whose turn has come at `now`, and the tick from which it goes on: that of the last one accepted, or
    /// in a new epoch the one in which the owner learnt of it. What is older than that is passed over.
    pub(super) fn next_due(&mut self, now: Tick) -> Option<(Tick, Tick, Pending<W>)> {
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

    /// What was said of a tick was accepted.
    pub(super) const fn accepted(&mut self, tick: Tick) {
        self.last = Some(tick);
        self.newest = Some(tick);
    }

    /// From now on claims must carry a new epoch; what waits is dropped.
    pub(super) fn begin_epoch(&mut self) {
        self.turn();
        self.last = None;
        self.let_go.extend(std::mem::take(&mut self.queue).into_keys());
    }

    const fn turn(&mut self) {
        self.epoch = self.epoch.wrapping_add(1);
        self.has_turned = true;
    }

    /// A new epoch goes on from this one: what was said of ticks up to its first counts, and no more.
    pub(super) fn go_on(&mut self, since: Tick) {
        self.turn();
        self.let_go.extend(self.queue.split_off(&since.next()).into_keys());
    }

    /// Ticks of claims that waited when a new epoch began; each is handed out once.
    pub(super) fn let_go(&mut self) -> Vec<Tick> {
        std::mem::take(&mut self.let_go)
    }
}

impl Claims<ClaimedPlace> {
    /// Queues the places of a claim.
    pub(super) fn take_in_claim(&mut self, newest: Tick, since: Tick, claim: &Claim, expected: Tick) -> Heard {
        let said = Said { newest, before: claim.count, since, epoch: claim.epoch };
        self.take_in(&said, expected, |back| ClaimedPlace::of(claim, back))
    }

    /// A claim was accepted: the state it stands for, going on from `good`.
    pub(super) fn accept(&mut self, tick: Tick, place: &ClaimedPlace, good: State) -> State {
        let mut accepted = place.state.unwrap_or(good);
        accepted.set_vec3(0, place.pos);
        self.accepted(tick);
        accepted
    }
}
