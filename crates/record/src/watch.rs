//! What somebody who watches a run is told.

use serde::{Deserialize, Serialize};
use velocitas_core::{EntityId, Event, Fact, MessageKind};

use crate::command::Command;
use crate::ids::{MachineId, Part, RecordTick};
use crate::known::Change;
use crate::screen::Screen;
use crate::settings::Knob;
use crate::time::LabTime;

/// A datagram on a link.
#[derive(Clone, Copy, Debug)]
pub struct MessageRow {
    /// When it left.
    pub at: LabTime,
    /// When it arrived. The lab knows that when it leaves; elsewhere whoever receives it tells of it. `None` where it was lost, and until
    /// somebody has told: see [`Record::is_lost`](crate::record::Record::is_lost).
    pub arrived: Option<LabTime>,
    /// When it arrived a second time, if it did.
    pub again: Option<LabTime>,
    /// Whether it will not arrive: only the lab knows that.
    pub lost: bool,
    /// Whether it was thrown away on arrival: the socket was full, and it the oldest there.
    pub unread: bool,
    /// What it was.
    pub kind: MessageKind,
    /// Its size.
    pub bytes: u16,
    /// The tick it is about, if any: of inputs and claims the newest.
    pub tick: Option<RecordTick>,
    /// Inputs and claims: for how many ticks it has one, that tick and those before it.
    pub ticks: u8,
    /// The entity it is about: of inputs, claims, pull backs.
    pub entity: Option<EntityId>,
    /// Snapshots: of how many entities it tells.
    pub entities: u8,
    /// Claims: the pull back it goes on from; pull backs: its own number.
    pub epoch: Option<u8>,
    /// Of what goes by an ordered stream: the number of the piece, and whether that was sent before.
    pub piece: Option<(u16, bool)>,
}

impl MessageRow {
    /// Whether it says what an entity's owner did in a tick: inputs, claims and accounts are about several.
    pub fn tells_of(&self, entity: EntityId, tick: RecordTick) -> bool {
        let holds = |newest: u32| newest >= tick.0 && (newest + 1).saturating_sub(u32::from(self.ticks)) <= tick.0;
        self.entity == Some(entity) && self.tick.is_some_and(|newest| holds(newest.0))
    }
}

/// Something that happens seldom.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
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
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub enum Happening {
    /// In a client or the server, as it told it.
    Fact(Fact),
    /// The server added to the velocity of the member's entity before this tick, in metres a second.
    Pushed(EntityId, [f32; 3]),
    /// The server put the member's entity elsewhere before this tick.
    Teleported(EntityId, [f32; 3]),
    /// A setting of the link between the machine and the one that decides changes, on one way.
    Link {
        /// Whether on the way up.
        up: bool,
        /// Which setting.
        knob: Knob,
        /// To what, as it is kept.
        value: f64,
    },
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
    /// Hands that had rested moved something, at this moment: its frame is the first that could notice.
    Pressed(LabTime),
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
    /// Whether it looks at screens: what is drawn is worked out for those who do.
    const LOOKS: bool;

    /// Something happened inside a client or the server.
    fn event(&mut self, at: LabTime, machine: MachineId, part: Part, event: &Event<'_>);
    /// A datagram was put on the link between two machines.
    fn message(&mut self, from: MachineId, to: MachineId, row: MessageRow);
    /// The bytes of datagram number `number` on a link. Nobody needs to keep them.
    fn payload(&mut self, _from: MachineId, _to: MachineId, _number: u64, _bytes: &[u8]) {}
    /// Datagram number `number` on a link arrived: what its receiver can tell of it.
    fn arrived(&mut self, _at: LabTime, _from: MachineId, _to: MachineId, _number: u64) {}
    /// Datagram number `number` on a link was thrown away unread.
    fn unread(&mut self, from: MachineId, to: MachineId, number: u64);
    /// A machine's screen is drawn.
    fn frame(&mut self, at: LabTime, viewer: MachineId, screen: &Screen);
    /// Something the lab itself did at a machine.
    fn happening(&mut self, machine: MachineId, row: HappeningRow);
    /// Machines will know something else of the rules.
    fn changed(&mut self, change: Change);
}

/// Nobody keeps anything.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unrecorded;

impl Watch for Unrecorded {
    const LOOKS: bool = false;

    fn event(&mut self, _: LabTime, _: MachineId, _: Part, _: &Event<'_>) {}
    fn message(&mut self, _: MachineId, _: MachineId, _: MessageRow) {}
    fn unread(&mut self, _: MachineId, _: MachineId, _: u64) {}
    fn frame(&mut self, _: LabTime, _: MachineId, _: &Screen) {}
    fn happening(&mut self, _: MachineId, _: HappeningRow) {}
    fn changed(&mut self, _: Change) {}
}
