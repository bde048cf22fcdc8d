//! What is kept of one machine.

use super::column::Column;
use super::rows::{ClockRow, FrameRow, InputRow, Mark, MarkRow, OwnDrawnRow, ReceivedRow};
use super::track::Track;
use crate::ids::{ActorId, RecordTick};
use crate::time::LabTime;
use crate::watch::HappeningRow;

/// What a machine made of an entity of its own.
#[derive(Clone, Debug)]
pub struct OwnRows {
    /// Which.
    pub actor: ActorId,
    /// Its first prediction, by tick.
    pub predicted: Track,
    /// What it predicted again.
    pub rewritten: Track,
    /// How it was drawn, by frame.
    pub drawn: Column<OwnDrawnRow>,
}

/// What is kept of one machine.
#[derive(Clone, Debug, Default)]
pub struct MachineRows {
    /// Of each entity of its own.
    pub own: Vec<OwnRows>,
    /// The moments at which it drew all others.
    pub frames: Column<FrameRow>,
    /// The snapshots it took in.
    pub received: Column<ReceivedRow>,
    /// What became of its inputs.
    pub inputs: Column<InputRow>,
    /// What it knows of its clock and link.
    pub clocks: Column<ClockRow>,
    /// What happens seldom.
    pub happenings: Column<HappeningRow>,
    /// What the rail shows.
    pub marks: Column<MarkRow>,
}

/// Does the same to every column of a machine's rows: all of them have a moment `at`.
macro_rules! every_column {
    ($rows:expr, |$column:ident| $each:expr) => {{
        let rows = $rows;
        {
            let $column = &mut rows.frames;
            $each;
        }
        {
            let $column = &mut rows.received;
            $each;
        }
        {
            let $column = &mut rows.inputs;
            $each;
        }
        {
            let $column = &mut rows.clocks;
            $each;
        }
        {
            let $column = &mut rows.happenings;
            $each;
        }
        {
            let $column = &mut rows.marks;
            $each;
        }
        for own in &mut rows.own {
            let $column = &mut own.drawn;
            $each;
        }
    }};
}

impl MachineRows {
    /// What it made of an entity, if that is its own.
    pub fn own(&self, actor: ActorId) -> Option<&OwnRows> {
        self.own.iter().find(|own| own.actor == actor)
    }

    pub(super) fn own_mut(&mut self, actor: ActorId) -> Option<&mut OwnRows> {
        self.own.iter_mut().find(|own| own.actor == actor)
    }

    pub(super) fn mark(&mut self, at: LabTime, tick: Option<RecordTick>, mark: Mark) {
        self.marks.push(MarkRow { at, tick, mark });
    }

    pub(super) fn truncate(&mut self, at: LabTime) {
        every_column!(&mut *self, |column| column.truncate(column.partition(|r| r.at <= at)));
        for own in &mut self.own {
            own.predicted.truncate(at);
            own.rewritten.truncate(at);
        }
    }

    pub(super) fn forget(&mut self, from: LabTime) {
        every_column!(&mut *self, |column| column.forget(|r| r.at < from));
        for own in &mut self.own {
            own.predicted.forget(from);
            own.rewritten.forget(from);
        }
    }

    pub(super) fn bytes(&self) -> usize {
        let own = self.own.iter().map(|o| o.predicted.bytes() + o.rewritten.bytes() + o.drawn.bytes());
        own.sum::<usize>()
            + self.frames.bytes()
            + self.received.bytes()
            + self.inputs.bytes()
            + self.clocks.bytes()
            + self.happenings.bytes()
            + self.marks.bytes()
    }
}
