//! The live session, kept as a take in the user's state folder (XDG Base Directory Specification) while it goes on, so that what
//! was done at the helm survives a program that is killed.
//!
//! A session begins with the first thing done to the run: before that there is nothing to lose. Lines are written by a thread of
//! their own, so that a disk that does not answer stops no frame. The file is locked while its program lives, and goes when the user
//! leaves; one that is there and not locked was left by a program that did not end as it should.
//!
//! Where it cannot be written, that is tried again and again, into a new file from the beginning on; what was written before stays
//! until that is there.

use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rustix::fs::{FlockOperation, flock};
use velocitas_core::Motion;
use velocitas_lab::Run;
use velocitas_lab::take::{Journal, MOST_BYTES as MOST_TAKE_BYTES, Take};

use crate::files::{TAKE, read_take};

/// Between two looks at what there is to be written.
const EVERY: Duration = Duration::from_secs(1);
/// How long until writing is tried again after a failure.
const AGAIN: Duration = Duration::from_secs(5);
/// How many left sessions are kept; older ones go.
const MOST_LEFT: usize = 8;
const PREFIX: &str = "session-";

/// The folder of sessions: `$XDG_STATE_HOME/velocitas`, or `~/.local/state/velocitas`.
pub(crate) fn folder() -> Option<PathBuf> {
    let absolute = |name| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    let state = absolute("XDG_STATE_HOME").or_else(|| Some(absolute("HOME")?.join(".local/state")))?;
    Some(state.join("velocitas"))
}

/// A live session.
pub(crate) struct Session {
    folder: PathBuf,
    /// Of the same run, with nothing told yet.
    blank: Journal,
    journal: Journal,
    unlooked: Duration,
    writer: Writer,
    /// What is wrong with writing, and how long ago that was.
    trouble: Option<(String, Duration)>,
    /// What was written before it went wrong.
    before: Vec<PathBuf>,
}

/// A thread that writes one file.
struct Writer {
    to: Option<Sender<String>>,
    /// What becomes of it: what is wrong, or that the first lines are there.
    says: Receiver<io::Result<()>>,
    thread: Option<JoinHandle<Option<PathBuf>>>,
}

impl Writer {
    fn begin(folder: PathBuf) -> Self {
        let ((to, lines), (says, heard)) = (channel::<String>(), channel());
        let thread = std::thread::Builder::new().name("session".to_owned());
        Self { to: Some(to), says: heard, thread: thread.spawn(move || write(&folder, &lines, &says)).ok() }
    }

    /// Everything is written. Gives the file, if one was made.
    fn end(&mut self) -> Option<PathBuf> {
        self.to = None;
        self.thread.take()?.join().ok()?
    }
}

impl Session {
    /// Of a run that is told by this journal from its beginning, to be written into a folder.
    pub(crate) fn begin(journal: Journal, folder: PathBuf) -> Self {
        let writer = Writer::begin(folder.clone());
        let (blank, before) = (journal.clone(), Vec::new());
        Self { folder, blank, journal, unlooked: EVERY, writer, trouble: None, before }
    }

    /// What is wrong with writing, as long as it is.
    pub(crate) fn trouble(&self) -> Option<&str> {
        self.trouble.as_ref().map(|(why, _)| why.as_str())
    }

    /// Real time has passed: what was done to the run meanwhile is written now and then. Says what went wrong, and when it is right
    /// again, once each.
    pub(crate) fn follow(&mut self, run: &Run, passed: Duration) -> Option<String> {
        self.unlooked += passed;
        if self.unlooked >= EVERY {
            self.unlooked = Duration::ZERO;
            self.write(run);
        }
        if let Some((_, since)) = &mut self.trouble {
            *since += passed;
            if *since >= AGAIN && self.writer.to.is_none() {
                self.begin_again(run);
            }
        }
        match self.writer.says.try_recv().ok()? {
            Ok(()) => {
                self.before.drain(..).for_each(|path| drop(fs::remove_file(path)));
                self.trouble.take().map(|_| "the session is kept again, from its beginning on".to_owned())
            }
            Err(why) => {
                let is_new = self.trouble.is_none();
                let words = format!("the session is not kept: {why}");
                self.trouble = Some((words.clone(), Duration::ZERO));
                self.before.extend(self.writer.end());
                is_new.then_some(words)
            }
        }
    }

    /// Writes it anew, from its beginning on.
    fn begin_again(&mut self, run: &Run) {
        self.writer = Writer::begin(self.folder.clone());
        self.journal = self.blank.clone();
        self.write(run);
    }

    fn write(&mut self, run: &Run) {
        if run.commands().is_empty() && !self.journal.is_begun() {
            return;
        }
        if let Some(to) = &self.writer.to {
            let news = self.journal.news(run);
            if !news.is_empty() {
                let _ = to.send(news);
            }
        }
    }

    /// The program ends otherwise than its user asked for: everything is written, and stays.
    pub(crate) fn leave(mut self, run: &Run) {
        if self.writer.to.is_none() {
            self.begin_again(run);
        }
        self.write(run);
        let written = self.writer.end();
        let is_whole = self.writer.says.try_iter().last().is_none_or(|said| said.is_ok());
        if written.is_some() && is_whole {
            self.before.drain(..).for_each(|path| drop(fs::remove_file(path)));
        }
    }

    /// It is over: nothing of it stays.
    pub(crate) fn end(mut self) {
        let all = self.writer.end().into_iter().chain(self.before);
        all.for_each(|path| drop(fs::remove_file(path)));
    }
}

/// Writes what comes until nothing more does, or it cannot be written. Gives the file that it made, if anything is in it.
fn write(folder: &Path, lines: &Receiver<String>, says: &Sender<io::Result<()>>) -> Option<PathBuf> {
    // The file is made with the first of them.
    let first = lines.recv().ok()?;
    let made = make(folder);
    let (mut file, path) = match made {
        Ok(made) => made,
        Err(why) => {
            let _ = says.send(Err(io::Error::new(why.kind(), format!("{}: {why}", folder.display()))));
            return None;
        }
    };
    for (i, text) in std::iter::once(first).chain(lines).enumerate() {
        if let Err(why) = file.write_all(text.as_bytes()) {
            let _ = says.send(Err(io::Error::new(why.kind(), format!("{}: {why}", path.display()))));
            break;
        }
        if i == 0 {
            let _ = says.send(Ok(()));
        }
    }
    if file.metadata().is_ok_and(|file| file.len() == 0) {
        let _ = fs::remove_file(path);
        return None;
    }
    Some(path)
}

fn make(folder: &Path) -> io::Result<(File, PathBuf)> {
    // As the specification has it, for this user only.
    DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let name = format!("{PREFIX}{}-{}.{TAKE}", since.as_millis(), std::process::id());
    // Nobody sees it before it is locked.
    let (path, unseen) = (folder.join(&name), folder.join(format!(".{name}")));
    let file = OpenOptions::new().append(true).create_new(true).mode(0o600).open(&unseen)?;
    let seen = flock(&file, FlockOperation::NonBlockingLockExclusive).map_err(io::Error::from);
    seen.and_then(|()| fs::rename(&unseen, &path)).inspect_err(|_| drop(fs::remove_file(&unseen)))?;
    Ok((file, path))
}

/// A session whose program is gone.
pub(crate) struct Left {
    path: PathBuf,
    /// Locked, so that no other program offers it meanwhile.
    file: File,
    /// When something was written last.
    pub(crate) since: SystemTime,
}

/// Sessions that were left, the newest first. The oldest of many go.
pub(crate) fn left(folder: &Path) -> Vec<Left> {
    let Ok(entries) = fs::read_dir(folder) else { return Vec::new() };
    let is_session = |path: &PathBuf| {
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        name.starts_with(PREFIX) && name.ends_with(TAKE)
    };
    let mut paths: Vec<PathBuf> = entries.filter_map(Result::ok).map(|entry| entry.path()).filter(is_session).collect();
    // Their names begin with when they began.
    paths.sort();
    let mut all: Vec<Left> = paths.into_iter().rev().filter_map(Left::of).collect();
    all.drain(MOST_LEFT.min(all.len())..).for_each(Left::remove);
    all
}

impl Left {
    fn of(path: PathBuf) -> Option<Self> {
        if !path.symlink_metadata().ok()?.is_file() {
            return None;
        }
        let file = File::open(&path).ok()?;
        flock(&file, FlockOperation::NonBlockingLockExclusive).ok()?;
        let since = file.metadata().ok()?.modified().ok()?;
        Some(Self { path, file, since })
    }

    /// Reads it.
    ///
    /// # Errors
    /// Why it gives no take, in words.
    pub(crate) fn read(&mut self, own: &[Arc<dyn Motion>]) -> Result<Take, String> {
        // Nothing of what is too long is read: it may be as long as the disk is large.
        if self.file.metadata().is_ok_and(|file| file.len() > MOST_TAKE_BYTES) {
            return Err(format!("it has more than {MOST_TAKE_BYTES} bytes"));
        }
        let bytes = read_take(&self.file).map_err(|why| why.to_string())?;
        Take::read(&bytes, own).map_err(|why| why.to_string())
    }

    /// Nobody wants it any more.
    pub(crate) fn remove(self) {
        let _ = fs::remove_file(&self.path);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_lab::Course;
    use velocitas_record::{Command, LabTime, MemberId, Sudden};

    const PROGRAM: &str = "0";

    fn journal() -> Journal {
        Journal::new("lampwick-quay.course.toml", PROGRAM)
    }

    fn freeze(ns: u64) -> Command {
        Command::Happens(MemberId::new(0), Sudden::Freeze(LabTime(ns)))
    }

    #[test]
    fn a_session_is_there_once_something_was_done_and_is_gone_when_it_is_over() {
        let folder = tempfile::tempdir().expect("a folder");
        let state = folder.path().join("deep").join("velocitas");
        let mut run = Run::new(Course::demo()).expect("it fits");
        let mut session = Session::begin(journal(), state.clone());
        run.advance(LabTime::from_secs(1.0));
        assert_eq!(session.follow(&run, EVERY), None);
        session.leave(&run);
        assert!(!state.exists(), "nothing was done, so nothing can be lost");

        let mut session = Session::begin(journal(), state.clone());
        run.command(freeze(1));
        assert_eq!(session.follow(&run, EVERY), None);
        run.advance(LabTime::from_secs(2.0));
        session.leave(&run);
        let mut found = left(&state);
        let take = found[0].read(&[]).expect("sound");
        assert_eq!((found.len(), take.end, take.commands.len(), take.damage), (1, run.now(), 1, None));
        assert_eq!(left(&state).len(), 0, "whoever looks at it has it");
        drop(found);

        let mut session = Session::begin(journal(), state.clone());
        session.follow(&run, EVERY);
        session.end();
        let found = left(&state);
        assert_eq!(found.len(), 1, "of the one that is over nothing stays");
        found.into_iter().for_each(Left::remove);
        assert_eq!(left(&state).len(), 0);
    }

    #[test]
    fn a_live_session_is_not_offered_and_the_oldest_of_many_go() {
        let folder = tempfile::tempdir().expect("a folder");
        let mut run = Run::new(Course::demo()).expect("it fits");
        run.command(freeze(1));
        let mut live = Session::begin(journal(), folder.path().to_owned());
        live.write(&run);
        let seen =
            |entry: io::Result<fs::DirEntry>| !entry.expect("an entry").file_name().to_string_lossy().starts_with('.');
        while !fs::read_dir(folder.path()).expect("a folder").any(seen) {
            std::thread::sleep(Duration::from_millis(1));
        }
        assert_eq!(left(folder.path()).len(), 0);
        for i in 0..MOST_LEFT + 3 {
            fs::write(folder.path().join(format!("session-{i:03}-1.take")), "").expect("written");
        }
        fs::write(folder.path().join("of-the-user.take"), "").expect("written");
        let found = left(folder.path());
        assert_eq!((found.len(), found[0].path.ends_with("session-010-1.take")), (MOST_LEFT, true));
        live.end();
        assert_eq!(fs::read_dir(folder.path()).expect("a folder").count(), MOST_LEFT + 1);
    }

    #[test]
    fn what_could_not_be_written_for_a_while_is_kept_again_and_until_then_that_is_said() {
        let folder = tempfile::tempdir().expect("a folder");
        let state = folder.path().join("state");
        // In the way of the folder, for a while.
        fs::write(&state, "").expect("written");
        let mut run = Run::new(Course::demo()).expect("it fits");
        let mut session = Session::begin(journal(), state.clone());
        let mut said = Vec::new();
        let mut follow = |session: &mut Session, run: &mut Run, times: u64| {
            for ns in 0..times {
                run.command(freeze(ns));
                run.advance(run.now().plus(LabTime(10_000_000)));
                said.extend(session.follow(run, EVERY));
                std::thread::sleep(Duration::from_millis(2));
            }
            said.clone()
        };
        let first = follow(&mut session, &mut run, 40);
        assert!(first.len() == 1 && first[0].starts_with("the session is not kept: "), "{first:?}");
        assert!(session.trouble().is_some_and(|why| why.contains("state")), "it is said as long as it is so");
        fs::remove_file(&state).expect("there");
        let then = follow(&mut session, &mut run, 40);
        assert_eq!(then[1..], ["the session is kept again, from its beginning on"]);
        assert_eq!(session.trouble(), None);
        session.leave(&run);
        let mut found = left(&state);
        let take = found[0].read(&[]).expect("sound");
        assert_eq!((found.len(), take.end, take.commands.len(), take.damage), (1, run.now(), 80, None));
    }

    #[test]
    fn a_folder_that_cannot_be_made_is_told_once() {
        let folder = tempfile::tempdir().expect("a folder");
        let file = folder.path().join("file");
        fs::write(&file, "").expect("written");
        let mut run = Run::new(Course::demo()).expect("it fits");
        run.command(freeze(1));
        let mut session = Session::begin(journal(), file);
        let mut said = Vec::new();
        for _ in 0..50 {
            said.extend(session.follow(&run, EVERY));
            run.advance(run.now().plus(LabTime(1_000_000)));
            std::thread::sleep(Duration::from_millis(1));
        }
        assert!(said.len() == 1 && said[0].starts_with("the session is not kept: "), "{said:?}");
    }

    const STATE: &str = "VELOCITAS_TEST_STATE";

    #[test]
    #[ignore = "the other program of the next test: it writes until it is killed"]
    fn a_program_that_writes_until_it_is_killed() {
        let Some(folder) = std::env::var_os(STATE) else { return };
        let mut run = Run::new(Course::demo()).expect("it fits");
        let mut session = Session::begin(journal(), folder.into());
        for ns in 0.. {
            run.command(freeze(ns % 1000));
            run.advance(run.now().plus(LabTime(20_000_000)));
            if ns % 300 == 299 {
                run.resume_from(LabTime(run.now().0 / 2));
            }
            assert_eq!(session.follow(&run, EVERY), None);
        }
    }

    #[test]
    #[ignore = "two hundred programs, two minutes"]
    fn whatever_moment_a_program_is_killed_at_what_it_wrote_opens_and_is_the_same() {
        let (mut commands, mut cut) = (0, 0);
        for i in 0..200u64 {
            let folder = tempfile::tempdir().expect("a folder");
            let mut program = std::process::Command::new(std::env::current_exe().expect("this program"))
                .args(["--exact", "session::tests::a_program_that_writes_until_it_is_killed", "--ignored"])
                .env(STATE, folder.path())
                .stdout(std::process::Stdio::null())
                .spawn()
                .expect("it starts");
            let is_there = || fs::read_dir(folder.path()).expect("a folder").count() > 0;
            while !is_there() {
                std::thread::yield_now();
            }
            // Odd microseconds, so that lines are met at any of their bytes.
            std::thread::sleep(Duration::from_micros(i * i * 11 % 150_000));
            program.kill().expect("killed");
            program.wait().expect("gone");
            let mut found = left(folder.path());
            // It may have been killed before anybody could see its file.
            let Some(left) = found.first_mut() else { continue };
            let bytes = fs::read(&left.path).expect("there");
            if bytes.iter().filter(|b| **b == b'\n').count() < 2 {
                continue;
            }
            let take = left.read(&[]).unwrap_or_else(|why| panic!("{i}: {why}"));
            (commands, cut) = (commands + take.commands.len(), cut + usize::from(take.damage.is_some()));
            let mut run = Run::of_take(&take).expect("it fits");
            run.advance(take.end);
            assert_eq!((run.parted(), run.commands().len()), (None, take.commands.len()), "{i}");
        }
        crate::files::stream::complain(format_args!(
            "{commands} commands came back; {cut} of 200 files end in mid-line\n"
        ));
        assert!(commands > 2000, "{commands}");
    }
}
