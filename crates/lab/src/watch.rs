//! What somebody who watches a run is told.

use velocitas_core::{Client, EntityId, Event, Fact, HostNanos, MessageKind};

use crate::command::Command;
use crate::ids::{MachineId, Part, RecordTick};
use crate::known::Change;
use crate::time::LabTime;

/// A datagram on a link.
#[derive(Clone, Copy, Debug)]
pub struct MessageRow {
    /// When it left.
    pub at: LabTime,
    /// When it arrived; `None` if lost.
    pub arrived: Option<LabTime>,
    /// Whether it arrived a second time.
    pub doubled: bool,
    /// What it was.
    pub kind: MessageKind,
    /// Its size.
    pub bytes: u16,
    /// The tick it is about, if any.
    pub tick: Option<RecordTick>,
}

/// Something that happens seldom.
#[derive(Clone, Copy, Debug)]
pub struct HappeningRow {
    /// When.
    pub at: LabTime,
    /// To what on the machine.
    pub part: Part,
    /// In which of its ticks, if it had one.
    pub tick: Option<RecordTick>,
    /// What.
    pub what: Happening,
}

/// What happened.
#[derive(Clone, Copy, Debug)]
pub enum Happening {
    /// In a client or the server, as it told it.
    Fact(Fact),
    /// So many datagrams that had arrived were thrown away unread: the socket was full.
    Overrun(u64),
    /// The server pushed the member's entity before this tick.
    Pushed(EntityId),
    /// The machine stands still for so long.
    Frozen(LabTime),
    /// Its program was started.
    Started,
    /// Its program ended without a word.
    Crashed,
    /// Its program says goodbye.
    Leaves,
    /// Hands ordered what others give orders as well to a place, or to none.
    Ordered(EntityId, Option<(f32, f32)>),
    /// Hands that had rested moved something.
    Pressed,
    /// A rogue began a trick that lasts so long, or ended one.
    Trick {
        /// `None` at the end.
        lasts: Option<LabTime>,
    },
    /// The first tick of a rogue's trick that came out otherwise than its rule would have it.
    Offence,
    /// Somebody turned something.
    Command(Command),
}

/// Told everything, in order. A [`Record`](crate::record::Record) keeps it; [`Unrecorded`] lets it go.
pub trait Watch {
    /// Something happened inside a client or the server.
    fn event(&mut self, at: LabTime, machine: MachineId, part: Part, event: &Event<'_>);
    /// A datagram was put on the link between two machines.
    fn message(&mut self, from: MachineId, to: MachineId, row: MessageRow);
    /// A machine's screen is drawn; `read` is what its clock says.
    fn frame(&mut self, at: LabTime, viewer: MachineId, client: &Client, read: HostNanos);
    /// Something the lab itself did at a machine.
    fn happening(&mut self, machine: MachineId, row: HappeningRow);
    /// Machines will know something else of the rules.
    fn changed(&mut self, change: Change);
}

/// Nobody keeps anything.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unrecorded;

impl Watch for Unrecorded {
    fn event(&mut self, _: LabTime, _: MachineId, _: Part, _: &Event<'_>) {}
    fn message(&mut self, _: MachineId, _: MachineId, _: MessageRow) {}
    fn frame(&mut self, _: LabTime, _: MachineId, _: &Client, _: HostNanos) {}
    fn happening(&mut self, _: MachineId, _: HappeningRow) {}
    fn changed(&mut self, _: Change) {}
}
