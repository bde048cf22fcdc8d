//! A crowd that is told from tick to tick: what the bench and the fuzz target in `fuzz/` call.

use std::sync::Arc;

use super::body::{Telling, open};
use super::has::{Had, Has};
use super::moment::Moment;
use crate::ids::EntityId;
use crate::motion::Motion;
use crate::session::Kinds;
use crate::tick::Tick;
use crate::vec3::vec3;
use crate::walker::Walker;
use crate::wire::{BitReader, Body, Noting, Snapshot, SnapshotHead, StateDown, WireError};

/// Ticks between what the crowd is known by and now.
const BACK: u64 = 6;
/// Seconds of a tick.
const DT: f32 = 1.0 / 60.0;

/// Walkers of whom every other one stands, at one tick and six later; the first is known to their receiver.
#[derive(Clone, Debug)]
pub struct Crowd {
    kinds: Kinds,
    has: Has,
    had: Had,
    now: Moment,
}

impl Crowd {
    /// So many.
    ///
    /// # Panics
    /// Never: the walker has a sound schema.
    pub fn new(count: u16) -> Self {
        let walker = Walker::new();
        let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema");
        let moment = |tick: u64| {
            let mut moment = Moment::new(Tick(tick), kinds.clone());
            for index in 0..count {
                let mut state = walker.spawn(vec3(f32::from(index), 2.0, 0.0), f32::from(index) * 0.1);
                if index % 2 == 0 {
                    let (way, pace) = (f32::from(index) * 0.1 + tick as f32 * 0.02, 4.2);
                    let velocity = vec3(libm::cosf(way) * pace, libm::sinf(way) * pace, 0.0);
                    state.set_vec3(3, velocity);
                    state.set_vec3(0, state.vec3(0) + velocity * (tick as f32 * DT));
                    state.set_real(6, crate::float::wrap_angle(way));
                }
                moment.tell_state((EntityId::first(index), 0, 0), &state);
            }
            moment
        };
        let has = Has::new(Arc::new(moment(0)), Vec::new());
        let mut had = Had::new();
        had.keep(has.clone());
        let now = moment(BACK);
        Self { kinds, has, had, now }
    }

    /// What is said of them now, in a form that rests on what is known.
    pub fn told(&self, form: StateDown) -> Body {
        let (tick, base) = (Tick(BACK), Some(&self.has));
        Telling { tick, kinds: &self.kinds, dt: DT, base, moment: &self.now, own: &[], inputs: None }.body(form)
    }

    /// Reads it, and says how many entities there are in it.
    ///
    /// # Errors
    /// Whatever is wrong with it.
    pub fn read(&self, form: StateDown, body: &Body) -> Result<usize, WireError> {
        let mut snapshot = self.empty(form);
        let mut from = BitReader::new(&body.bytes);
        open(&mut from, &mut snapshot, body, (Tick(BACK), &self.kinds, DT), &self.had)?;
        Ok(snapshot.entities.len())
    }

    /// The same for who looks at it.
    ///
    /// # Errors
    /// The same.
    pub fn noted(&self, form: StateDown, body: &Body) -> Result<usize, WireError> {
        let mut snapshot = self.empty(form);
        let mut noting = Noting::new(&body.bytes);
        open(&mut noting, &mut snapshot, body, (Tick(BACK), &self.kinds, DT), &self.had)?;
        Ok(snapshot.entities.len())
    }

    fn empty(&self, form: StateDown) -> Snapshot {
        let head = SnapshotHead { tick: self.now.tick.wire(), every: 1, form, ..SnapshotHead::default() };
        Snapshot { head, ..Snapshot::default() }
    }
}
