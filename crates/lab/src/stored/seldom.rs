//! What happens seldom: written whole, in blocks as in rows.

use serde::{Deserialize, Serialize};
use velocitas_core::{Fact, SolidId};

use velocitas_record::ids::{MachineId, Part, RecordTick};
use velocitas_record::known::{Changed, Reach};
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, HappeningRow};

/// What happens seldom: written whole.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) enum Seldom {
    /// In a client or the server.
    Fact(LabTime, MachineId, Part, Fact),
    /// What the lab did.
    Happening(MachineId, HappeningRow),
    /// Machines will know something else.
    Changed { at: LabTime, tick: RecordTick, reach: Reach, what: ChangeNote },
    /// A machine was told why it is not let in.
    Refused(LabTime, MachineId, String),
    /// It came to its end: with the digest of everything, and the number of datagrams that could not be read.
    Ended(LabTime, u64, u64),
}

impl Seldom {
    /// What is kept of a machine.
    pub(crate) const fn of(machine: MachineId, row: HappeningRow) -> Self {
        match row.what {
            Happening::Fact(fact) => Self::Fact(row.at, machine, row.part, fact),
            _ => Self::Happening(machine, row),
        }
    }
}

/// A change; the text of a rule that was read again is among the lines of the take.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) enum ChangeNote {
    Tuned { kind: u8, tunable: String, value: f32 },
    Reloaded { kind: u8, version: u16 },
    Solid { solid: SolidId, there: bool },
}

impl ChangeNote {
    pub(crate) fn of(what: &Changed) -> Self {
        match *what {
            Changed::Tuned { kind, tunable, value } => Self::Tuned { kind, tunable: tunable.to_owned(), value },
            Changed::Reloaded { kind, version, .. } => Self::Reloaded { kind, version },
            Changed::Solid { solid, there } => Self::Solid { solid, there },
        }
    }
}
