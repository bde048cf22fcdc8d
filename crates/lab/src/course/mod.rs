//! Something to run: the ground, the cast, the links between them, what happens when.
//!
//! A course is read strictly: unknown keys, wrong units, people in walls and names used twice are errors that say
//! where. What comes out of [`Course::parse`] can be run without further questions.

mod error;
mod file;
mod quantity;
mod resolve;

pub use error::CourseError;

use std::sync::Arc;

use velocitas_core::walker::Walker;
use velocitas_core::{Arrangement, Bounds, ClientSettings, Ground, Kinds, Motion, Rate, Solid, SolidId, Vec3, Zone};

use crate::controls::Waypoint;
use crate::host::HostSpec;
use crate::knob::Knobs;
use crate::link::Conditions;
use crate::time::LabTime;

/// The demo course.
pub const DEMO: &str = include_str!("../../../../courses/lampwick-quay.course.toml");
/// Its file's name.
pub const DEMO_FILE: &str = "lampwick-quay.course.toml";

/// Something to run.
#[derive(Clone, Debug)]
pub struct Course {
    /// As shown.
    pub name: String,
    /// All luck comes from it.
    pub seed: u64,
    /// Ticks a second.
    pub rate: Rate,
    /// The number the count begins with.
    pub first_tick: u64,
    /// The rules in play.
    pub kinds: Kinds,
    /// The server's machine.
    pub server: HostSpec,
    /// Where it is.
    pub world: World,
    /// Who takes part, in the order of the file.
    pub cast: Vec<Member>,
    /// What happens.
    pub events: Vec<Happens>,
}

/// Where it is.
#[derive(Clone, Debug)]
pub struct World {
    /// Where it ends.
    pub bounds: Bounds,
    /// Boxes, by id.
    pub solids: Vec<NamedSolid>,
    /// Surfaces.
    pub zones: Vec<NamedZone>,
}

/// Who knows of a solid.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KnownTo {
    /// Everybody.
    All,
    /// The server only.
    Server,
    /// The clients only.
    Clients,
}

/// A solid with its name.
#[derive(Clone, Debug)]
pub struct NamedSolid {
    /// As shown.
    pub name: String,
    /// The solid.
    pub solid: Solid,
    /// Who knows of it.
    pub known_to: KnownTo,
}

/// What a zone is made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Material {
    /// Slows.
    Water,
    /// Has no grip.
    Ice,
    /// Only looks different.
    Planks,
}

/// A zone with its name.
#[derive(Clone, Debug)]
pub struct NamedZone {
    /// As shown.
    pub name: String,
    /// What it is.
    pub material: Material,
    /// The zone.
    pub zone: Zone,
}

/// How a member of the cast behaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// Meant for the keyboard; follows its route until somebody takes the helm.
    Helm,
    /// Follows its route.
    Bot,
    /// Follows its route and cheats.
    Rogue,
}

/// One of the cast.
#[derive(Clone, Debug)]
pub struct Member {
    /// As shown.
    pub name: String,
    /// How it behaves.
    pub role: Role,
    /// The number of its rule.
    pub kind: u8,
    /// Who decides where it is.
    pub arrangement: Arrangement,
    /// Where it begins.
    pub spawn: Vec3,
    /// Where it looks then, in radians.
    pub facing: f32,
    /// Its machine.
    pub host: HostSpec,
    /// Its link and settings.
    pub knobs: Knobs,
    /// Its script.
    pub route: Vec<Waypoint>,
    /// How it cheats.
    pub tricks: Vec<Trick>,
}

/// A way to cheat.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Cheat {
    /// Run so many times as fast.
    Run(f32),
    /// Jump so many metres ahead.
    Jump(f32),
    /// Walk through walls.
    Walls,
    /// Push the stick so many times as far as it goes.
    Overreach(f32),
}

/// A way to cheat and when.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Trick {
    /// Which.
    pub cheat: Cheat,
    /// From when.
    pub at: LabTime,
    /// For how long; a jump happens once.
    pub lasts: LabTime,
    /// Again after so long, if at all.
    pub every: Option<LabTime>,
}

/// Something that happens to a machine or an entity.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Happens {
    /// When.
    pub at: LabTime,
    /// Again after so long, if at all.
    pub every: Option<LabTime>,
    /// What.
    pub what: What,
}

/// What happens.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum What {
    /// A member of the cast is pushed, at the server only.
    Push(usize, Vec3),
    /// A machine (`None`: the server) stands still for so long.
    Freeze(Option<usize>, LabTime),
}

impl Course {
    /// Reads a course that uses the built-in rule and those given.
    ///
    /// # Errors
    /// The first mistake, with its place in the text.
    pub fn parse(file: &str, text: &str, own: &[Arc<dyn Motion>]) -> Result<Self, CourseError> {
        let read: file::File = toml::from_str(text).map_err(|e| CourseError::from_toml(file, text, &e))?;
        let mut rules: Vec<Arc<dyn Motion>> = vec![Arc::new(Walker::new())];
        rules.extend(own.iter().cloned());
        resolve::Resolver { file, text, rules }.course(read)
    }

    /// The demo course.
    ///
    /// # Panics
    /// Never: a test reads it.
    pub fn demo() -> Self {
        match Self::parse(DEMO_FILE, DEMO, &[]) {
            Ok(course) => course,
            Err(error) => panic!("the demo course is checked by a test: {error}"),
        }
    }

    /// The ground as the server or the clients know it.
    pub fn ground(&self, side: KnownTo) -> Ground {
        let known = |s: &&NamedSolid| s.known_to == KnownTo::All || s.known_to == side;
        Ground::new(
            self.world.bounds,
            self.world.solids.iter().filter(known).map(|s| s.solid).collect(),
            self.world.zones.iter().map(|z| z.zone).collect(),
        )
    }

    /// A solid by its id; `None` for the floor and the edge of the world.
    pub fn solid(&self, id: SolidId) -> Option<&NamedSolid> {
        self.world.solids.get(usize::from(id.0))
    }

    /// The fastest a member may lawfully go along the ground, in metres a second, without slack.
    pub fn lawful_pace(&self, member: usize) -> f32 {
        let motion = self.kinds.motion(self.cast[member].kind);
        let tunables: Vec<f32> = motion.tunables().iter().map(|t| t.default).collect();
        motion.limits(&tunables).level
    }

    /// The index of a member of the cast.
    pub fn member(&self, name: &str) -> Option<usize> {
        self.cast.iter().position(|m| m.name == name)
    }
}

impl Member {
    /// One that stands at a place: for courses made in code.
    pub fn standing(name: &str, spawn: Vec3) -> Self {
        Self {
            name: name.to_owned(),
            role: Role::Bot,
            kind: 0,
            arrangement: Arrangement::ServerAuthority,
            spawn,
            facing: 0.0,
            host: HostSpec::PERFECT,
            knobs: Knobs {
                up: Conditions::PERFECT,
                down: Conditions::PERFECT,
                settings: ClientSettings::DEFAULT,
                snapshot_every: 3,
            },
            route: Vec::new(),
            tricks: Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests;
