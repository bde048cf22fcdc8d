//! Members and things: from the file's words to what plays.

use std::collections::BTreeMap;
use std::ops::Range;

use toml::Spanned;
use velocitas_analysis::fault::{FAULTS, Fault};
use velocitas_core::{Arrangement, MAX_DATAGRAM, SolidId, snapshot_bytes, vec3};
use velocitas_record::Conditions;
use velocitas_record::knob::Knobs;
use velocitas_record::quantity::{Quantity, Time};
use velocitas_record::time::LabTime;

use super::file::{self, File};
use super::pair;
use super::resolve::{MOST_NAME, Resolver, Result, or, time};
use super::settings;
use super::{Course, KnownTo, Member, Role, Thing, Trick};
use crate::cheat::CHEATS;

/// The most one server and one screen are meant for.
const MOST_CAST: usize = 48;
const MOST_THINGS: usize = 48;
/// Words that stand for machines.
const RESERVED: [&str; 3] = ["server", "clients", "all"];

impl Resolver<'_> {
    /// All members, in the order of the file.
    pub(super) fn cast(
        &self,
        course: &mut Course,
        file: &File,
        links: &BTreeMap<String, (Conditions, Conditions)>,
        usual: Knobs,
    ) -> Result<()> {
        if file.cast.is_empty() || file.cast.len() > MOST_CAST {
            let message = format!("expected a cast of 1 to {MOST_CAST}; found {}", file.cast.len());
            return Err(self.wrong(0..0, message));
        }
        for (i, cast) in file.cast.iter().enumerate() {
            self.own_name(course, &cast.name)?;
            let member = self.member(course, cast, links, usual, i)?;
            self.one_that_decides(course, file, cast)?;
            course.cast.push(member);
            self.fits(course, cast)?;
        }
        Ok(())
    }

    /// A name that nothing else in the course has.
    pub(super) fn own_name(&self, course: &Course, name: &Spanned<String>) -> Result<()> {
        let names = course.cast.iter().map(|m| &m.name).chain(course.things.iter().map(|t| &t.name));
        if names.into_iter().any(|earlier| earlier == name.get_ref()) {
            let message = format!("expected a name of its own; found `{}` a second time", name.get_ref());
            return Err(self.wrong(name.span(), message));
        }
        self.name(name, "a name", MOST_NAME)?;
        if RESERVED.contains(&name.get_ref().as_str()) {
            let message = format!("expected a name other than {}; found `{}`", RESERVED.join(", "), name.get_ref());
            let help = "these words stand for machines".to_owned();
            return Err(self.wrong(name.span(), message).help(Some(help)));
        }
        Ok(())
    }

    /// Either a server of its own decides, or one member's machine.
    pub(super) fn one_that_decides(&self, course: &Course, file: &File, cast: &file::Cast) -> Result<()> {
        let Some(hosts) = cast.hosts.as_ref().filter(|hosts| *hosts.get_ref()) else { return Ok(()) };
        if let Some(other) = course.cast.iter().find(|m| m.hosts) {
            let message = format!("expected one member at most who hosts; found a second beside `{}`", other.name);
            return Err(self.wrong(hosts.span(), message));
        }
        if file.server.is_some() {
            let help = "the machine of a member who hosts is described in its `host`".to_owned();
            let message = "expected a `[server]` or a member who hosts; found both";
            return Err(self.wrong(hosts.span(), message).help(Some(help)));
        }
        Ok(())
    }

    /// Everybody so far fits one snapshot; if not, the last to come is told what the room goes to.
    pub(super) fn fits(&self, course: &Course, last: &file::Cast) -> Result<()> {
        let schema = |m: &Member| course.kinds.motion(m.kind).schema();
        let bytes_for = |own: usize| snapshot_bytes(course.cast.iter().enumerate().map(|(i, m)| (schema(m), i == own)));
        let bytes = (0..course.cast.len()).map(bytes_for).max().unwrap_or(0);
        if bytes <= MAX_DATAGRAM {
            return Ok(());
        }
        let count = course.cast.len();
        let message =
            format!("expected a cast that fits a snapshot of {MAX_DATAGRAM} bytes; {count} members take {bytes}");
        let Some(member) = course.cast.last() else { return Ok(()) };
        let fields: Vec<String> = schema(member)
            .state
            .iter()
            .filter(|f| f.seen_bits() > 0)
            .map(|f| format!("{} {}", f.name, f.seen_bits()))
            .collect();
        let rule = course.kinds.motion(member.kind).name();
        let bits = schema(member).seen_bits();
        let help = format!(
            "others receive {bits} bits of each `{rule}` ({}): make fields private or coarser, or the cast smaller",
            fields.join(", ")
        );
        Err(self.wrong(last.name.span(), message).help(Some(help)))
    }

    pub(super) fn thing(&self, course: &Course, thing: &file::Thing) -> Result<Thing> {
        self.own_name(course, &thing.name)?;
        if course.things.len() >= MOST_THINGS {
            return Err(self.wrong(thing.name.span(), format!("expected at most {MOST_THINGS} things; found more")));
        }
        let kind = self.kind(course, thing.gait.as_ref(), thing.rule.as_ref())?;
        let [x, y] = thing.at.get_ref().0;
        let at = vec3(x, y, course.world.bounds.floor + or(thing.height, 0.0) as f32);
        self.free(course, kind, at, &thing.at)?;
        let (name, facing) = (thing.name.get_ref().clone(), or(thing.facing, 0.0) as f32);
        Ok(Thing { name, kind, at, facing, owners: self.owners(course, &thing.owners)? })
    }

    pub(super) fn member(
        &self,
        course: &Course,
        cast: &file::Cast,
        links: &BTreeMap<String, (Conditions, Conditions)>,
        usual: Knobs,
        index: usize,
    ) -> Result<Member> {
        let role = self.word(&cast.role, "a role", &Role::ALL.map(|role| (role.name(), role)))?;
        let kind = self.kind(course, cast.gait.as_ref(), cast.rule.as_ref())?;
        let arrangement = cast.arrangement.as_ref().map_or(Ok(Arrangement::SERVER), |word| {
            self.word(word, "who decides where it is", &Arrangement::ALL.map(|row| (row.name(), row)))
        })?;
        let perfect = (Conditions::PERFECT, Conditions::PERFECT);
        let known: Vec<(&str, (Conditions, Conditions))> = links.iter().map(|(n, l)| (n.as_str(), *l)).collect();
        let (up, down) = cast.link.as_ref().map_or(Ok(perfect), |word| self.word(word, "a link", &known))?;
        let mut knobs = Knobs { up, down, ..usual };
        cast.settings.apply(&mut knobs).map_err(|m| self.mistake(m))?;
        let [x, y] = cast.spawn.get_ref().0;
        let spawn = vec3(x, y, course.world.bounds.floor + or(cast.height, 0.0) as f32);
        self.free(course, kind, spawn, &cast.spawn)?;
        let script = self.script(course, kind, cast)?;
        let tricks = cast.trick.iter().map(|t| self.trick(t, role, arrangement)).collect::<Result<_>>()?;
        let known: Vec<(&str, Fault)> = FAULTS.iter().map(|spec| (spec.key, spec.fault)).collect();
        let faults = cast.faults.iter().map(|word| self.word(word, "a fault", &known)).collect::<Result<_>>()?;
        Ok(Member {
            name: cast.name.get_ref().clone(),
            role,
            kind,
            arrangement,
            spawn,
            facing: or(cast.facing, 0.0) as f32,
            there: true,
            host: self.host(&cast.host, index as u64 + 1)?,
            link: cast.link.as_ref().map(|link| link.get_ref().clone()),
            hosts: cast.hosts.as_ref().is_some_and(|hosts| *hosts.get_ref()),
            knobs,
            script,
            tricks,
            faults,
        })
    }

    /// Nobody begins inside something, as either side knows the ground.
    pub(super) fn free(
        &self,
        course: &Course,
        kind: u8,
        spawn: velocitas_core::Vec3,
        at: &Spanned<pair::Pair>,
    ) -> Result<()> {
        let body = course.kinds.motion(kind).body();
        for side in [KnownTo::Server, KnownTo::Clients] {
            let Some(id) = course.ground(side).overlap(&body, spawn) else { continue };
            let what = match id {
                SolidId::EDGE => "outside the world's bounds".to_owned(),
                SolidId::FLOOR => "below the floor".to_owned(),
                id => format!("inside `{}`", course.solid(id).map_or("?", |s| &s.name)),
            };
            let message = format!("expected room for a body of {} m radius to stand; found it {what}", body.radius);
            return Err(self.wrong(at.span(), message));
        }
        Ok(())
    }

    fn trick(&self, spanned: &Spanned<settings::Trick>, role: Role, arrangement: Arrangement) -> Result<Trick> {
        let t = spanned.get_ref();
        if role != Role::Rogue {
            return Err(self.wrong(spanned.span(), "expected tricks of a `rogue` only; found them of another role"));
        }
        let cheats = t.cheats().map_err(|m| self.mistake(m))?;
        let [cheat] = cheats[..] else {
            let known: Vec<String> = CHEATS.iter().map(|spec| format!("`{}`", spec.key)).collect();
            let message = format!("expected exactly one of {} in a trick; found {}", known.join(", "), cheats.len());
            return Err(self.wrong(spanned.span(), message));
        };
        if !cheat.spec.whose().fits(arrangement.sends_inputs()) {
            let of = |inputs: bool| {
                let keys = CHEATS.iter().filter(|spec| spec.whose().fits(inputs)).map(|spec| spec.key);
                keys.collect::<Vec<_>>().join(", ")
            };
            let message = if arrangement.sends_inputs() {
                let with = of(true);
                format!("expected a trick with inputs ({with}); positions can only be forged with arrangement `claims`")
            } else {
                format!("expected a trick with positions ({}); `{}` is one with inputs", of(false), cheat.spec.key)
            };
            return Err(self.wrong(spanned.span(), message));
        }
        let lasts = t.lasts.map_or(LabTime::from_secs(1.0), time);
        let at = t.at.map_or(LabTime::ZERO, time);
        Ok(Trick { cheat, at, lasts, every: self.again(t.every, spanned.span())? })
    }

    pub(super) fn again(&self, every: Option<Quantity<Time>>, span: Range<usize>) -> Result<Option<LabTime>> {
        match every {
            Some(q) if q.value < 100.0 => Err(self.wrong(span, "expected `every` to be at least 100 ms")),
            other => Ok(other.map(time)),
        }
    }
}
