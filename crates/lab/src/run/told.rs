//! What a run tells somebody who follows it.

use velocitas_core::Event;

use velocitas_record::ids::{MachineId, Part};
use velocitas_record::known::Change;
use velocitas_record::record::{Record, Recorder};
use velocitas_record::screen::Screen;
use velocitas_record::time::LabTime;
use velocitas_record::watch::{HappeningRow, MessageRow, Watch};

/// What a run tells somebody besides its record, which has taken it in already, but for changes.
#[derive(Clone, Copy, Debug)]
pub enum Told<'a> {
    /// Something happened inside a client or the server.
    Event(LabTime, MachineId, Part, &'a Event<'a>),
    /// A datagram was put on the link between two machines.
    Message(MachineId, MachineId, &'a MessageRow),
    /// Datagram number `number` on a link was thrown away unread.
    Unread(MachineId, MachineId, u64),
    /// A machine drew a frame.
    Frame(LabTime, MachineId),
    /// Something the lab itself did at a machine.
    Happening(MachineId, &'a HappeningRow),
    /// Machines will know something else of the rules.
    Changed(&'a Change),
}

/// Somebody who follows a run, with its record at hand.
pub trait Follow {
    /// Something was told.
    fn told(&mut self, record: &Record, told: Told<'_>);
}

/// Tells the record, then who follows.
pub(super) struct Both<'a, 'f> {
    pub(super) recorder: &'a mut Recorder,
    pub(super) follow: &'a mut (dyn Follow + 'f),
}

impl Both<'_, '_> {
    fn tell(&mut self, told: Told<'_>) {
        self.follow.told(self.recorder.record(), told);
    }
}

/// Nobody follows.
pub(super) struct Alone;

impl Follow for Alone {
    fn told(&mut self, _: &Record, _: Told<'_>) {}
}

impl Watch for Both<'_, '_> {
    const LOOKS: bool = true;

    fn event(&mut self, at: LabTime, machine: MachineId, part: Part, event: &Event<'_>) {
        self.recorder.event(at, machine, part, event);
        self.tell(Told::Event(at, machine, part, event));
    }

    /// The record knows from the lab when it will arrive: that need not be told again.
    fn message(&mut self, from: MachineId, to: MachineId, row: MessageRow) {
        self.recorder.message(from, to, row);
        self.tell(Told::Message(from, to, &row));
    }

    fn unread(&mut self, from: MachineId, to: MachineId, number: u64) {
        self.recorder.unread(from, to, number);
        self.tell(Told::Unread(from, to, number));
    }

    fn frame(&mut self, at: LabTime, viewer: MachineId, screen: &Screen) {
        self.recorder.frame(at, viewer, screen);
        self.tell(Told::Frame(at, viewer));
    }

    fn happening(&mut self, machine: MachineId, row: HappeningRow) {
        self.recorder.happening(machine, row);
        self.tell(Told::Happening(machine, &row));
    }

    fn changed(&mut self, change: Change) {
        self.tell(Told::Changed(&change));
        self.recorder.changed(change);
    }
}
