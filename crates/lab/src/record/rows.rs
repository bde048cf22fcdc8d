//! What one row of each table of the record says. Every row has its lab time; ticks count from the session's base.

use velocitas_core::{Correction, MessageKind, Provenance, SolidId, Verdict};

use crate::command::Command;
use crate::time::LabTime;

/// A machine: the server, or a member of the cast.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Machine {
    /// The one that decides.
    Server,
    /// By index into the cast.
    Member(usize),
}

/// The head of a state in a track.
#[derive(Clone, Copy, Debug)]
pub struct StateHead {
    /// When it was made.
    pub at: LabTime,
    /// For which tick, from the base.
    pub tick: u32,
    /// Solids touched; `u16::MAX - 2` for none.
    pub contacts: [u16; 2],
    /// Whether it was put there otherwise than by its rule.
    pub teleported: bool,
}

/// No solid.
pub(super) const NO_CONTACT: u16 = u16::MAX - 2;

impl StateHead {
    /// The solids touched.
    pub fn touched(&self) -> impl Iterator<Item = SolidId> {
        self.contacts.into_iter().filter(|&id| id != NO_CONTACT).map(SolidId)
    }
}

/// An entity as a client drew it.
#[derive(Clone, Copy, Debug)]
pub struct DrawnRow {
    /// The frame.
    pub at: LabTime,
    /// The tick shown, from the base …
    pub tick: u32,
    /// … and how far on towards the next, in 65,536ths.
    pub fraction: u16,
    /// How it came about: a [`velocitas_core::Drawn`] as a number.
    pub how: u8,
    /// Where.
    pub pos: [f32; 3],
    /// Looking where.
    pub bearing: f32,
}

/// A datagram on a link.
#[derive(Clone, Copy, Debug)]
pub struct MessageRow {
    /// When it left.
    pub at: LabTime,
    /// When it arrived; `None` if lost.
    pub arrived: Option<LabTime>,
    /// The member whose link it crossed.
    pub member: u16,
    /// Whether it went up, to the server.
    pub up: bool,
    /// Whether it arrived a second time.
    pub doubled: bool,
    /// What it was.
    pub kind: MessageKind,
    /// Its size.
    pub bytes: u16,
    /// The tick it is about, from the base, if any.
    pub tick: Option<u32>,
}

/// What became of an input at the server.
#[derive(Clone, Copy, Debug)]
pub struct InputRow {
    /// When.
    pub at: LabTime,
    /// Whose.
    pub member: u16,
    /// For which tick, from the base.
    pub tick: u32,
    /// What.
    pub fate: InputFate,
}

/// A moment in an input's life.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InputFate {
    /// Its client put it on its way.
    Sampled,
    /// It arrived, so many quarter ticks early.
    Arrived(i16),
    /// Its tick was simulated, with it or with one made up.
    Used(Provenance),
}

/// What a client knows of its clock and link.
#[derive(Clone, Copy, Debug)]
pub struct ClockRow {
    /// When.
    pub at: LabTime,
    /// Whose.
    pub member: u16,
    /// Newest own tick minus the newest acknowledged.
    pub behind: i32,
    /// Round trip, mean, in microseconds.
    pub rtt_us: u32,
    /// Round trip, deviation, in microseconds.
    pub rtt_sigma_us: u32,
    /// Margin reported, in quarter ticks.
    pub margin: Option<i8>,
    /// View delay in microseconds.
    pub view_delay_us: u32,
}

/// Something that happens seldom.
#[derive(Clone, Copy, Debug)]
pub struct HappeningRow {
    /// When.
    pub at: LabTime,
    /// At which machine.
    pub machine: Machine,
    /// In that machine's tick, from the base, if it had one.
    pub tick: Option<u32>,
    /// What.
    pub what: Happening,
}

/// What happened.
#[derive(Clone, Copy, Debug)]
pub enum Happening {
    /// A client rewrote its present. Ticks inside count from the base.
    Corrected(Correction),
    /// The guard accused the member. Ticks inside count from the base.
    Verdict(Verdict),
    /// A gap was bridged without an accusation.
    Resync,
    /// Ticks were passed over: how many.
    Dropped(u64),
    /// So many datagrams that had arrived were thrown away unread: the socket was full.
    Overrun(u64),
    /// The tick clock was set by so many nanoseconds.
    ClockSet(i64),
    /// A client joined.
    Joined,
    /// The server pushed the member's entity before this tick.
    Pushed,
    /// The machine stands still for so long.
    Frozen(LabTime),
    /// Hands that had rested moved something.
    Pressed,
    /// A rogue began a trick that lasts so long, or ended one.
    Trick {
        /// `None` at the end.
        lasts: Option<LabTime>,
    },
    /// The first tick of a rogue's trick that came out otherwise than its rule would have it.
    Offence,
    /// A step came out non-finite in this field.
    StepFault(&'static str),
    /// Somebody turned something.
    Command(Command),
}

/// A slice of the rail shows the worst of these, in this order of priority.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Mark {
    /// A datagram was lost.
    Lost,
    /// An input was made up.
    MadeUp,
    /// An input came late.
    Late,
    /// A correction.
    Corrected,
    /// A verdict.
    Verdict,
}

/// Something for the rail.
#[derive(Clone, Copy, Debug)]
pub struct MarkRow {
    /// When.
    pub at: LabTime,
    /// At which member.
    pub member: u16,
    /// In which tick, from the base.
    pub tick: u32,
    /// What.
    pub mark: Mark,
}
