//! What is kept of one machine.

use super::column::{Column, Cut};
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

    /// Every column but the tracks.
    fn columns(&mut self) -> impl Iterator<Item = &mut dyn Cut> {
        let all: [&mut dyn Cut; 6] = [
            &mut self.frames,
            &mut self.received,
            &mut self.inputs,
            &mut self.clocks,
            &mut self.happenings,
            &mut self.marks,
        ];
        all.into_iter().chain(self.own.iter_mut().map(|own| -> &mut dyn Cut { &mut own.drawn }))
    }

    pub(super) fn truncate(&mut self, at: LabTime) {
        self.columns().for_each(|column| column.cut_after(at));
        for own in &mut self.own {
            own.predicted.truncate(at);
            own.rewritten.truncate(at);
        }
    }

    pub(super) fn forget(&mut self, from: LabTime) {
        self.columns().for_each(|column| column.forget_before(from));
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
