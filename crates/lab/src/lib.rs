//! A laboratory for netcode: the real client and server in virtual time, over simulated links, all of it recorded.
//!
//! Begin with [`Course`] (what is run), [`Run`] (running it, stopping, going back), [`record`] (what happened),
//! [`cause`] (why) and [`metrics`] (how much). No terminal and no chart is known here, and no clock: real time only
//! ever decides how far somebody calls [`Run::advance`].

mod absent;
mod agenda;
mod bystander;
pub mod chance;
mod cheat;
mod course;
pub mod diagnose;
pub mod export;
mod faults;
mod faulty;
mod frames;
#[doc(hidden)]
pub mod fuzz;
mod hands;
mod lab;
mod link;
mod links;
mod machine;
pub mod many;
mod naive;
pub mod packet;
mod profile;
mod reread;
mod run;
mod screen;
mod spells;
pub mod stored;
pub mod take;
mod tap;
pub mod track;

pub use velocitas_analysis::{
    FAULTS, Fate, Fault, FaultSpec, amiss, budget, cause, compare, crossing, fate, follow, lane, lawful, metrics,
    moment, nearness, slices, trouble,
};
use velocitas_analysis::{fault, stirs};
pub use velocitas_record::{
    ActorId, Acts, Calm, Change, Changed, Command, Conditions, Controls, DrawnFact, Happening, HappeningRow, HostSpec,
    KNOBS, Knob, KnobSpec, KnobValue, Knobs, Known, LabTime, MachineId, MemberId, MessageRow, Part, Place, Range,
    Reach, RecordTick, SETTINGS, Screen, Sound, Sudden, Takes, Trace, TraceError, TraceNumber, Unrecorded, Watch,
    record, turned,
};
use velocitas_record::{addresses, command, controls, host, ids, knob, known, role, texts, time, trace, watch, world};

pub use cheat::{Answered, CHEATS, Cheat, CheatSpec, Does, Post, Whose};
pub use course::{
    ALLOWED, COMINGS, Coming, Course, CourseError, DEMO, DEMO_FILE, GAITS, GaitFile, GuardSpec, Happens, KnownTo,
    Material, Member, NamedFile, NamedSolid, NamedZone, Override, Owned, Role, Saved, Sources, Thing, Trick, What,
    World, nearest, shipped_gait,
};
pub use hands::{Given, Script, Stroke, Strokes, Waypoint};
pub use lab::Lab;
pub use metrics::{Measured, Totals};
pub use naive::{Fails, NAIVE, NaiveSpec};
pub use profile::{PROFILES, Profile};
pub use reread::{ReadLater, ReadRule, ReloadError};
pub use run::{AgainError, Follow, Keep, LEAST_KEPT, Run, RunError, Told};
