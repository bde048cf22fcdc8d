//! What reaches into a run from outside: keys, the helm, knobs. Only as timestamped, recorded commands, so that course,
//! seed and commands give the same run again.

use serde::{Deserialize, Serialize};
use velocitas_core::names::Name;
use velocitas_core::{Rule, SolidId, Vec3};

use crate::controls::Controls;
use crate::ids::MemberId;
use crate::knob::KnobValue;
use crate::known::Reach;
use crate::role::Coming;
use crate::settings::Knob;
use crate::time::LabTime;

/// What can happen to a member at once.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub enum Sudden {
    /// It is pushed, at the server only, in metres a second. Who moves itself is not.
    Push(Vec3),
    /// The server puts it elsewhere. Who moves itself is not moved.
    Teleport(Vec3),
    /// Its machine stands still for so long.
    Freeze(LabTime),
}

impl Sudden {
    /// One word, for programs.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Push(_) => "push",
            Self::Teleport(_) => "teleport",
            Self::Freeze(_) => "freeze",
        }
    }
}

/// What from now on no longer goes wrong, whatever the course has in store.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Calm {
    /// The way up of a member's link: everything arrives at once.
    Up(MemberId),
    /// The way down.
    Down(MemberId),
    /// A machine's frames: no hitches and no freezes. `None`: of the one that decides.
    Frames(Option<MemberId>),
    /// Nobody is pushed or put elsewhere.
    Pushes,
    /// What events let one side know of a solid, all get to know.
    Solid(SolidId),
    /// What events make of a tunable on one side, they make of it on all.
    Tunable {
        /// The number of the rule.
        kind: u8,
        /// Which, by name.
        #[serde(with = "velocitas_core::names")]
        tunable: Name,
    },
    /// Nothing changes hands.
    Hands,
    /// Events leave a member's link as it is: this knob of it, or all.
    Link(MemberId, Option<Knob>),
}

impl Calm {
    /// One word, for programs.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Up(_) => "up",
            Self::Down(_) => "down",
            Self::Frames(_) => "frames",
            Self::Pushes => "pushes",
            Self::Solid(_) => "solid",
            Self::Tunable { .. } => "tunable",
            Self::Hands => "hands",
            Self::Link(..) => "link",
        }
    }

    /// Whose it is, if it is one member's.
    pub const fn member(self) -> Option<MemberId> {
        match self {
            Self::Up(member) | Self::Down(member) | Self::Link(member, _) => Some(member),
            Self::Frames(member) => member,
            Self::Pushes | Self::Hands | Self::Solid(_) | Self::Tunable { .. } => None,
        }
    }
}

/// Something done to a run.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub enum Command {
    /// What the keyboard says, for the member at the helm.
    Keys(Controls),
    /// The keyboard takes over this member of the cast, or gives back to the script.
    Helm(Option<MemberId>),
    /// A member of the cast comes or goes.
    Moves(MemberId, Coming),
    /// What a member's program gets wrong is put right, and it is started anew.
    Mend(MemberId),
    /// Something happens to a member, as an event of a course would have it.
    Happens(MemberId, Sudden),
    /// Something no longer goes wrong from now on.
    Calm(Calm),
    /// A knob of one member of the cast is set.
    Set {
        /// Whose.
        member: MemberId,
        /// Which knob.
        knob: Knob,
        /// To what.
        value: KnobValue,
    },
    /// A tunable of a rule is turned.
    Tune {
        /// The number of the rule.
        kind: u8,
        /// Which, by name.
        #[serde(with = "velocitas_core::names")]
        tunable: Name,
        /// To what, in SI units.
        value: f32,
        /// On which machines.
        reach: Reach,
    },
    /// A solid of the course is there, or no more.
    Solid {
        /// Which.
        solid: SolidId,
        /// Whether it is there from then on.
        there: bool,
        /// On which machines.
        reach: Reach,
    },
    /// So many times of what a rule of the guard says is allowed: see [`velocitas_core::Policy::allowed`].
    Allow {
        /// By which rule.
        rule: Rule,
        /// So many times, 1 for what it says.
        times: f32,
    },
    /// A rule that was read again takes the place of the one in force. Whoever runs something makes it, once it has found that the rule fits.
    Reload {
        /// The number of the rule.
        kind: u8,
        /// Which of those read, from 1.
        version: u16,
        /// On which machines.
        reach: Reach,
    },
    /// A course that was saved takes the place of the one in force: its events, links and settings.
    TakeOver {
        /// Which of those read, from 1.
        version: u16,
    },
}

impl Command {
    /// The member of the cast that it speaks of, if of one.
    pub const fn member(&self) -> Option<MemberId> {
        match *self {
            Self::Helm(member) => member,
            Self::Moves(member, _) | Self::Mend(member) | Self::Happens(member, _) | Self::Set { member, .. } => {
                Some(member)
            }
            Self::Calm(calm) => calm.member(),
            Self::Keys(_)
            | Self::Tune { .. }
            | Self::Solid { .. }
            | Self::Allow { .. }
            | Self::Reload { .. }
            | Self::TakeOver { .. } => None,
        }
    }
}
