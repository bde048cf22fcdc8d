//! Follows a run and tells what a take of it has yet to be told.

use std::io::{self, Write};
use std::sync::Arc;

use velocitas_core::Motion;
use velocitas_core::walker::Walker;
use velocitas_record::command::Command;
use velocitas_record::time::LabTime;
use velocitas_record::world::KnownTo;

use super::entry::{Entry, ROW};
use super::told::Told;
use super::{MOST_BYTES, TAKE_FORMAT};
use crate::absent::Absent;
use crate::course::Course;
use crate::export::{self, Lines};
use crate::reread::ReadRule;
use crate::run::Run;
use crate::seal::Seal;

/// What was told of a run so far. It asks the run what there is, so that nobody has to tell it what was done: going back, keeping
/// a branch and reading files again are noticed by themselves.
#[derive(Clone, Debug)]
pub struct Journal {
    seal: Seal,
    file: String,
    program: String,
    begun: bool,
    commands: Vec<(LabTime, Command)>,
    digests: Vec<(LabTime, u64)>,
    /// The rules and courses that were read.
    rules: Vec<ReadRule>,
    courses: Vec<Arc<Course>>,
    reached: LabTime,
}

impl Journal {
    /// Of a run whose course was read from this file, as told by this version of the program. Nothing was told yet.
    pub fn new(file: &str, program: &str) -> Self {
        Self {
            seal: Seal::default(),
            file: file.to_owned(),
            program: program.to_owned(),
            begun: false,
            commands: Vec::new(),
            digests: Vec::new(),
            rules: Vec::new(),
            courses: Vec::new(),
            reached: LabTime::ZERO,
        }
    }

    /// Whether anything was told.
    pub const fn is_begun(&self) -> bool {
        self.begun
    }

    /// Lines to append to what was told: empty when there is nothing new.
    pub fn news(&mut self, run: &Run) -> String {
        let mut entries = Vec::new();
        if !self.begun {
            self.begun = true;
            let (format, program, seed) = (TAKE_FORMAT, self.program.clone(), run.began().seed);
            entries.push(Entry::Take { format, program, seed });
            entries.push(self.course(0, run.began()));
            entries.extend(in_rust(run.began()));
        }
        entries.extend(self.back(run));
        self.read(run, &mut entries);
        self.done(run, &mut entries);
        if run.now() != self.reached {
            self.reached = run.now();
            entries.push(Entry::Reached { at_ns: run.now().0 });
        }
        entries.iter().map(|entry| self.line(entry)).collect()
    }

    /// A line to append that says what is being looked at: whoever opens the take sees that first.
    pub fn look(&mut self, at: LabTime, who: &str) -> String {
        self.line(&Entry::Look { at_ns: at.0, who: who.to_owned() })
    }

    /// Appends the whole record of the run as rows, so that what was can be read even where another program gives another run.
    ///
    /// # Errors
    /// Those of the writer, and when the take would be [too large](MOST_BYTES) to be opened.
    pub fn seal_record(&mut self, run: &Run, out: &mut impl Write) -> io::Result<()> {
        let mut rows = Rows { seal: &mut self.seal, out, line: Vec::new(), written: 0 };
        export::first_row(run.record(), None, &mut rows)?;
        Lines::default().rest(run.found(), &mut rows)?;
        // Of a record that was cut short the end is not known.
        run.ending().map_or(Ok(()), |ending| export::last_row(run.record(), &ending, &mut rows))
    }

    fn line(&mut self, entry: &Entry) -> String {
        // Names and numbers only: there is nothing in it that JSON cannot hold.
        self.seal.line(&serde_json::to_string(entry).unwrap_or_default())
    }

    fn course(&self, version: u16, course: &Course) -> Entry {
        let (file, text, files) = (self.file.clone(), course.text.to_string(), course.files.to_vec());
        Entry::Course { version, file, text, files }
    }

    /// What was told and is no more so.
    fn back(&mut self, run: &Run) -> Option<Entry> {
        let same = self.commands.iter().zip(run.commands()).take_while(|(told, is)| told == is).count();
        let digests = self.digests.iter().zip(run.digests()).take_while(|(told, is)| told == is).count();
        // It may have gone back and come farther than before since.
        let news = [run.commands().get(same).map(|(at, _)| *at), run.digests().get(digests).map(|(at, _)| *at)];
        let goes_on = news.into_iter().flatten().chain([run.now()]).all(|at| at >= self.reached);
        if same == self.commands.len() && digests == self.digests.len() && goes_on {
            return None;
        }
        // Up to then both were the same: before the first command that differs, and before the first digest that is.
        let mut at = run.now().min(self.reached);
        for list in [&self.commands[same..], run.commands().get(same..).unwrap_or(&[])] {
            at = list.first().map_or(at, |(when, _)| at.min(*when));
        }
        for list in [&self.digests[digests..], run.digests().get(digests..).unwrap_or(&[])] {
            at = list.first().map_or(at, |(when, _)| at.min(LabTime(when.0.saturating_sub(1))));
        }
        self.commands.truncate(same);
        self.digests.retain(|(when, _)| *when <= at);
        self.reached = at;
        Some(Entry::Back { at_ns: at.0, commands: same })
    }

    /// Rules and courses that were read, and those that stand in the place of others since another way was kept.
    fn read(&mut self, run: &Run, entries: &mut Vec<Entry>) {
        for (i, read) in run.rules().iter().enumerate() {
            if self.rules.get(i).is_none_or(|told| !Arc::ptr_eq(&told.rule, &read.rule)) {
                entries.push(Entry::Rule { version: i as u16 + 1, text: read.text.as_ref().map(ToString::to_string) });
            }
        }
        for (i, course) in run.courses().iter().enumerate() {
            if self.courses.get(i).is_none_or(|told| !Arc::ptr_eq(told, course)) {
                entries.push(self.course(i as u16 + 1, course));
            }
        }
        self.rules = run.rules().to_vec();
        self.courses = run.courses().to_vec();
    }

    /// What was commanded, and digests, in the order of their moments.
    fn done(&mut self, run: &Run, entries: &mut Vec<Entry>) {
        let mut digests = run.digests()[self.digests.len()..].iter().peekable();
        let digest = |(at, is): &(LabTime, u64)| Entry::Digest { at_ns: at.0, is: format!("{is:016x}") };
        for (at, command) in &run.commands()[self.commands.len()..] {
            while let Some(before) = digests.next_if(|(when, _)| when <= at) {
                entries.push(digest(before));
            }
            entries.push(Entry::Do { at_ns: at.0, what: Told::of(command, run.began()) });
        }
        entries.extend(digests.map(digest));
        self.commands.extend_from_slice(&run.commands()[self.commands.len()..]);
        self.digests.extend_from_slice(&run.digests()[self.digests.len()..]);
    }
}

/// The rules in Rust that a course names, but for those that every program has.
fn in_rust(course: &Course) -> impl Iterator<Item = Entry> {
    let tunables = course.tunables(KnownTo::Server);
    let walker = Walker::new();
    let own = course
        .kinds
        .iter()
        .filter(move |(kind, rule)| course.gait_file(*kind).is_none() && rule.name() != walker.name());
    own.map(move |(kind, rule)| Entry::InRust(Box::new(Absent::of(rule, &tunables[usize::from(kind)]))))
}

/// Seals line after line of a record.
struct Rows<'a, W> {
    seal: &'a mut Seal,
    out: &'a mut W,
    line: Vec<u8>,
    written: u64,
}

impl<W: Write> Write for Rows<'_, W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        for piece in bytes.split_inclusive(|b| *b == b'\n') {
            self.line.extend_from_slice(piece);
            if let Some(row) = self.line.strip_suffix(b"\n") {
                let row = String::from_utf8_lossy(row);
                let sealed = self.seal.line(&format!("{ROW}{row}}}"));
                self.written += sealed.len() as u64;
                if self.written > MOST_BYTES / 16 * 15 {
                    let why = format!("the record does not fit a take of {MOST_BYTES} bytes: seal a shorter run");
                    return Err(io::Error::new(io::ErrorKind::FileTooLarge, why));
                }
                self.out.write_all(sealed.as_bytes())?;
                self.line.clear();
            }
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}
