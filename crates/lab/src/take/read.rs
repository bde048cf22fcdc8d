//! A take read from bytes: as far as they are sound.

use std::fmt;
use std::sync::Arc;

use velocitas_core::{Motion, Schema};
use velocitas_record::command::Command;
use velocitas_record::ids::MachineId;
use velocitas_record::time::LabTime;

use super::entry::{Entry, IN_RUST, ROW};
use super::told::Told;
use super::{TAKE_FORMAT, Take, TakeError};
use crate::absent::Absent;
use crate::course::{Course, NamedFile, Sources};
use crate::reread::ReadRule;
use crate::seal::{Seal, Unsound};

/// No take tells of longer: a week.
const LONGEST: LabTime = LabTime(7 * 24 * 3600 * 1_000_000_000);
/// What is told of a rule in Rust is no longer.
const MOST_RULE: usize = 1 << 16;
/// What of a line that was not understood is shown.
const SHOWN: usize = 60;

/// Where a take is no longer sound.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Damage {
    /// The line, from 1.
    pub line: usize,
    /// How many bytes stand before it: those are sound.
    pub byte: usize,
    /// How many stand from there on, which are left out.
    pub lost: usize,
    why: Unsound,
}

impl Damage {
    /// In a few words, for a line on a screen.
    pub fn briefly(&self) -> String {
        format!("damaged from line {} (byte {}) on; the last {} bytes are left out", self.line, self.byte, self.lost)
    }
}

impl fmt::Display for Damage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { line, byte, lost, why } = self;
        match why {
            Unsound::Cut => write!(f, "line {line} (byte {byte}) is cut short or has no checksum")?,
            Unsound::Checksum { said, is } => {
                write!(f, "line {line} (byte {byte}) says checksum {said:08x}, but {is:08x} is that of what it holds")?;
            }
        }
        write!(f, ": the last {lost} bytes are left out")
    }
}

/// A course as it was told, not yet read.
struct Text {
    line: usize,
    file: String,
    text: String,
    files: Vec<NamedFile>,
}

/// What the lines come to once the run's ways back are followed.
#[derive(Default)]
struct Lines {
    program: String,
    seed: u64,
    began: Option<Text>,
    commands: Vec<(usize, LabTime, Told)>,
    digests: Vec<(LabTime, u64)>,
    /// Texts by version: of the rules, and of the courses.
    rules: Vec<Option<String>>,
    courses: Vec<Text>,
    in_rust: Vec<Absent>,
    look: Option<(usize, LabTime, String)>,
    rows: usize,
    reached: LabTime,
}

impl Take {
    /// Reads a take. `own` are rules written in Rust that its course may name.
    ///
    /// # Errors
    /// When it is no take, one of another format, or says something that this program does not understand. Damage at its end is no
    /// error: the take then [says](Take::damage) so.
    pub fn read(bytes: &[u8], own: &[Arc<dyn Motion>]) -> Result<Self, TakeError> {
        let (lines, damage) = Self::lines(bytes)?;
        lines.resolve(damage, own)
    }

    /// The same of one whose run is over: it is looked at, and needs no step of a rule in Rust that is not here.
    pub(crate) fn read_over(bytes: &[u8], own: &[Arc<dyn Motion>]) -> Result<Self, TakeError> {
        let (mut lines, damage) = Self::lines(bytes)?;
        let told = std::mem::take(&mut lines.in_rust);
        let is_here = |rule: &Absent| own.iter().any(|own| own.name() == rule.name());
        let absent = told.into_iter().filter(|rule| !is_here(rule)).map(|rule| Arc::new(rule) as Arc<dyn Motion>);
        let all: Vec<Arc<dyn Motion>> = own.iter().cloned().chain(absent).collect();
        lines.resolve(damage, &all)
    }

    fn lines(bytes: &[u8]) -> Result<(Lines, Option<Damage>), TakeError> {
        let mut lines = Lines::default();
        let (mut seal, mut damage, mut byte) = (Seal::default(), None, 0);
        for (i, line) in bytes.split_inclusive(|b| *b == b'\n').enumerate() {
            let number = i + 1;
            let text = match seal.open(line) {
                Ok(text) => text,
                Err(_) if i == 0 => return Err(TakeError::NoTake(shown(line))),
                Err(why) => {
                    damage = Some(Damage { line: number, byte, lost: bytes.len() - byte, why });
                    break;
                }
            };
            lines.take(number, text)?;
            byte += line.len();
        }
        if bytes.is_empty() {
            return Err(TakeError::NoTake("an empty file".to_owned()));
        }
        Ok((lines, damage))
    }
}

/// The lines of a take without the rows that it may be sealed with, as far as they are sound.
pub fn without_rows(bytes: &[u8]) -> String {
    let (mut was, mut seal) = (Seal::default(), Seal::default());
    let sound = bytes.split_inclusive(|b| *b == b'\n').map_while(|line| was.open(line).ok());
    sound.filter(|text| !text.starts_with(ROW)).map(|text| seal.line(text)).collect()
}

/// The rows of the record that a take was sealed with, each a line of JSON: as far as the take is sound.
pub fn sealed_rows(bytes: &[u8]) -> impl Iterator<Item = &str> {
    let mut seal = Seal::default();
    let texts = bytes.split_inclusive(|b| *b == b'\n').map_while(move |line| seal.open(line).ok());
    texts.filter_map(|text| text.strip_prefix(ROW)?.strip_suffix('}'))
}

/// Takes the next of what was read, or another in the place of one that was: on the way that was kept it is that.
fn told_again<T>(all: &mut Vec<T>, version: u16, what: T) -> Result<(), String> {
    match usize::from(version).checked_sub(1) {
        Some(place) if place == all.len() => all.push(what),
        Some(place) if place < all.len() => all[place] = what,
        _ => return Err(format!("expected a version from 1 to {}; found {version}", all.len() + 1)),
    }
    Ok(())
}

/// The beginning of something that was not understood.
fn shown(line: &[u8]) -> String {
    let text = String::from_utf8_lossy(&line[..line.len().min(SHOWN)]);
    format!("`{}`", text.trim_end().escape_debug())
}

impl Lines {
    /// Takes what a line says.
    fn take(&mut self, line: usize, text: &str) -> Result<(), TakeError> {
        let wrong = |why: String| TakeError::Line { line, why };
        if line == 1 {
            self.first(text)?;
            return Ok(());
        }
        if text.starts_with(ROW) {
            self.rows += 1;
            return Ok(());
        }
        // Names of rules stay for good: there are few.
        if text.starts_with(IN_RUST) && text.len() > MOST_RULE {
            return Err(wrong(format!("expected a rule in Rust of at most {MOST_RULE} bytes; found {}", text.len())));
        }
        let entry: Entry =
            serde_json::from_str(text).map_err(|why| wrong(format!("{why}; found {}", shown(text.as_bytes()))))?;
        match entry {
            Entry::Take { .. } => return Err(wrong("expected only the first line to say `take`".to_owned())),
            Entry::Course { version, file, text, files } => {
                let said = Text { line, file, text, files };
                match version {
                    0 if self.began.is_none() => self.began = Some(said),
                    0 => return Err(wrong("expected one course to begin with; found another".to_owned())),
                    version => told_again(&mut self.courses, version, said).map_err(wrong)?,
                }
            }
            Entry::InRust(rule) => match rule.trouble() {
                Some(why) => return Err(wrong(format!("a rule in Rust as none is: {why}"))),
                None => self.in_rust.push(*rule),
            },
            Entry::Rule { version, text } => {
                told_again(&mut self.rules, version, text).map_err(wrong)?;
            }
            Entry::Do { at_ns, what } => {
                let at = self.moment(line, at_ns)?;
                self.commands.push((line, at, what));
                self.reached = at;
            }
            Entry::Digest { at_ns, is } => {
                let at = self.moment(line, at_ns)?;
                let digest =
                    u64::from_str_radix(&is, 16).map_err(|_| wrong(format!("expected a digest; found `{is}`")))?;
                self.digests.push((at, digest));
                self.reached = at;
            }
            Entry::Back { at_ns, commands } => {
                if LabTime(at_ns) > self.reached || commands > self.commands.len() {
                    return Err(wrong(format!("expected to go back from {}; found {}", self.reached, LabTime(at_ns))));
                }
                self.commands.truncate(commands);
                self.digests.retain(|(at, _)| at.0 <= at_ns);
                self.reached = LabTime(at_ns);
            }
            Entry::Look { at_ns, who } => self.look = Some((line, LabTime(at_ns), who)),
            Entry::Reached { at_ns } => self.reached = self.moment(line, at_ns)?,
        }
        Ok(())
    }

    fn first(&mut self, text: &str) -> Result<(), TakeError> {
        // Of another format nothing else is sure.
        let value: serde_json::Value =
            serde_json::from_str(text).map_err(|_| TakeError::NoTake(shown(text.as_bytes())))?;
        let format = value.pointer("/take/format").and_then(serde_json::Value::as_u64);
        match format.map(u32::try_from) {
            Some(Ok(TAKE_FORMAT)) => {}
            Some(other) => return Err(TakeError::Format(other.unwrap_or(u32::MAX))),
            None => return Err(TakeError::NoTake(shown(text.as_bytes()))),
        }
        match serde_json::from_value(value) {
            Ok(Entry::Take { program, seed, .. }) => (self.program, self.seed) = (program, seed),
            Ok(_) => return Err(TakeError::NoTake(shown(text.as_bytes()))),
            Err(why) => return Err(TakeError::Line { line: 1, why: why.to_string() }),
        }
        Ok(())
    }

    /// A moment that does not lie before what was told already.
    fn moment(&self, line: usize, at_ns: u64) -> Result<LabTime, TakeError> {
        let at = LabTime(at_ns);
        if (self.reached..=LONGEST).contains(&at) {
            return Ok(at);
        }
        let why = format!("expected a moment from {} on, within a week; found {at}", self.reached);
        Err(TakeError::Line { line, why })
    }

    /// Reads courses and rules, and understands commands by their names.
    fn resolve(self, damage: Option<Damage>, own: &[Arc<dyn Motion>]) -> Result<Take, TakeError> {
        let Some(began) = &self.began else {
            return Err(TakeError::NoCourse(damage.map_or_else(String::new, |damage| format!("; {damage}"))));
        };
        let course = Course { seed: self.seed, ..began.read(own)? };
        let mut met = Met { own, course: &course, in_force: course.clone(), schemas: Vec::new(), rules: Vec::new() };
        met.schemas.extend(course.kinds.iter().map(|(_, rule)| rule.schema().clone()));
        let (mut commands, mut read, mut taken) =
            (Vec::new(), vec![None; self.rules.len()], vec![None; self.courses.len()]);
        for (line, at, told) in &self.commands {
            let wrong = |why: String| TakeError::Line { line: *line, why };
            if let Told::Reload { rule, version, at } = told {
                let place = usize::from(*version).wrapping_sub(1);
                let text =
                    self.rules.get(place).ok_or_else(|| wrong(format!("there is no rule {version} before it")))?;
                let decides = at.reach(&course).map_err(wrong)?.covers(MachineId::SERVER);
                read[place] = Some(met.rule(rule, text.as_deref(), decides).map_err(wrong)?);
            }
            if let Told::TakeOver { version } = told {
                let place = usize::from(*version).wrapping_sub(1);
                let said =
                    self.courses.get(place).ok_or_else(|| wrong(format!("there is no course {version} before it")))?;
                let course = met.course(said)?;
                taken[place] = Some(course.ok_or_else(|| wrong("the course cannot be taken over".to_owned()))?);
            }
            let command = told.command(&course, &met.rules).map_err(wrong)?;
            commands.push((*at, command));
        }
        let look = self.look.map(|(line, at, who)| {
            let who = super::told::member(&course, &who).map_err(|why| TakeError::Line { line, why })?;
            Ok((at.min(self.reached), who))
        });
        let look = look.transpose()?;
        renumber(&mut commands, &read, &taken);
        let (rules, courses) = (read.into_iter().flatten().collect(), taken.into_iter().flatten().collect());
        let (program, file, digests, end) = (self.program, began.file.clone(), self.digests, self.reached);
        let rows = self.rows;
        Ok(Take { program, file, course, commands, digests, rules, courses, look, rows, end, damage })
    }
}

/// The rules and courses met up to now, from the beginning.
struct Met<'a> {
    own: &'a [Arc<dyn Motion>],
    /// The course that the run began with, and the one in force.
    course: &'a Course,
    in_force: Course,
    /// The layouts in force at the server, by the number of the rule.
    schemas: Vec<Schema>,
    rules: Vec<(u8, ReadRule)>,
}

impl Met<'_> {
    /// A rule that was read: its fields stay in the lanes that they had.
    fn rule(&mut self, name: &str, text: Option<&str>, decides: bool) -> Result<ReadRule, String> {
        let kind = super::told::kind(self.course, name)?;
        let text = text.ok_or("a rule without a file was read here: it is not in the take")?;
        let before = &mut self.schemas[usize::from(kind)];
        let compiled = velocitas_gait::compile_after(text, Some(before));
        let rule = compiled.gait.ok_or("the rule that was read here has mistakes in this version of the program")?;
        if decides {
            *before = rule.schema().clone();
        }
        let read = ReadRule { rule: Arc::new(rule), text: Some(text.into()) };
        self.rules.push((kind, read.clone()));
        Ok(read)
    }

    /// A course that was saved and taken over; `None` where nothing of it can be.
    fn course(&mut self, said: &Text) -> Result<Option<Arc<Course>>, TakeError> {
        let saved = said.read(self.own)?;
        let Some(course) = self.in_force.take_over(&saved, self.course).course else { return Ok(None) };
        self.in_force = course.clone();
        Ok(Some(Arc::new(course)))
    }
}

/// The number of what is left of those that were read up to a version.
fn number<T>(all: &[Option<T>], version: u16) -> u16 {
    all[..usize::from(version)].iter().flatten().count() as u16
}

/// What was read and dropped again is gone: commands speak of the rest by new numbers.
fn renumber<R, C>(commands: &mut [(LabTime, Command)], rules: &[Option<R>], courses: &[Option<C>]) {
    for (_, command) in commands {
        match command {
            Command::Reload { version, .. } => *version = number(rules, *version),
            Command::TakeOver { version } => *version = number(courses, *version),
            _ => {}
        }
    }
}

impl Text {
    fn read(&self, own: &[Arc<dyn Motion>]) -> Result<Course, TakeError> {
        let read = |path: &str| {
            let file = self.files.iter().find(|file| file.path == path);
            file.map(|file| file.text.clone()).ok_or_else(|| "it is not in the take".to_owned())
        };
        Course::parse_with(&self.file, &self.text, Sources { own, read: &read })
            .map_err(|why| TakeError::Course { line: self.line, why: Box::new(why) })
    }
}
