//! What reaches into a run from outside: keys, the helm, knobs. Only as timestamped, recorded commands, so that course,
//! seed and commands give the same run again.

use crate::controls::Controls;
use crate::course::Coming;
use crate::ids::MemberId;
use crate::knob::{Knob, KnobValue};
use crate::known::Reach;

/// Something done to a run.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Command {
    /// What the keyboard says, for the member at the helm.
    Keys(Controls),
    /// The keyboard takes over this member of the cast, or gives back to the script.
    Helm(Option<MemberId>),
    /// A member of the cast comes or goes.
    Moves(MemberId, Coming),
    /// What a member's program gets wrong is put right, and it is started anew.
    Mend(MemberId),
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
        tunable: &'static str,
        /// To what, in SI units.
        value: f32,
        /// On which machines.
        reach: Reach,
    },
    /// A rule that was read again takes the place of the one in force. Made by [`Run::reload`](crate::Run::reload).
    Reload {
        /// The number of the rule.
        kind: u8,
        /// Which of those read, from 1.
        version: u16,
        /// On which machines.
        reach: Reach,
    },
}
