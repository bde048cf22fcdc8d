//! A laboratory for netcode: the real client and server in virtual time, over simulated links, all of it recorded.
//!
//! Begin with [`Course`] (what is run), [`Run`] (running it, stopping, going back), [`record`] (what happened),
//! [`cause`] (why) and [`metrics`] (how much). No terminal and no chart is known here, and no clock: real time only
//! ever decides how far somebody calls [`Run::advance`].

mod absent;
mod addresses;
mod agenda;
pub mod amiss;
pub mod budget;
mod bystander;
pub mod cause;
pub mod chance;
mod cheat;
mod command;
pub mod compare;
mod controls;
mod course;
pub mod crossing;
pub mod diagnose;
pub mod export;
mod fate;
mod fault;
mod faults;
pub mod follow;
#[doc(hidden)]
pub mod fuzz;
mod hands;
mod host;
mod ids;
mod knob;
mod known;
mod lab;
pub mod lane;
pub mod lawful;
mod link;
mod links;
mod machine;
pub mod many;
pub mod metrics;
pub mod moment;
mod naive;
pub mod nearness;
pub mod packet;
mod profile;
pub mod record;
mod reread;
mod role;
mod run;
mod samples;
mod screen;
pub mod slices;
mod spells;
mod stirs;
pub mod stored;
pub mod take;
mod tap;
mod texts;
mod time;
mod trace;
pub mod track;
pub mod trouble;
mod watch;
mod world;

pub use cheat::{Answered, CHEATS, Cheat, CheatSpec, Does, Post, Whose};
pub use command::{Calm, Command, Sudden};
pub use controls::{Acts, Controls};
pub use course::{
    ALLOWED, COMINGS, Coming, Course, CourseError, DEMO, DEMO_FILE, GAITS, GaitFile, GuardSpec, Happens, KnownTo,
    Material, Member, NamedFile, NamedSolid, NamedZone, Override, Owned, Role, Saved, Sources, Thing, Trick, What,
    World, nearest, shipped_gait,
};
pub use fate::{Fate, fate};
pub use fault::{FAULTS, Fault, FaultSpec};
pub use hands::{Given, Script, Stroke, Strokes, Waypoint};
pub use host::HostSpec;
pub use ids::{ActorId, MachineId, MemberId, Part, RecordTick};
pub use knob::{KNOBS, Knob, KnobSpec, KnobValue, Knobs, Place, Range, SETTINGS, Sound, Takes};
pub use known::{Change, Changed, Known, Reach, turned};
pub use lab::Lab;
pub use link::{Conditions, TraceNumber};
pub use metrics::{Measured, Totals};
pub use naive::{Fails, NAIVE, NaiveSpec};
pub use profile::{PROFILES, Profile};
pub use reread::{ReadLater, ReadRule, ReloadError};
pub use run::{AgainError, Follow, Keep, LEAST_KEPT, Run, RunError, Told};
pub use screen::{DrawnFact, Screen};
pub use time::LabTime;
pub use trace::{Trace, TraceError};
pub use watch::{Happening, HappeningRow, MessageRow, Unrecorded, Watch};
