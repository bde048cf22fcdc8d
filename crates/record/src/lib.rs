//! What was seen of a run: who is who, what was set and commanded, and what every machine told, in a [`Record`].
//!
//! Nothing here runs anything. Whoever runs something tells a [`Watch`]; a [`Recorder`](record::Recorder) is one and makes a record of it.
//!
//! From the lowest up:

// Numbers and names.
mod coder;
pub mod ids;
pub mod quantity;
pub mod texts;
pub mod time;

// Where and under which conditions.
pub mod addresses;
pub mod conditions;
pub mod host;
pub mod role;
pub mod trace;
pub mod world;

// What can be set and commanded.
pub mod choice;
pub mod command;
pub mod controls;
pub mod knob;
pub mod known;
pub mod settings;

// What is told, and what is made of it.
pub mod record;
pub mod screen;
pub mod watch;

pub use choice::{Choice, MISSING, REDUNDANCY, listed};
pub use command::{Calm, Command, Sudden};
pub use conditions::{Conditions, TraceNumber};
pub use controls::{Acts, Controls};
pub use host::HostSpec;
pub use ids::{ActorId, MachineId, MemberId, Part, RecordTick};
pub use knob::{Accessor, KnobValue, Knobs, Range, Sound};
pub use known::{Change, Changed, Known, Reach, turned};
pub use quantity::Takes;
pub use record::Record;
pub use role::{Coming, Role};
pub use screen::{DrawnFact, Screen};
pub use settings::{Group, KNOBS, Knob, KnobSpec, SETTINGS};
pub use texts::{GaitFile, NamedFile};
pub use time::LabTime;
pub use trace::{DelayTrace, TraceError};
pub use watch::{Happening, HappeningRow, MessageRow, Unrecorded, Watch};
pub use world::{KnownTo, Material, NamedSolid, NamedZone, World};
