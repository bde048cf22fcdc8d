//! From the file's words to something that can be run, or the first mistake.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use toml::Spanned;
use velocitas_core::{
    Bounds, HostNanos, Kinds, MAX_DATAGRAM, Motion, PlayerSettings, Rate, Solid, SolidId, Surface, Zone,
    snapshot_bytes, vec3,
};
use velocitas_record::host::HostSpec;
use velocitas_record::ids::MemberId;
use velocitas_record::knob::Knobs;
use velocitas_record::quantity::{Dimension, Frequency, Quantity, Time};
use velocitas_record::time::LabTime;
use velocitas_record::trace::DelayTrace;
use velocitas_record::{Conditions, TraceNumber};

use super::error::{CourseError, nearest};
use super::file::{self, FORMAT, File};
use super::pair;
use super::script;
use super::settings::{Link, Mistake};
use super::{Coming, Course, Happens, KnownTo, Material, NamedSolid, NamedZone, Owned, What, World};
use crate::profile::PROFILES;
use crate::stepped::{Physics, Stepped};

const MOST_SOLIDS: usize = 4096;
const MOST_TRACES: usize = 64;
/// Tick numbers beyond this leave no room to count on.
const MOST_TICK: i64 = 1 << 48;

/// The longest name of a member, solid, zone, and of a course, in characters.
pub(super) const MOST_NAME: usize = 32;
const MOST_TITLE: usize = 64;

/// Characters that change the direction of writing or have no width: what is shown is not what is there.
const fn is_unseen(c: char) -> bool {
    matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}')
}

/// Rules by number.
pub(super) type Rules = Vec<Arc<dyn Motion>>;

pub(super) struct Resolver<'a> {
    pub(super) file: &'a str,
    pub(super) text: &'a str,
    pub(super) rules: Rules,
    pub(super) read: &'a dyn Fn(&str) -> std::result::Result<String, String>,
}

pub(super) type Result<T> = std::result::Result<T, CourseError>;

pub(super) fn time(q: Quantity<Time>) -> LabTime {
    LabTime::from_millis(q.value)
}

pub(super) fn or<D: Dimension>(q: Option<Quantity<D>>, default: f64) -> f64 {
    q.map_or(default, |q| q.value)
}

impl Resolver<'_> {
    pub(super) fn wrong(&self, span: Range<usize>, message: impl Into<String>) -> CourseError {
        CourseError::at(self.file, self.text, span, message)
    }

    /// The thing that a word stands for.
    pub(super) fn word<T: Copy>(&self, word: &Spanned<String>, what: &str, known: &[(&str, T)]) -> Result<T> {
        let found = word.get_ref();
        known.iter().find(|(name, _)| name == found).map(|(_, thing)| *thing).ok_or_else(|| {
            let names: Vec<&str> = known.iter().map(|(name, _)| *name).collect();
            let listed = if names.is_empty() { "none are defined".to_owned() } else { names.join(", ") };
            self.wrong(word.span(), format!("expected {what} ({listed}); found `{found}`"))
                .help(nearest(found, names.into_iter()))
        })
    }

    /// Checks a name that is shown: it takes a line at most and does nothing to a terminal.
    pub(super) fn name(&self, name: &Spanned<String>, what: &str, most: usize) -> Result<()> {
        let text = name.get_ref();
        let length = text.chars().count();
        let message = if text.trim().is_empty() {
            format!("expected {what} of 1 to {most} characters; found none")
        } else if length > most {
            format!("expected {what} of 1 to {most} characters; found {length}")
        } else if let Some(c) = text.chars().find(|c| c.is_control() || is_unseen(*c)) {
            format!("expected {what} of characters that can be seen; found {}", c.escape_unicode())
        } else {
            return Ok(());
        };
        Err(self.wrong(name.span(), message))
    }

    pub(super) fn whole(&self, value: &Spanned<i64>, what: &str, range: Range<i64>) -> Result<i64> {
        if range.contains(value.get_ref()) {
            return Ok(*value.get_ref());
        }
        let message = format!("expected {what} from {} to {}; found {}", range.start, range.end - 1, value.get_ref());
        Err(self.wrong(value.span(), message))
    }

    pub(super) fn course(self, file: &File) -> Result<Course> {
        self.format(&file.format)?;
        let rate = self.rate(&file.tick_rate)?;
        let usual = self.usual(file)?;
        let first_tick =
            file.first_tick.as_ref().map_or(Ok(0), |t| self.whole(t, "a first tick", 0..MOST_TICK))? as u64;
        self.name(&file.name, "a name of the course", MOST_TITLE)?;
        let world = self.world(file)?;
        let mut traces = Vec::new();
        let links = self.links(&file.link, &mut traces)?;
        let (rules, gaits) = self.gaits(file)?;
        let physics = self.physics(file, rate)?;
        let stepped = rules.iter().map(|rule| Stepped::of(rule.clone(), physics)).collect();
        let kinds = Kinds::new(stepped)
            .map_err(|(name, error)| self.wrong(0..0, format!("the rule `{name}` cannot be used: {error}")))?;
        let server = self.host(file.server.as_ref().unwrap_or(&file::Host::default()), 0)?;
        let mut course = Course {
            name: file.name.get_ref().clone(),
            seed: file.seed,
            rate,
            first_tick,
            kinds,
            plain: rules,
            physics,
            gaits,
            overrides: Vec::new(),
            server,
            world: Arc::new(world),
            traces: traces.into(),
            patience: self.silence(&file.silence)?,
            guard: self.guard(&file.guard)?,
            cast: Vec::new(),
            things: Vec::new(),
            events: Vec::new(),
            limits: Vec::new(),
            accused: Vec::new(),
            check: self.check(&file.check)?,
            warnings: Vec::new(),
            text: "".into(),
            files: Arc::new([]),
        };
        for tune in &file.tune {
            let found = self.overrides(&course, tune)?;
            course.overrides.extend(found);
        }
        self.cast(&mut course, file, &links, usual)?;
        for thing in &file.thing {
            let made = self.thing(&course, thing)?;
            course.things.push(made);
        }
        self.happenings(&mut course, file)?;
        self.everything_fits(&course, file)?;
        course.limits = self.limits(&course, file)?;
        course.accused = self.accused(&course, file)?;
        Ok(course)
    }

    fn format(&self, format: &Spanned<i64>) -> Result<()> {
        if *format.get_ref() == FORMAT {
            return Ok(());
        }
        let message = format!("expected format {FORMAT}; found format {}", format.get_ref());
        let help = "this program reads courses of that format only".to_owned();
        Err(self.wrong(format.span(), message).help(Some(help)))
    }

    fn rate(&self, rate: &Spanned<Quantity<Frequency>>) -> Result<Rate> {
        let hz = rate.get_ref().value;
        Rate::new(hz as u32).filter(|_| hz.fract() == 0.0 && hz >= 5.0).ok_or_else(|| {
            self.wrong(rate.span(), format!("expected a whole tick rate from 5 Hz to 1000 Hz; found {hz} Hz"))
        })
    }

    /// How often physics is stepped, if not once a tick.
    fn physics(&self, file: &File, rate: Rate) -> Result<Option<Physics>> {
        let Some(written) = &file.physics else { return Ok(None) };
        let hz = written.get_ref().value;
        if hz.fract() != 0.0 || !(5.0..=8000.0).contains(&hz) {
            let message = format!("expected a whole number of steps a second from 5 Hz to 8000 Hz; found {hz} Hz");
            return Err(self.wrong(written.span(), message));
        }
        Ok(Some(Physics { hz: hz as u32, rate }).filter(|physics| physics.hz != rate.hz()))
    }

    /// What happens, with who joins at a time, in an order in which it can happen.
    fn happenings(&self, course: &mut Course, file: &File) -> Result<()> {
        let mut spans = Vec::new();
        for (cast, member) in file.cast.iter().zip(course.members()) {
            if let Some(joins) = cast.joins.map(time).filter(|at| *at > LabTime::ZERO) {
                course.events.push(Happens { at: joins, every: None, what: What::Moves(member, Coming::Join) });
                spans.push(cast.name.span());
            }
        }
        for event in &file.event {
            let happens = self.event(course, event)?;
            course.events.push(happens);
            spans.push(script::place_of(event));
        }
        for event in &course.events {
            if let What::Moves(member, Coming::Join) = event.what {
                course.cast[member.index()].there = false;
            }
        }
        self.in_order(course, &spans)
    }

    /// Whether a snapshot of everybody and everything fits, whoever is given what.
    fn everything_fits(&self, course: &Course, file: &File) -> Result<()> {
        let Some(last) = file.thing.last() else { return Ok(()) };
        let schema = |kind: u8| course.kinds.motion(kind).schema();
        let things = || course.things.iter().map(|thing| (schema(thing.kind), true));
        let given = |i: usize| {
            let is = |what: &What| matches!(what, What::Own(Owned::Body(m), _) if m.index() == i);
            course.events.iter().any(|event| is(&event.what))
        };
        let cast =
            |own: usize| course.cast.iter().enumerate().map(move |(i, m)| (schema(m.kind), i == own || given(i)));
        let bytes = (0..course.cast.len()).map(|own| snapshot_bytes(cast(own).chain(things()))).max().unwrap_or(0);
        if bytes <= MAX_DATAGRAM {
            return Ok(());
        }
        let message = format!(
            "expected things that fit a snapshot of {MAX_DATAGRAM} bytes with the cast; {} things and {} members take \
             {bytes} where one member owns all that it can be given",
            course.things.len(),
            course.cast.len()
        );
        Err(self.wrong(last.name.span(), message))
    }

    pub(super) fn known_to(&self, word: Option<&Spanned<String>>) -> Result<KnownTo> {
        word.map_or(Ok(KnownTo::All), |word| {
            let known = [("all", KnownTo::All), ("server", KnownTo::Server), ("clients", KnownTo::Clients)];
            self.word(word, "who knows of it", &known)
        })
    }

    /// The same of a solid, which nobody may know of.
    fn is_known_to(&self, word: &Spanned<String>) -> Result<KnownTo> {
        self.word(word, "who knows of it", &KnownTo::ALL.map(|to| (to.name(), to)))
    }

    /// The netcode of a member that names nothing, over a perfect link.
    fn usual(&self, file: &File) -> Result<Knobs> {
        let snapshot_every = self.snapshot_every(file.snapshot_every.as_ref())?;
        let mut usual = Knobs { served: PlayerSettings { snapshot_every, ..PlayerSettings::DEFAULT }, ..Knobs::USUAL };
        file.defaults.apply(&mut usual).map_err(|m| self.mistake(m))?;
        Ok(usual)
    }

    fn snapshot_every(&self, value: Option<&Spanned<i64>>) -> Result<u8> {
        value.map_or(Ok(PlayerSettings::DEFAULT.snapshot_every), |v| {
            self.whole(v, "ticks between snapshots", 1..61).map(|n| n as u8)
        })
    }

    fn world(&self, file: &File) -> Result<World> {
        let (min, max) = (file.world.min.get_ref().0, file.world.max.get_ref().0);
        let finite = |v: &[f32; 2]| v.iter().all(|x| x.is_finite() && x.abs() <= 500.0);
        for corner in [&file.world.min, &file.world.max] {
            if !finite(&corner.get_ref().0) {
                return Err(self.wrong(corner.span(), "expected two numbers within 500 m of the origin"));
            }
        }
        if max[0] - min[0] < 2.0 || max[1] - min[1] < 2.0 {
            return Err(self.wrong(file.world.max.span(), "expected `max` at least 2 m east and north of `min`"));
        }
        let floor = file.world.floor.map_or(0.0, |q| q.value as f32);
        let bounds = Bounds { min: (min[0], min[1]), max: (max[0], max[1]), floor };
        if file.solid.len() > MOST_SOLIDS {
            let message = format!("expected at most {MOST_SOLIDS} solids; found {}", file.solid.len());
            return Err(self.wrong(file.solid[MOST_SOLIDS].name.span(), message));
        }
        let mut names: BTreeMap<&str, ()> = BTreeMap::new();
        let mut solids = Vec::new();
        for (i, s) in file.solid.iter().enumerate() {
            if names.insert(s.name.get_ref(), ()).is_some() {
                let message = format!("expected a name of its own; found `{}` a second time", s.name.get_ref());
                return Err(self.wrong(s.name.span(), message));
            }
            self.name(&s.name, "a name", MOST_NAME)?;
            solids.push(self.solid(s, i, floor)?);
        }
        let mut zones = Vec::new();
        for z in &file.zone {
            if names.insert(z.name.get_ref(), ()).is_some() {
                let message = format!("expected a name of its own; found `{}` a second time", z.name.get_ref());
                return Err(self.wrong(z.name.span(), message));
            }
            self.name(&z.name, "a name", MOST_NAME)?;
            let (material, surface) = self.word(
                &z.surface,
                "a surface",
                &[
                    ("water", (Material::Water, Surface { grip: 0.6, pace: 0.45 })),
                    ("ice", (Material::Ice, Surface { grip: 0.08, pace: 1.0 })),
                    ("planks", (Material::Planks, Surface::PLAIN)),
                ],
            )?;
            let (min, max) = (z.min.get_ref().0, z.max.0);
            if !(finite(&min) && finite(&max)) || max[0] <= min[0] || max[1] <= min[1] {
                return Err(self.wrong(z.min.span(), "expected `max` east and north of `min`, within 500 m"));
            }
            let zone = Zone { min: (min[0], min[1]), max: (max[0], max[1]), surface };
            zones.push(NamedZone { name: z.name.get_ref().clone(), material, zone });
        }
        Ok(World { bounds, solids, zones })
    }

    fn solid(&self, s: &file::Solid, index: usize, floor: f32) -> Result<NamedSolid> {
        let ([x, y], [w, d]) = (s.at.get_ref().0, s.size.get_ref().0);
        if ![x, y].iter().all(|v| v.is_finite() && v.abs() <= 600.0) {
            return Err(self.wrong(s.at.span(), "expected two numbers within 600 m of the origin"));
        }
        if ![w, d].iter().all(|v| (0.01..=1000.0).contains(v)) {
            return Err(self.wrong(s.size.span(), "expected width and depth from 0.01 to 1000 m"));
        }
        let height = s.height.get_ref().value as f32;
        if !(0.01..=200.0).contains(&height) {
            return Err(self.wrong(s.height.span(), "expected a height from 0.01 m to 200 m"));
        }
        let known_to = s.known_to.as_ref().map_or(Ok(KnownTo::All), |word| self.is_known_to(word))?;
        let low = floor + or(s.base, 0.0) as f32;
        let solid = Solid {
            id: SolidId(index as u16),
            x,
            y,
            half_x: w / 2.0,
            half_y: d / 2.0,
            yaw: or(s.yaw, 0.0) as f32,
            low,
            high: low + height,
        };
        Ok(NamedSolid { name: s.name.get_ref().clone(), solid, known_to })
    }

    /// The links of a course by name, and the named kinds of link that it has not named otherwise.
    fn links(
        &self,
        links: &BTreeMap<String, Link>,
        traces: &mut Vec<DelayTrace>,
    ) -> Result<BTreeMap<String, (Conditions, Conditions)>> {
        let mut all: BTreeMap<String, (Conditions, Conditions)> =
            PROFILES.iter().map(|profile| (profile.name.to_owned(), (profile.up, profile.down))).collect();
        for (name, link) in links {
            let conditions = link.conditions(&mut |path| self.trace(path, traces));
            all.insert(name.clone(), conditions.map_err(|m| self.mistake(m))?);
        }
        Ok(all)
    }

    /// The trace in a file; each file is read once.
    fn trace(&self, path: &Spanned<String>, traces: &mut Vec<DelayTrace>) -> std::result::Result<TraceNumber, Mistake> {
        let name = path.get_ref();
        let wrong = |why: String| (path.span(), format!("expected the trace `{name}`: {why}"), None);
        if let Some(place) = traces.iter().position(|trace| trace.name == *name) {
            return Ok(TraceNumber(place as u8));
        }
        if traces.len() >= MOST_TRACES {
            return Err(wrong(format!("a course has at most {MOST_TRACES}")));
        }
        let text = (self.read)(name).map_err(wrong)?;
        traces.push(DelayTrace::parse(name, &text).map_err(|e| wrong(e.to_string()))?);
        Ok(TraceNumber((traces.len() - 1) as u8))
    }

    pub(super) fn mistake(&self, (span, message, help): Mistake) -> CourseError {
        self.wrong(span, message).help(help)
    }

    /// `place` tells machines apart that a course does not.
    pub(super) fn host(&self, host: &file::Host, place: u64) -> Result<HostSpec> {
        let fps = host.frame_rate.as_ref().map_or(60.0, |f| f.get_ref().value);
        if let Some(rate) = host.frame_rate.as_ref().filter(|_| !(5.0..=1000.0).contains(&fps)) {
            return Err(self.wrong(rate.span(), format!("expected 5 Hz to 1000 Hz; found {fps} Hz")));
        }
        // Unless a course says so, clocks agree on nothing.
        let offset_ms = or(host.clock_offset, 1_000.0 + 7_919.0 * place as f64);
        let phase_ms = or(host.phase, (place * 37 % 16) as f64);
        Ok(HostSpec {
            offset: HostNanos((offset_ms * 1e6) as i64),
            drift_ppm: or(host.clock_drift, 0.0),
            phase: LabTime::from_millis(phase_ms),
            fps,
            unevenness: or(host.frame_unevenness, 0.0),
            hitches_per_minute: or(host.hitches, 0.0),
            hitch: LabTime::from_millis(or(host.hitch, 120.0)),
        })
    }

    /// A place inside the world.
    pub(super) fn inside(&self, course: &Course, place: &Spanned<pair::Pair>) -> Result<(f32, f32)> {
        let [x, y] = place.get_ref().0;
        let b = &course.world.bounds;
        if x > b.min.0 && x < b.max.0 && y > b.min.1 && y < b.max.1 {
            return Ok((x, y));
        }
        Err(self.wrong(place.span(), "expected a place inside the world's bounds"))
    }

    fn event(&self, course: &Course, spanned: &Spanned<script::Event>) -> Result<Happens> {
        let e = spanned.get_ref();
        let names: Vec<(&str, MemberId)> = course.members().map(|m| (course[m].name.as_str(), m)).collect();
        only_one(self, spanned)?;
        let what = if let Some(push) = &e.push {
            let who = self.word(&push.who, "a member of the cast", &names)?;
            if !course[who].arrangement.is_moved() {
                let message = "expected somebody whom the server moves or judges; who is believed moves itself";
                return Err(self.wrong(push.who.span(), message));
            }
            let part = |q: Option<Quantity<_>>| or(q, 0.0) as f32;
            What::Push(who, vec3(part(push.east), part(push.north), part(push.up)))
        } else if let Some(teleport) = &e.teleport {
            self.teleport(course, teleport)?
        } else if let Some(link) = &e.link {
            let who = self.word(link.who().map_err(|m| self.mistake(m))?, "a member of the cast", &names)?;
            What::Link(who, link.turned().map_err(|m| self.mistake(m))?)
        } else if let Some(tune) = &e.tune {
            What::Tune(self.overrides(course, tune)?)
        } else if let Some(ground) = &e.ground {
            let solids: Vec<(&str, SolidId)> =
                course.world.solids.iter().map(|named| (named.name.as_str(), named.solid.id)).collect();
            What::Ground(self.word(&ground.solid, "a solid", &solids)?, self.is_known_to(&ground.known_to)?)
        } else if let Some(freeze) = &e.freeze {
            let mut machines: Vec<(&str, Option<MemberId>)> = names.iter().map(|(n, i)| (*n, Some(*i))).collect();
            machines.push(("server", None));
            What::Freeze(self.word(&freeze.who, "a machine", &machines)?, time(freeze.lasts))
        } else if let Some(own) = &e.own {
            self.change_of_owners(course, own)?
        } else {
            self.coming(course, e)?.ok_or_else(|| self.wrong(spanned.span(), "expected something to happen"))?
        };
        Ok(Happens { at: time(e.at), every: self.again(e.every, spanned.span())?, what })
    }
}

impl Resolver<'_> {
    fn teleport(&self, course: &Course, teleport: &script::Teleport) -> Result<What> {
        let names: Vec<(&str, MemberId)> = course.members().map(|m| (course[m].name.as_str(), m)).collect();
        let who = self.word(&teleport.who, "a member of the cast", &names)?;
        if !course[who].arrangement.is_moved() {
            let message = "expected somebody whom the server moves or judges; who is believed moves itself";
            return Err(self.wrong(teleport.who.span(), message));
        }
        let [x, y] = teleport.to.get_ref().0;
        let to = vec3(x, y, course.world.bounds.floor + or(teleport.height, 0.0) as f32);
        self.free(course, course[who].kind, to, &teleport.to)?;
        Ok(What::Teleport(who, to))
    }
}

/// Exactly one of what an event may be, or why not.
fn only_one(resolver: &Resolver<'_>, spanned: &Spanned<script::Event>) -> Result<()> {
    let e = spanned.get_ref();
    let said = [
        ("push", e.push.is_some()),
        ("teleport", e.teleport.is_some()),
        ("link", e.link.is_some()),
        ("tune", e.tune.is_some()),
        ("ground", e.ground.is_some()),
        ("freeze", e.freeze.is_some()),
        ("join", e.join.is_some()),
        ("leave", e.leave.is_some()),
        ("crash", e.crash.is_some()),
        ("return", e.come_back.is_some()),
        ("own", e.own.is_some()),
    ];
    let count = said.iter().filter(|(_, is)| *is).count();
    if count == 1 {
        return Ok(());
    }
    let names: Vec<String> = said.iter().map(|(name, _)| format!("`{name}`")).collect();
    let message = format!("expected exactly one of {} in an event; found {count}", names.join(", "));
    Err(resolver.wrong(spanned.span(), message))
}
