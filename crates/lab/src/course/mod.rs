//! Something to run: the ground, the cast, the links between them, what happens when.
//!
//! A course is read strictly: unknown keys, wrong units, people in walls and names used twice are errors that say
//! where. What comes out of [`Course::parse`] can be run without further questions.

mod allowed;
mod budget;
mod cast;
mod comings;
mod edited;
mod error;
mod file;
mod guard;
mod hands;
mod pair;
mod resolve;
mod rules;
mod saved;
mod script;
mod settings;
mod suspicion;

pub use error::{CourseError, nearest};
pub use guard::{ALLOWED, GuardSpec};
pub use saved::Saved;

pub use velocitas_record::role::{Coming, Role};
pub use velocitas_record::texts::{GaitFile, NamedFile};
pub use velocitas_record::world::{KnownTo, Material, NamedSolid, NamedZone, World};

use std::cell::RefCell;
use std::ops::Index;
use std::sync::Arc;

use velocitas_analysis::budget::{Accused, Check, Limit};
use velocitas_analysis::fault::Fault;
use velocitas_core::walker::Walker;
use velocitas_core::{Arrangement, Ground, Kinds, Motion, Patience, Rate, SolidId, State, Vec3};
use velocitas_record::Conditions;
use velocitas_record::host::HostSpec;
use velocitas_record::ids::{MachineId, MemberId};
use velocitas_record::knob::{Accessor, Knobs};
use velocitas_record::known::Known;
use velocitas_record::settings::Knob;
use velocitas_record::time::LabTime;
use velocitas_record::trace::DelayTrace;

use crate::cheat::Cheat;
use crate::hands::Script;
use crate::stepped::{Physics, Stepped};

/// The demo course.
pub const DEMO: &str = include_str!("../../courses/lampwick-quay.course.toml");
/// A course of comings and goings.
pub const COMINGS: &str = include_str!("../../courses/comings-and-goings.course.toml");
/// The gaits that ship, by file name.
pub const GAITS: [(&str, &str); 6] = [
    ("barge.gait", include_str!("../../gaits/barge.gait")),
    ("courier.gait", include_str!("../../gaits/courier.gait")),
    ("crane.gait", include_str!("../../gaits/crane.gait")),
    ("ferry.gait", include_str!("../../gaits/ferry.gait")),
    ("handcart.gait", include_str!("../../gaits/handcart.gait")),
    ("walker.gait", include_str!("../../gaits/walker.gait")),
];

/// The text of a gait that ships, whatever folder it is said to lie in.
pub fn shipped_gait(path: &str) -> Result<String, String> {
    let name = path.rsplit(['/', '\\']).next().unwrap_or(path);
    let found = GAITS.iter().find(|(shipped, _)| *shipped == name);
    found.map(|(_, text)| (*text).to_owned()).ok_or_else(|| "no gait of that name ships with the program".to_owned())
}

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
    /// The same rules as they are where physics is stepped once a tick.
    pub plain: Vec<Arc<dyn Motion>>,
    /// How often physics is stepped, if not once a tick.
    pub physics: Option<Physics>,
    /// Those of them that were read from files.
    pub gaits: Vec<GaitFile>,
    /// Tunables that the course sets otherwise than the rules do.
    pub overrides: Vec<Override>,
    /// The server's machine.
    pub server: HostSpec,
    /// Where it is.
    pub world: Arc<World>,
    /// What was recorded of links, for those that follow it.
    pub traces: Arc<[DelayTrace]>,
    /// How long the server waits for a silent player.
    pub patience: Patience,
    /// What the server's guard looks at and answers.
    pub guard: GuardSpec,
    /// Who takes part, in the order of the file.
    pub cast: Vec<Member>,
    /// What is in the world besides.
    pub things: Vec<Thing>,
    /// What happens.
    pub events: Vec<Happens>,
    /// What is allowed to whom, in the order of the cast.
    pub limits: Vec<Limit>,
    /// Who is meant to be accused, by what, in the order of the file.
    pub accused: Vec<Accused>,
    /// How it is checked.
    pub check: Check,
    /// What is probably not meant, each with its place.
    pub warnings: Vec<CourseError>,
    /// What its file said.
    pub text: Arc<str>,
    /// The files that it names, and what they said: with them it can be read again wherever it is.
    pub files: Arc<[NamedFile]>,
}

impl Course {
    /// A rule as it is stepped here.
    pub(crate) fn stepped(&self, rule: Arc<dyn Motion>) -> Arc<dyn Motion> {
        Stepped::of(rule, self.physics)
    }
}

/// A tunable set to another value than its rule has.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Override {
    /// The number of the rule.
    pub kind: u8,
    /// Which, in the order of the rule.
    pub tunable: usize,
    /// To what, in SI units.
    pub value: f32,
    /// Who knows of it.
    pub known_to: KnownTo,
}

/// What a course is read with, besides its own text.
#[derive(Clone, Copy)]
pub struct Sources<'a> {
    /// Rules written in Rust, to be named by `rule = …`.
    pub own: &'a [Arc<dyn Motion>],
    /// Gives the text of a gait or a track by the path that the course names, or says why it cannot.
    pub read: &'a dyn Fn(&str) -> Result<String, String>,
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
    /// Whether it is there from the beginning.
    pub there: bool,
    /// Its machine.
    pub host: HostSpec,
    /// Whether that machine decides as well.
    pub hosts: bool,
    /// The name of its link in the file, if it has one.
    pub link: Option<String>,
    /// Its link and settings.
    pub knobs: Knobs,
    /// What its hands do by themselves.
    pub script: Script,
    /// How it cheats.
    pub tricks: Vec<Trick>,
    /// What its program gets wrong.
    pub faults: Vec<Fault>,
}

/// Something in the world that nobody comes or goes with.
#[derive(Clone, Debug)]
pub struct Thing {
    /// As shown.
    pub name: String,
    /// The number of its rule.
    pub kind: u8,
    /// Where it begins.
    pub at: Vec3,
    /// Where it looks then, in radians.
    pub facing: f32,
    /// Who gives it orders at the beginning: nobody, one, or several.
    pub owners: Vec<MemberId>,
}

/// A way to cheat and when.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Trick {
    /// Which.
    pub cheat: Cheat,
    /// From when.
    pub at: LabTime,
    /// For how long; what happens once does not last.
    pub lasts: LabTime,
    /// The time between repetitions, if it repeats.
    pub every: Option<LabTime>,
}

/// Something that happens to a machine or an entity.
#[derive(Clone, Debug, PartialEq)]
pub struct Happens {
    /// When.
    pub at: LabTime,
    /// The time between repetitions, if it repeats.
    pub every: Option<LabTime>,
    /// What.
    pub what: What,
}

impl Happens {
    /// When it happens next after a moment, if it does.
    pub fn next_after(&self, now: LabTime) -> Option<LabTime> {
        if self.at > now {
            return Some(self.at);
        }
        let every = self.every.filter(|every| every.0 > 0)?;
        let times = now.minus(self.at).0 / every.0 + 1;
        Some(self.at.plus(LabTime(every.0.saturating_mul(times))))
    }
}

/// What happens.
#[derive(Clone, Debug, PartialEq)]
pub enum What {
    /// A member of the cast is pushed, at the server only.
    Push(MemberId, Vec3),
    /// A member of the cast is put elsewhere, by the server.
    Teleport(MemberId, Vec3),
    /// The link of a member changes: what is set anew, up and down.
    Link(MemberId, Turned),
    /// Tunables of a rule are turned, on these sides.
    Tune(Vec<Override>),
    /// A solid is known to these sides from then on.
    Ground(SolidId, KnownTo),
    /// A machine (`None`: the one that decides) stands still for so long.
    Freeze(Option<MemberId>, LabTime),
    /// A member of the cast comes or goes.
    Moves(MemberId, Coming),
    /// Something changes hands: who gives it orders from then on.
    Own(Owned, Vec<MemberId>),
}

/// What of a link is set anew.
#[derive(Clone, Debug, PartialEq)]
pub struct Turned {
    /// On the way up: settings of links, each with its value as it is kept.
    pub up: Vec<(Knob, f64)>,
    /// On the way down.
    pub down: Vec<(Knob, f64)>,
}

impl Turned {
    /// Sets it.
    pub(crate) fn apply(&self, up: &mut Conditions, down: &mut Conditions) {
        for (way, settings) in [(up, &self.up), (down, &self.down)] {
            for (knob, x) in settings {
                if let Accessor::Link { set, .. } = knob.spec().accessor {
                    set(way, *x);
                }
            }
        }
    }
}

/// What can change hands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Owned {
    /// What came with a member of the cast.
    Body(MemberId),
    /// A thing of the world, by its place in the file.
    Thing(usize),
}

impl Course {
    /// What it tells a side of rules and ground.
    pub fn known(&self, side: KnownTo) -> Known {
        let solids = self.world.solids.iter().map(|solid| solid.known_to.includes(side)).collect();
        Known::new(self.kinds.clone(), self.tunables(side), self.world.clone(), solids)
    }

    /// Reads a course that uses the built-in rule, those given, and the gaits that ship with the program.
    ///
    /// # Errors
    /// The first mistake, with its place in the text.
    pub fn parse(file: &str, text: &str, own: &[Arc<dyn Motion>]) -> Result<Self, CourseError> {
        Self::parse_with(file, text, Sources { own, read: &shipped_gait })
    }

    /// What a course file may hold, as a JSON Schema for editors (draft 2020-12).
    pub fn schema() -> String {
        let mut schema = schemars::schema_for!(file::File).to_value();
        // The draft is named by a web address; editors assume the newest without it.
        if let Some(all) = schema.as_object_mut() {
            all.remove("$schema");
        }
        schema["title"] = "A Velocitas course".into();
        format!("{schema:#}\n")
    }

    /// Reads a course whose gaits come from elsewhere.
    ///
    /// # Errors
    /// The first mistake, with its place in the text; mistakes in a gait are all listed.
    pub fn parse_with(file: &str, text: &str, sources: Sources<'_>) -> Result<Self, CourseError> {
        let read: file::File = toml::from_str(text).map_err(|e| CourseError::from_toml(file, text, &e))?;
        let mut rules: Vec<Arc<dyn Motion>> = vec![Arc::new(Walker::new())];
        rules.extend(sources.own.iter().cloned());
        let files = RefCell::new(Vec::<NamedFile>::new());
        let reader = |path: &str| {
            let said = (sources.read)(path)?;
            let mut files = files.borrow_mut();
            if files.iter().all(|file| file.path != path) {
                files.push(NamedFile { path: path.to_owned(), text: said.clone() });
            }
            Ok(said)
        };
        let mut course = resolve::Resolver { file, text, rules, read: &reader }.course(&read)?;
        course.warnings = suspicion::suspicions(file, text, &read, &course);
        course.text = text.into();
        course.files = files.into_inner().into();
        Ok(course)
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
        self.world.ground(side)
    }

    /// A solid by its id; `None` for the floor and the edge of the world.
    pub fn solid(&self, id: SolidId) -> Option<&NamedSolid> {
        self.world.solids.get(usize::from(id.0))
    }

    /// For each rule its tunables as a side knows them, in SI units.
    pub fn tunables(&self, side: KnownTo) -> Vec<Vec<f32>> {
        let mut all = self.kinds.defaults();
        for o in self.overrides.iter().filter(|o| o.known_to == KnownTo::All || o.known_to == side) {
            all[usize::from(o.kind)][o.tunable] = o.value;
        }
        all
    }

    /// The file that a rule was read from, if it was.
    pub fn gait_file(&self, kind: u8) -> Option<&GaitFile> {
        self.gaits.iter().find(|g| g.kind == kind)
    }

    /// A rule in Rust that is not in this program, if there is one: a record of the course may be looked at, and it cannot be run.
    pub fn absent(&self) -> Option<&str> {
        self.kinds.iter().find(|(_, rule)| !rule.is_here()).map(|(_, rule)| rule.name())
    }

    /// A member of the cast by name.
    pub fn member(&self, name: &str) -> Option<MemberId> {
        self.members().find(|member| self[*member].name == name)
    }

    /// All members of the cast.
    pub fn members(&self) -> impl DoubleEndedIterator<Item = MemberId> + ExactSizeIterator + Clone + use<> {
        MemberId::all(self.cast.len())
    }

    /// Who hosts, if a member does.
    fn host(&self) -> Option<MemberId> {
        self.members().find(|member| self[*member].hosts)
    }

    /// The machines with their names: first the one that decides, of its own or a member's, then those of everybody else.
    pub fn machines(&self) -> impl Iterator<Item = (&str, HostSpec)> {
        let host = self.host();
        let deciding = host.map_or(("server", self.server), |host| (self[host].name.as_str(), self[host].host));
        let others = self.members().filter(move |member| Some(*member) != host);
        std::iter::once(deciding).chain(others.map(|member| (self[member].name.as_str(), self[member].host)))
    }

    /// The machine of a member.
    pub fn machine(&self, member: MemberId) -> MachineId {
        let host = self.host();
        if host == Some(member) {
            return MachineId::SERVER;
        }
        let before = self.members().filter(|other| *other < member && Some(*other) != host).count();
        MachineId::after(before + 1)
    }

    /// The member who plays on a machine.
    pub fn player(&self, machine: MachineId) -> Option<MemberId> {
        self.members().find(|member| self.machine(*member) == machine)
    }

    /// How a member begins.
    pub fn spawn(&self, member: MemberId) -> State {
        let m = &self[member];
        self.kinds.motion(m.kind).spawn(m.spawn, m.facing)
    }
}

impl Index<MemberId> for Course {
    type Output = Member;

    fn index(&self, member: MemberId) -> &Member {
        &self.cast[member.index()]
    }
}

impl Member {
    /// One that stands at a place: for courses made in code.
    pub fn standing(name: &str, spawn: Vec3) -> Self {
        Self {
            name: name.to_owned(),
            role: Role::Bot,
            kind: 0,
            arrangement: Arrangement::SERVER,
            spawn,
            facing: 0.0,
            there: true,
            host: HostSpec::PERFECT,
            hosts: false,
            link: None,
            knobs: Knobs::USUAL,
            script: Script::default(),
            tricks: Vec::new(),
            faults: Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests;
