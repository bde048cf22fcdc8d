//! What a client reads datagrams with: layouts, and what it has of the snapshots before.

use super::body::open;
use super::has::{Had, Has};
use crate::session::{Kinds, Layouts};
use crate::tick::Tick;
use crate::wire::{BitReader, MessageKind, Noting, Snapshot, WireError, WireField, fields};

/// What a client reads datagrams with.
#[derive(Clone, Copy, Debug)]
pub struct Receiver<'a> {
    /// How lanes travel.
    pub layouts: Layouts<'a>,
    had: &'a Had,
    dt: f32,
}

impl<'a> Receiver<'a> {
    /// With what it has of snapshots, and how many seconds a tick takes.
    pub(crate) const fn new(layouts: Layouts<'a>, had: &'a Had, dt: f32) -> Self {
        Self { layouts, had, dt }
    }

    /// With nothing known of snapshots.
    pub const fn of(layouts: Layouts<'a>) -> Self {
        static NOTHING: Had = Had::new();
        Self { layouts, had: &NOTHING, dt: 0.0 }
    }

    /// Opens what a snapshot says of entities, where that is told against another: from then on they are in it.
    ///
    /// # Errors
    /// Whatever is wrong with it; [`WireError::Baseline`] where it is told against what is not there.
    pub fn open(&self, snapshot: &mut Snapshot) -> Result<(), WireError> {
        let tick = self.layouts.tick(snapshot.head.tick)?;
        self.opened(snapshot, tick).map(|_| ())
    }

    /// The same of a snapshot of a tick, and what its reader has by it; nothing where there is nothing to open.
    pub(crate) fn opened(&self, snapshot: &mut Snapshot, tick: Tick) -> Result<Option<Has>, WireError> {
        let Some(body) = snapshot.body.take() else { return Ok(None) };
        let mut from = BitReader::new(&body.bytes);
        let has = open(&mut from, snapshot, &body, self.about(snapshot, tick), self.had)?;
        if !from.is_finished() {
            return Err(WireError::LeftOver { kind: MessageKind::Snapshot, bits: from.left() });
        }
        snapshot.body = Some(body);
        Ok(Some(has))
    }

    fn about(&self, snapshot: &Snapshot, tick: Tick) -> (Tick, &'a Kinds, f32) {
        (tick, self.layouts.kinds(snapshot.head.tick), self.dt)
    }

    /// The fields of a datagram, and what each takes.
    ///
    /// # Errors
    /// Whatever is wrong with the bytes.
    pub fn fields(&self, bytes: &[u8]) -> Result<Vec<WireField>, WireError> {
        fields(bytes, &self.layouts, |snapshot| {
            let tick = self.layouts.tick(snapshot.head.tick)?;
            let body = snapshot.body.take().unwrap_or_default();
            let mut noting = Noting::new(&body.bytes);
            open(&mut noting, snapshot, &body, self.about(snapshot, tick), self.had)?;
            noting.finish(MessageKind::Snapshot)
        })
    }
}
