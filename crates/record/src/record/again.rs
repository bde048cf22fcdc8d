//! Rows of a record that is read from a file, put where they were.

use super::Record;
use super::rows::{FrameRow, OtherwiseRow, OwnDrawnRow, SeenRow};
use crate::ids::{ActorId, MachineId};
use crate::time::LabTime;

impl Record {
    /// A machine was told why it is not let in.
    pub fn note_refusal(&mut self, at: LabTime, machine: MachineId, words: String) {
        self.refusals.push((at, machine, words));
    }

    /// What machines were told that were not let in: when, which, in which words.
    pub fn refusals(&self) -> impl Iterator<Item = (LabTime, MachineId, &str)> {
        self.refusals.iter().map(|(at, machine, words)| (*at, *machine, words.as_str()))
    }

    /// The newest words with which a machine was told that it is not let in.
    pub fn newest_refusal(&self, machine: MachineId) -> Option<(LabTime, &str)> {
        let newest = self.refusals.iter().rev().find(|(_, whose, _)| *whose == machine);
        newest.map(|(at, _, words)| (*at, words.as_str()))
    }

    /// A machine drew a frame.
    pub fn note_frame(&mut self, viewer: MachineId, row: FrameRow) {
        self.end = row.at;
        self.machines[viewer.index()].frames.push(row);
    }

    /// It drew an own entity in it; `place` is its index among the own entities. `None` where there is none.
    pub fn note_own(&mut self, viewer: MachineId, place: usize, row: OwnDrawnRow) -> Option<()> {
        let actor = ActorId::at(place, self.cast.actors.len())?;
        let width = self.authority[actor.index()].width();
        self.machines[viewer.index()].own_mut(actor, width).drawn.push(row);
        Some(())
    }

    /// It drew somebody else otherwise than follows from what it had received; `None` where there is nobody.
    pub fn note_otherwise(&mut self, viewer: MachineId, row: OtherwiseRow) -> Option<()> {
        ActorId::at(row.actor.index(), self.cast.actors.len())?;
        self.machines[viewer.index()].otherwise.push(row);
        Some(())
    }

    /// It drew somebody for the first time; `None` where there is nobody.
    pub fn note_seen(&mut self, viewer: MachineId, row: SeenRow) -> Option<()> {
        ActorId::at(row.actor.index(), self.cast.actors.len())?;
        self.machines[viewer.index()].see(row.at, row.actor);
        Some(())
    }
}
