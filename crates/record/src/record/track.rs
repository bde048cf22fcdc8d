//! States by tick, packed: a head and as many lanes as the schema uses. See [`packed`](super::packed) for how.

use std::sync::Arc;

use velocitas_core::{State, Vec3, vec3};

use super::packed::{AtHand, Old, Packer, Unpacker};
use super::rows::StateHead;
use crate::coder::{Coder, Pack};
use crate::ids::RecordTick;
use crate::time::LabTime;

/// States in a packed segment.
const SEGMENT: usize = 256;
/// States kept as they are before the older half is packed.
const LOOSE: usize = 4 * SEGMENT;

/// States as they are.
#[derive(Clone, Debug, Default)]
struct Loose {
    width: usize,
    heads: Vec<StateHead>,
    lanes: Vec<u32>,
}

impl Loose {
    fn lane(&self, at: usize, lane: usize) -> u32 {
        if lane < self.width { self.lanes.get(at * self.width + lane).copied().unwrap_or(0) } else { 0 }
    }
}

/// States packed.
#[derive(Clone, Debug)]
struct Segment {
    width: usize,
    first: StateHead,
    last: StateHead,
    bytes: Arc<[u8]>,
}

impl Segment {
    fn pack(loose: &Loose) -> Self {
        let mut packer = Packer::default();
        let mut before = StateHead::default();
        for i in 0..SEGMENT {
            let mut head = loose.heads[i];
            head.code(&before, &mut packer);
            for lane in 0..loose.width {
                let expected = if i == 0 { 0 } else { loose.lane(i - 1, lane) };
                packer.bits(&mut loose.lane(i, lane), expected);
            }
            packer.end();
            before = head;
        }
        let (first, last) = (loose.heads[0], loose.heads[SEGMENT - 1]);
        Self { width: loose.width, first, last, bytes: packer.bytes.into() }
    }

    fn unpack(&self) -> Loose {
        let mut from = Unpacker::new(&self.bytes);
        let (mut heads, mut lanes) = (Vec::with_capacity(SEGMENT), vec![0; SEGMENT * self.width]);
        let mut before = StateHead::default();
        for i in 0..SEGMENT {
            from.begin();
            let mut head = StateHead::default();
            head.code(&before, &mut from);
            for lane in 0..self.width {
                let expected = if i == 0 { 0 } else { lanes[(i - 1) * self.width + lane] };
                from.bits(&mut lanes[i * self.width + lane], expected);
            }
            heads.push(head);
            before = head;
        }
        Loose { width: self.width, heads, lanes }
    }
}

/// States of one entity in the order they were made.
#[derive(Clone, Debug)]
pub struct StateTrack {
    packed: Vec<Segment>,
    loose: Loose,
    at_hand: AtHand<Loose>,
    old: Old,
}

impl StateTrack {
    /// A track of states that use the first `width` lanes.
    pub fn new(width: usize, old: Old) -> Self {
        let loose = Loose { width, ..Loose::default() };
        Self { packed: Vec::new(), loose, at_hand: AtHand::default(), old }
    }

    /// How many lanes of a state it keeps.
    pub(super) const fn width(&self) -> usize {
        self.loose.width
    }

    /// Makes room for states that use more lanes; those there are have zeros in them.
    pub(super) fn widen(&mut self, width: usize) {
        if width <= self.loose.width {
            return;
        }
        let lane = |i: usize| self.loose.lane(i / width, i % width);
        let lanes = (0..self.loose.heads.len() * width).map(lane).collect();
        (self.loose.lanes, self.loose.width) = (lanes, width);
    }

    /// Adds a state.
    pub(super) fn push(&mut self, head: StateHead, state: &State) {
        self.loose.heads.push(head);
        self.loose.lanes.extend_from_slice(&state.bits()[..self.loose.width]);
        if self.old == Old::Packed && self.loose.heads.len() == LOOSE {
            self.packed.push(Segment::pack(&self.loose));
            self.loose.heads.drain(..SEGMENT);
            self.loose.lanes.drain(..SEGMENT * self.loose.width);
        }
    }

    /// How many states there are.
    pub fn len(&self) -> usize {
        self.packed.len() * SEGMENT + self.loose.heads.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Calls with the part that holds a position, and the place in it.
    fn within<R>(&self, at: usize, ask: impl FnOnce(&Loose, usize) -> R) -> R {
        let number = at / SEGMENT;
        match self.packed.get(number) {
            Some(segment) => ask(&self.at_hand.get(number, || segment.unpack()), at % SEGMENT),
            None => ask(&self.loose, at - self.packed.len() * SEGMENT),
        }
    }

    /// The head at a position.
    pub fn head(&self, at: usize) -> Option<StateHead> {
        self.within(at, |part, i| part.heads.get(i).copied())
    }

    /// A lane at a position, as bits.
    pub fn lane(&self, at: usize, lane: usize) -> Option<u32> {
        self.within(at, |part, i| (i < part.heads.len()).then(|| part.lane(i, lane)))
    }

    /// A real lane at a position.
    pub fn real(&self, at: usize, lane: usize) -> f32 {
        self.lane(at, lane).map_or(0.0, f32::from_bits)
    }

    /// Three real lanes at a position.
    pub fn vec3(&self, at: usize, lane: usize) -> Vec3 {
        self.within(at, |part, i| {
            let real = |lane| f32::from_bits(part.lane(i, lane));
            vec3(real(lane), real(lane + 1), real(lane + 2))
        })
    }

    /// Where it was at a position.
    pub fn pos(&self, at: usize) -> Vec3 {
        self.vec3(at, 0)
    }

    /// The whole state at a position.
    pub fn state(&self, at: usize) -> State {
        self.within(at, |part, i| {
            let mut state = State::default();
            (0..part.width).for_each(|lane| state.set_int(lane, part.lane(i, lane)));
            state
        })
    }

    /// Calls with head and position of each state in a range.
    pub fn visit(&self, range: std::ops::Range<usize>, mut each: impl FnMut(&StateHead, Vec3)) {
        let (mut at, end) = (range.start, range.end.min(self.len()));
        while at < end {
            at += self.within(at, |part, first| {
                let last = (first + end - at).min(part.heads.len());
                for i in first..last {
                    let real = |lane| f32::from_bits(part.lane(i, lane));
                    each(&part.heads[i], vec3(real(0), real(1), real(2)));
                }
                last - first
            });
        }
    }

    /// The first position whose head does not lie before, given that a beginning does and no more.
    fn partition(&self, before: impl Fn(&StateHead) -> bool) -> usize {
        let packed = self.packed.len() * SEGMENT;
        if self.loose.heads.first().is_none_or(&before) {
            return packed + self.loose.heads.partition_point(before);
        }
        let number = self.packed.partition_point(|segment| before(&segment.last));
        match self.packed.get(number) {
            None => packed,
            Some(segment) if !before(&segment.first) => number * SEGMENT,
            Some(_) => number * SEGMENT + self.within(number * SEGMENT, |part, _| part.heads.partition_point(&before)),
        }
    }

    /// The newest state made at or before a moment.
    pub fn at(&self, moment: LabTime) -> Option<usize> {
        self.partition(|h| h.at <= moment).checked_sub(1)
    }

    /// The state of a tick, the first made of it. Ticks rise along a track, except a track of what was rewritten.
    pub fn of_tick(&self, tick: RecordTick) -> Option<usize> {
        // Mostly ticks follow each other without a gap.
        if let Some(first) = self.loose.heads.first().filter(|first| first.tick <= tick) {
            let guess = (tick.0 - first.tick.0) as usize;
            let is_it = |i: usize| self.loose.heads.get(i).is_some_and(|h| h.tick == tick);
            if is_it(guess) && !guess.checked_sub(1).is_some_and(is_it) {
                return Some(self.packed.len() * SEGMENT + guess);
            }
        }
        let at = self.partition(|h| h.tick < tick);
        self.head(at).filter(|h| h.tick == tick).map(|_| at)
    }

    /// The first position of a tick or a later one, of a track along which ticks rise.
    pub(super) fn first_of(&self, tick: RecordTick) -> usize {
        self.partition(|h| h.tick < tick)
    }

    /// Positions of the states made in a span of time.
    pub fn between(&self, from: LabTime, to: LabTime) -> std::ops::Range<usize> {
        self.partition(|h| h.at < from)..self.partition(|h| h.at <= to)
    }

    pub(super) fn truncate(&mut self, at: LabTime) {
        let len = self.partition(|h| h.at <= at);
        let width = self.loose.width;
        let number = len / SEGMENT;
        if let Some(segment) = self.packed.get(number) {
            self.loose = segment.unpack();
            self.packed.truncate(number);
            self.packed.shrink_to_fit();
            self.at_hand.clear();
        }
        let left = len - self.packed.len() * SEGMENT;
        self.loose.heads.truncate(left);
        self.loose.lanes.truncate(left * self.loose.width);
        self.widen(width);
    }

    /// Forgets whole segments of states made before a moment.
    pub(super) fn forget(&mut self, before: LabTime) {
        if self.old == Old::LetGo {
            let count = self.loose.heads.partition_point(|head| head.at < before);
            self.loose.heads.drain(..count);
            self.loose.lanes.drain(..count * self.loose.width);
            // Nothing more comes of an entity that is gone: its room goes as well.
            if self.loose.heads.is_empty() {
                self.loose.heads.shrink_to_fit();
                self.loose.lanes.shrink_to_fit();
            }
            return;
        }
        let count = self.packed.partition_point(|segment| segment.last.at < before);
        if count > 0 {
            self.packed.drain(..count);
            self.at_hand.clear();
        }
    }

    pub(super) fn bytes(&self) -> usize {
        self.packed.iter().map(|s| s.bytes.len() + 16).sum::<usize>()
            + self.packed.capacity() * size_of::<Segment>()
            + self.loose.heads.capacity() * size_of::<StateHead>()
            + self.loose.lanes.capacity() * size_of::<u32>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn state(i: usize, width: usize) -> State {
        let mut state = State::default();
        (0..width).for_each(|lane| state.set_real(lane, (i * 7 + lane) as f32 * 0.013));
        state
    }

    fn head(i: usize) -> StateHead {
        let tick = RecordTick(i as u32 + i as u32 / 700);
        StateHead::new(LabTime(i as u64 * 16_000_000), tick, Some(tick), std::iter::empty(), i.is_multiple_of(90))
    }

    proptest! {
        #[test]
        fn it_gives_back_what_was_put_in_however_it_is_cut_and_widened(
            pushes in 0usize..1500, cut in 0usize..1500, more in 0usize..700, forgotten in 0usize..1500,
            lets_go in any::<bool>(),
        ) {
            let old = if lets_go { Old::LetGo } else { Old::Packed };
            let (mut track, mut all) = (StateTrack::new(5, old), Vec::new());
            let moment = |i: usize| LabTime(i as u64 * 16_000_000);
            for i in 0..pushes {
                track.push(head(i), &state(i, 5));
                all.push((i, 5));
            }
            track.truncate(moment(cut));
            all.retain(|(i, _)| *i <= cut);
            track.widen(9);
            for i in pushes..pushes + more {
                track.push(head(i), &state(i, 9));
                all.push((i, 9));
            }
            track.truncate(moment(pushes + more));
            track.forget(moment(forgotten));
            let kept = all.split_off(all.len() - track.len());
            prop_assert!(all.iter().all(|(i, _)| *i < forgotten));
            for (place, &(i, width)) in kept.iter().enumerate() {
                prop_assert_eq!(track.state(place), state(i, width));
                let (is, was) = (track.head(place).expect("it is there"), head(i));
                prop_assert_eq!((is.at, is.tick, is.used(), is.teleported), (was.at, was.tick, was.used(), was.teleported));
                prop_assert_eq!(track.of_tick(was.tick), Some(place));
                prop_assert_eq!(track.at(was.at), Some(place));
            }
            prop_assert!(track.head(kept.len()).is_none());
        }
    }

    #[test]
    fn what_an_entity_that_is_gone_took_up_is_free_again() {
        let mut track = StateTrack::new(8, Old::LetGo);
        let empty = track.bytes();
        (0..4000).for_each(|i| track.push(head(i), &state(i, 8)));
        let full = track.bytes();
        // While something is left the room is used again.
        track.forget(head(3999).at);
        assert!(track.len() == 1 && track.bytes() == full, "{} of {full} bytes", track.bytes());
        track.forget(head(4000).at);
        assert_eq!((track.len(), track.bytes()), (0, empty));
        track.push(head(4000), &state(4000, 8));
        assert_eq!(track.state(0), state(4000, 8));
    }
}
