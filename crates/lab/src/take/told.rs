//! Commands as a take tells them: by names, in SI units, so that a person can read them and every bit comes back.

use serde::{Deserialize, Serialize};
use velocitas_core::{Input, RULES, SolidId, Vec3, vec3};
use velocitas_record::choice::listed;
use velocitas_record::command::{Calm, Command, Sudden};
use velocitas_record::controls::Controls;
use velocitas_record::ids::{MachineId, MemberId};
use velocitas_record::knob::KnobValue;
use velocitas_record::known::Reach;
use velocitas_record::settings::{Knob, SETTINGS};
use velocitas_record::time::LabTime;

use crate::course::{Coming, Course, nearest};
use crate::reread::ReadRule;

/// A number of 32 bits, written with as many digits as bring it back.
type Number = f64;

/// A command.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub(super) enum Told {
    /// What the keyboard says.
    Keys {
        stick: [Number; 2],
        facing: Number,
        #[serde(default, skip_serializing_if = "is_zero")]
        pitch: Number,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        order: Option<[Number; 3]>,
        /// Lanes of the input that are not zero, each with its 32 bits.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        given: Vec<(usize, u32)>,
    },
    /// The keyboard takes over, or gives back.
    Helm {
        who: Option<String>,
    },
    Join {
        who: String,
    },
    Leave {
        who: String,
    },
    Crash {
        who: String,
    },
    Return {
        who: String,
    },
    Mend {
        who: String,
    },
    Push {
        who: String,
        by_mps: [Number; 3],
    },
    Teleport {
        who: String,
        to_m: [Number; 3],
    },
    Freeze {
        who: String,
        for_ns: u64,
    },
    /// A link, one way, is perfect from now on.
    CalmUp {
        who: String,
    },
    CalmDown {
        who: String,
    },
    /// Frames come evenly: of a member's machine, or of the one that decides.
    CalmFrames {
        who: Option<String>,
    },
    CalmPushes {},
    /// Nothing changes hands.
    CalmHands {},
    /// Events tell all of what they tell one side: of a solid, of a tunable.
    CalmSolid {
        name: String,
    },
    CalmTunable {
        rule: String,
        tunable: String,
    },
    /// Events leave a link as it is: one setting of it, or all.
    CalmLink {
        who: String,
        setting: Option<String>,
    },
    Set {
        who: String,
        /// Its key in courses.
        setting: String,
        to: Value,
    },
    Tune {
        rule: String,
        tunable: String,
        to: Number,
        at: Machines,
    },
    Solid {
        name: String,
        there: bool,
        at: Machines,
    },
    Reload {
        rule: String,
        version: u16,
        at: Machines,
    },
    Allow {
        /// By its name.
        rule: String,
        times: Number,
    },
    TakeOver {
        version: u16,
    },
}

/// Which machines.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub(super) enum Machines {
    All,
    /// By its name.
    One(String),
}

/// What a setting is set to, in its unit.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub(super) enum Value {
    Auto,
    Number(f64),
    Switch(bool),
    /// One way among several, by its name.
    Choice(String),
}

impl Value {
    fn of(knob: Knob, value: KnobValue) -> Self {
        match value {
            KnobValue::Auto => Self::Auto,
            KnobValue::Number(x) => Self::Number(x),
            KnobValue::Switch(on) => Self::Switch(on),
            KnobValue::Choice(_) => Self::Choice(knob.chosen(value).map_or("", |choice| choice.name).to_owned()),
        }
    }

    fn value(&self, knob: Knob) -> Result<KnobValue, String> {
        Ok(match self {
            Self::Auto => KnobValue::Auto,
            Self::Number(x) => KnobValue::Number(*x),
            Self::Switch(on) => KnobValue::Switch(*on),
            Self::Choice(word) => {
                let expected = || format!("expected {}; found `{word}`", listed(knob.choices()));
                return knob.named(word).ok_or_else(expected);
            }
        })
    }
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks for it")]
fn is_zero(x: &Number) -> bool {
    // Minus zero is told.
    x.to_bits() == 0
}

fn three(v: Vec3) -> [Number; 3] {
    [v.x, v.y, v.z].map(Number::from)
}

fn vector([x, y, z]: [Number; 3]) -> Result<Vec3, String> {
    Ok(vec3(real(x)?, real(y)?, real(z)?))
}

/// A number that 32 bits hold: what is beyond them would be none.
fn real(x: Number) -> Result<f32, String> {
    let narrow = x as f32;
    if narrow.is_finite() { Ok(narrow) } else { Err(format!("expected a number of 32 bits; found {x}")) }
}

impl Told {
    /// A command as it is told; `course` is the one that the run began with.
    pub(super) fn of(command: &Command, course: &Course) -> Self {
        let name = |member: MemberId| course[member].name.clone();
        let rule = |kind: u8| course.kinds.motion(kind).name().to_owned();
        match *command {
            Command::Keys(keys) => Self::Keys {
                stick: [keys.stick.0.into(), keys.stick.1.into()],
                facing: keys.facing.into(),
                pitch: keys.pitch.into(),
                order: keys.order.map(three),
                given: keys.given.bits().iter().copied().enumerate().filter(|(_, bits)| *bits != 0).collect(),
            },
            Command::Helm(member) => Self::Helm { who: member.map(name) },
            Command::Moves(member, coming) => {
                let who = name(member);
                match coming {
                    Coming::Join => Self::Join { who },
                    Coming::Leave => Self::Leave { who },
                    Coming::Crash => Self::Crash { who },
                    Coming::Return => Self::Return { who },
                }
            }
            Command::Mend(member) => Self::Mend { who: name(member) },
            Command::Happens(member, what) => {
                let who = name(member);
                match what {
                    Sudden::Push(by) => Self::Push { who, by_mps: three(by) },
                    Sudden::Teleport(to) => Self::Teleport { who, to_m: three(to) },
                    Sudden::Freeze(lasts) => Self::Freeze { who, for_ns: lasts.0 },
                }
            }
            Command::Calm(calm) => Self::of_calm(calm, course),
            Command::Set { member, knob, value } => {
                Self::Set { who: name(member), setting: knob.spec().key.to_owned(), to: Value::of(knob, value) }
            }
            Command::Tune { kind, tunable, value, reach } => Self::Tune {
                rule: rule(kind),
                tunable: tunable.to_owned(),
                to: value.into(),
                at: Machines::of(reach, course),
            },
            Command::Solid { solid, there, reach } => {
                Self::Solid { name: solid_name(course, solid), there, at: Machines::of(reach, course) }
            }
            Command::Reload { kind, version, reach } => {
                Self::Reload { rule: rule(kind), version, at: Machines::of(reach, course) }
            }
            Command::Allow { rule, times } => Self::Allow { rule: rule.name().to_owned(), times: times.into() },
            Command::TakeOver { version } => Self::TakeOver { version },
        }
    }

    fn of_calm(calm: Calm, course: &Course) -> Self {
        let name = |member: MemberId| course[member].name.clone();
        match calm {
            Calm::Up(member) => Self::CalmUp { who: name(member) },
            Calm::Down(member) => Self::CalmDown { who: name(member) },
            Calm::Frames(member) => Self::CalmFrames { who: member.map(name) },
            Calm::Pushes => Self::CalmPushes {},
            Calm::Hands => Self::CalmHands {},
            Calm::Solid(solid) => Self::CalmSolid { name: solid_name(course, solid) },
            Calm::Tunable { kind, tunable } => {
                Self::CalmTunable { rule: course.kinds.motion(kind).name().to_owned(), tunable: tunable.to_owned() }
            }
            Calm::Link(member, knob) => {
                Self::CalmLink { who: name(member), setting: knob.map(|knob| knob.spec().key.to_owned()) }
            }
        }
    }

    /// The command; `rules` are those that were read before it.
    pub(super) fn command(&self, course: &Course, rules: &[(u8, ReadRule)]) -> Result<Command, String> {
        let member = |name: &String| member(course, name);
        Ok(match self {
            Self::Keys { stick, facing, pitch, order, given } => Command::Keys(Controls {
                stick: (real(stick[0])?, real(stick[1])?),
                facing: real(*facing)?,
                pitch: real(*pitch)?,
                order: order.map(vector).transpose()?,
                given: lanes(given)?,
            }),
            Self::Helm { who } => Command::Helm(who.as_ref().map(member).transpose()?),
            Self::Join { who } => Command::Moves(member(who)?, Coming::Join),
            Self::Leave { who } => Command::Moves(member(who)?, Coming::Leave),
            Self::Crash { who } => Command::Moves(member(who)?, Coming::Crash),
            Self::Return { who } => Command::Moves(member(who)?, Coming::Return),
            Self::Mend { who } => Command::Mend(member(who)?),
            Self::Push { who, by_mps } => Command::Happens(member(who)?, Sudden::Push(vector(*by_mps)?)),
            Self::Teleport { who, to_m } => Command::Happens(member(who)?, Sudden::Teleport(vector(*to_m)?)),
            Self::Freeze { who, for_ns } => Command::Happens(member(who)?, Sudden::Freeze(LabTime(*for_ns))),
            Self::CalmUp { who } => Command::Calm(Calm::Up(member(who)?)),
            Self::CalmDown { who } => Command::Calm(Calm::Down(member(who)?)),
            Self::CalmFrames { who } => Command::Calm(Calm::Frames(who.as_ref().map(member).transpose()?)),
            Self::CalmPushes {} => Command::Calm(Calm::Pushes),
            Self::CalmHands {} => Command::Calm(Calm::Hands),
            Self::CalmSolid { name } => Command::Calm(Calm::Solid(solid(course, name)?)),
            Self::CalmTunable { rule, tunable: named } => {
                let kind = kind(course, rule)?;
                Command::Calm(Calm::Tunable { kind, tunable: tunable(course, rules, (kind, named))? })
            }
            Self::CalmLink { who, setting } => {
                Command::Calm(Calm::Link(member(who)?, setting.as_deref().map(knob).transpose()?))
            }
            Self::Set { who, setting, to } => {
                let knob = knob(setting)?;
                Command::Set { member: member(who)?, knob, value: to.value(knob)? }
            }
            Self::Tune { rule, tunable: named, to, at } => {
                let kind = kind(course, rule)?;
                let tunable = tunable(course, rules, (kind, named))?;
                Command::Tune { kind, tunable, value: real(*to)?, reach: at.reach(course)? }
            }
            Self::Solid { name, there, at } => {
                Command::Solid { solid: solid(course, name)?, there: *there, reach: at.reach(course)? }
            }
            Self::Reload { rule, version, at } => {
                Command::Reload { kind: kind(course, rule)?, version: *version, reach: at.reach(course)? }
            }
            Self::Allow { rule, times } => {
                let found = RULES.iter().find(|spec| spec.name == rule && spec.rule.is_adjustable());
                let known = RULES.iter().filter(|spec| spec.rule.is_adjustable()).map(|spec| spec.name);
                let rule = found.ok_or_else(|| unknown("rule of the guard", rule, known))?.rule;
                Command::Allow { rule, times: real(*times)? }
            }
            Self::TakeOver { version } => Command::TakeOver { version: *version },
        })
    }
}

/// An input from its lanes that are not zero.
fn lanes(given: &[(usize, u32)]) -> Result<Input, String> {
    let mut input = Input::default();
    for (lane, bits) in given {
        if *lane >= input.bits().len() {
            return Err(format!("expected a lane below {}; found {lane}", input.bits().len()));
        }
        input.set_int(*lane, *bits);
    }
    Ok(input)
}

fn solid_name(course: &Course, solid: SolidId) -> String {
    course.solid(solid).map_or_else(String::new, |named| named.name.clone())
}

fn solid(course: &Course, name: &str) -> Result<SolidId, String> {
    let solids = &course.world.solids;
    let found = solids.iter().find(|solid| solid.name == *name).map(|named| named.solid.id);
    found.ok_or_else(|| unknown("solid", name, solids.iter().map(|s| s.name.as_str())))
}

fn knob(setting: &str) -> Result<Knob, String> {
    let spec = SETTINGS.iter().find(|spec| spec.key == setting);
    spec.map(|spec| spec.knob).ok_or_else(|| unknown("setting", setting, SETTINGS.iter().map(|spec| spec.key)))
}

/// A tunable of a rule, or of one that took its place.
fn tunable(course: &Course, rules: &[(u8, ReadRule)], (kind, name): (u8, &str)) -> Result<&'static str, String> {
    let versions = rules.iter().filter(|(of, _)| *of == kind).map(|(_, read)| &*read.rule);
    let mut all = versions.chain([course.kinds.motion(kind)]).flat_map(|rule| rule.tunables());
    let own = course.kinds.motion(kind).tunables();
    all.find(|t| t.name == name).map(|t| t.name).ok_or_else(|| unknown("tunable", name, own.iter().map(|t| t.name)))
}

impl Machines {
    fn of(reach: Reach, course: &Course) -> Self {
        match reach {
            Reach::All => Self::All,
            Reach::One(machine) => {
                Self::One(course.machines().nth(machine.index()).map_or_else(String::new, |(name, _)| name.to_owned()))
            }
        }
    }

    pub(super) fn reach(&self, course: &Course) -> Result<Reach, String> {
        let Self::One(wanted) = self else { return Ok(Reach::All) };
        let mut machines = MachineId::first(course.machines().count()).zip(course.machines());
        let found = machines.find(|(_, (name, _))| name == wanted).map(|(machine, _)| Reach::One(machine));
        found.ok_or_else(|| unknown("machine", wanted, course.machines().map(|(name, _)| name)))
    }
}

/// A member of the course's cast.
pub(super) fn member(course: &Course, name: &str) -> Result<MemberId, String> {
    course.member(name).ok_or_else(|| unknown("member", name, course.cast.iter().map(|m| m.name.as_str())))
}

/// The number of a rule of the course.
pub(super) fn kind(course: &Course, name: &str) -> Result<u8, String> {
    let found = course.kinds.iter().find(|(_, rule)| rule.name() == name);
    found.map(|(kind, _)| kind).ok_or_else(|| unknown("rule", name, course.kinds.iter().map(|(_, rule)| rule.name())))
}

fn unknown<'a>(what: &str, found: &str, known: impl Iterator<Item = &'a str>) -> String {
    let meant = nearest(found, known).map_or_else(String::new, |meant| format!(": {meant}"));
    format!("the course has no {what} `{found}`{meant}")
}
