//! States by tick, packed: a head and as many lanes as the schema uses.

use velocitas_core::{State, Vec3, vec3};

use super::column::Column;
use super::rows::StateHead;
use crate::ids::RecordTick;
use crate::time::LabTime;

/// States of one entity in the order they were made.
#[derive(Clone, Debug)]
pub struct Track {
    width: usize,
    heads: Column<StateHead>,
    lanes: Column<u32>,
}

impl Track {
    /// A track of states that use the first `width` lanes.
    pub fn new(width: usize) -> Self {
        Self { width, heads: Column::default(), lanes: Column::default() }
    }

    /// How many lanes of a state it keeps.
    pub(super) const fn width(&self) -> usize {
        self.width
    }

    /// Makes room for states that use more lanes; those there are have zeros in them.
    pub(super) fn widen(&mut self, width: usize) {
        if width <= self.width {
            return;
        }
        let mut lanes = Column::default();
        for i in 0..self.len() {
            (0..width).for_each(|lane| lanes.push(if lane < self.width { self.lane(i, lane).unwrap_or(0) } else { 0 }));
        }
        (self.lanes, self.width) = (lanes, width);
    }

    /// Adds a state.
    pub(super) fn push(&mut self, head: StateHead, state: &State) {
        self.heads.push(head);
        for &lane in &state.bits()[..self.width] {
            self.lanes.push(lane);
        }
    }

    /// How many states there are.
    pub fn len(&self) -> usize {
        self.heads.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.heads.is_empty()
    }

    /// The head at a position.
    pub fn head(&self, at: usize) -> Option<&StateHead> {
        self.heads.get(at)
    }

    /// A lane at a position, as bits.
    pub fn lane(&self, at: usize, lane: usize) -> Option<u32> {
        self.lanes.get(at * self.width + lane).copied()
    }

    /// A real lane at a position.
    pub fn real(&self, at: usize, lane: usize) -> f32 {
        self.lane(at, lane).map_or(0.0, f32::from_bits)
    }

    /// Three real lanes at a position.
    pub fn vec3(&self, at: usize, lane: usize) -> Vec3 {
        vec3(self.real(at, lane), self.real(at, lane + 1), self.real(at, lane + 2))
    }

    /// Where it was at a position.
    pub fn pos(&self, at: usize) -> Vec3 {
        self.vec3(at, 0)
    }

    /// The whole state at a position.
    pub fn state(&self, at: usize) -> State {
        let mut state = State::default();
        for lane in 0..self.width {
            state.set_int(lane, self.lane(at, lane).unwrap_or(0));
        }
        state
    }

    /// The newest state made at or before a moment.
    pub fn at(&self, moment: LabTime) -> Option<usize> {
        self.heads.partition(|h| h.at <= moment).checked_sub(1)
    }

    /// The state of a tick, the first made of it. Ticks rise along a track, except a track of what was rewritten.
    pub fn of_tick(&self, tick: RecordTick) -> Option<usize> {
        let at = self.heads.partition(|h| h.tick < tick);
        self.heads.get(at).filter(|h| h.tick == tick).map(|_| at)
    }

    /// Positions of the states made in a span of time.
    pub fn between(&self, from: LabTime, to: LabTime) -> std::ops::Range<usize> {
        self.heads.partition(|h| h.at < from)..self.heads.partition(|h| h.at <= to)
    }

    pub(super) fn truncate(&mut self, at: LabTime) {
        let len = self.heads.partition(|h| h.at <= at);
        self.heads.truncate(len);
        self.lanes.truncate(len * self.width);
    }

    /// Forgets whole segments of states made before a moment. A segment of heads goes with as many of lanes as a state
    /// is wide, so that the two begin with the same state.
    pub(super) fn forget(&mut self, before: LabTime) {
        let segments = self.heads.old_segments(|h| h.at < before);
        self.heads.forget_segments(segments);
        self.lanes.forget_segments(segments * self.width);
    }

    pub(super) fn bytes(&self) -> usize {
        self.heads.bytes() + self.lanes.bytes()
    }
}
