//! A laboratory for netcode: the real client and server in virtual time, over simulated links.
//!
//! Begin with [`Course`] (what is run) and [`Run`] (running it, stopping, going back). What happens is told to a
//! [record](velocitas_record), and questions about it are answered by [analysis](velocitas_analysis). No terminal and no chart is known
//! here, and no clock: real time only decides how far somebody calls [`Run::advance`].
//!
//! From the lowest up:

// Luck, and what it does to links and frames.
pub mod chance;
mod frames;
mod link;
mod links;
mod spells;

// Who plays, and what each gets wrong or bends.
mod bystander;
mod cheat;
mod faults;
mod faulty;
mod hands;
mod naive;
mod opened;
pub mod track;

// What is run.
mod course;
mod profile;
mod reread;
mod stepped;

// Running it.
mod agenda;
mod ending;
mod lab;
mod machine;
mod run;
mod screen;
mod tap;

// Keeping it, and reading it again.
mod absent;
pub mod export;
mod seal;
pub mod stored;
pub mod take;

// Running it again to find something out.
pub mod diagnose;
#[doc(hidden)]
pub mod fuzz;
pub mod many;
pub mod packet;
pub mod vary;

pub use cheat::{Answered, CHEATS, Cheat, CheatSpec, Does, Post, Whose};
pub use course::{
    ALLOWED, COMINGS, Course, CourseError, DEMO, DEMO_FILE, GAITS, GuardSpec, Happens, Member, Override, Owned, Saved,
    Sources, Thing, Trick, What, nearest, shipped_gait,
};
pub use hands::{Given, Script, Stroke, Strokes, Waypoint};
pub use lab::Lab;
pub use naive::{Fails, NAIVE, NaiveSpec};
pub use profile::{PROFILES, Profile};
pub use reread::{ReadLater, ReadRule, ReloadError};
pub use run::{AgainError, Follow, Keep, LEAST_KEPT, Run, RunError, Told};
pub use stepped::Physics;
