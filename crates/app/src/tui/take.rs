//! Takes in the interface: the run kept as one, one that was opened, and the session of a program that did not end as it should.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind};
use ratatui::buffer::Buffer;
use velocitas_core::Motion;
use velocitas_lab::Run;
use velocitas_lab::take::{Journal, Take};
use velocitas_record::LabTime;

use super::canvas::{popup, write};
use super::palette::Tone;
use super::popup::{Popup, Pressed, Room};
use super::stage::Stage;
use super::stage::kept::{Kept, Reading};
use crate::files::{OpenError, Output, TAKE, another_version};
use crate::session::{Left, Session};

/// What reading may take of a frame: the rest is for drawing and keys.
const SLICE: Duration = Duration::from_millis(24);
/// Virtual time run between two looks at the clock.
const GRAIN: LabTime = LabTime(100_000_000);

impl Stage {
    /// The run came from a course's file of this name; its session is written into a folder, if into any.
    pub(super) fn keep_session(&mut self, file: &str, folder: Option<PathBuf>, own: &[Arc<dyn Motion>]) {
        self.kept = Kept { file: file.to_owned(), own: own.to_vec(), folder, ..Kept::default() };
        self.begin_session();
    }

    /// Rules of the user's own, that a file may name.
    pub(super) fn own_rules(&self) -> Vec<Arc<dyn Motion>> {
        self.kept.own.clone()
    }

    pub(super) fn journal(&self) -> Journal {
        Journal::new(&self.kept.file, env!("CARGO_PKG_VERSION"))
    }

    /// Another run takes its place: what there was of the session before is over.
    fn begin_session(&mut self) {
        let begun = self.kept.folder.clone().map(|folder| Session::begin(self.journal(), folder));
        if let Some(over) = std::mem::replace(&mut self.kept.session, begun) {
            over.end();
        }
    }

    /// The same for a run that was begun again.
    pub(super) fn session_again(&mut self, before: Kept) {
        self.kept = Kept { reading: None, trouble: None, ..before };
        self.begin_session();
    }

    /// Real time has passed: what was done is written. Says whether there is something to say.
    pub(super) fn follow_session(&mut self, passed: Duration) -> bool {
        let run = self.past.present.as_deref().unwrap_or(&self.run);
        let wrong = self.kept.session.as_mut().and_then(|session| session.follow(run, passed));
        let any = wrong.is_some();
        if let Some(wrong) = wrong {
            self.say(wrong);
        }
        any
    }

    /// The interface ends, as its user wished or otherwise.
    pub(super) fn end_session(&mut self, wished: bool) {
        match self.kept.session.take() {
            Some(session) if wished => session.end(),
            Some(session) => {
                let run = self.past.present.as_deref().unwrap_or(&self.run);
                session.leave(run);
            }
            None => {}
        }
    }

    /// The newest session that was left and can be read, to be offered: the run stands until that is answered.
    pub(super) fn offer_session(&mut self, left: Vec<Left>) -> Option<Box<dyn Popup>> {
        let (left, take) =
            left.into_iter().find_map(|mut left| left.read(&self.kept.own).ok().map(|take| (left, take)))?;
        let goes_on = std::mem::replace(&mut self.pace.running, false);
        Some(Box::new(LeftSession { offered: Some((left, take)), goes_on }))
    }

    /// Looks back into the run of a take, which is read on between frames.
    fn read_take(&mut self, take: &Take, wanted: Option<LabTime>, was: Option<Left>) -> Result<(), OpenError> {
        let run = Run::of_take(take)?;
        let mut stage = self.anew(run);
        stage.origin =
            super::stage::origin::Origin { keep: self.origin.keep, ..super::stage::origin::Origin::default() };
        stage.kept = Kept { file: take.file.clone(), ..std::mem::take(&mut self.kept) };
        *self = stage;
        self.begin_session();
        self.reads(take, wanted, was);
        Ok(())
    }

    /// The run is that of a take, at its beginning: it is read up to its end.
    pub(super) fn reads(&mut self, take: &Take, wanted: Option<LabTime>, was: Option<Left>) {
        self.pace.running = false;
        let damage = take.damage.map(|damage| format!("the take is {}", damage.briefly()));
        self.kept.trouble = damage.or_else(|| another_version(take).map(|why| format!("the take: {why}")));
        self.kept.reading = Some(Reading { to: take.end, wanted, was });
        self.refresh();
    }

    /// Reads a take on, for the better part of a frame. Says whether it did.
    pub(super) fn read_on(&mut self) -> bool {
        let Some(reading) = &self.kept.reading else { return false };
        let (to, wanted, began) = (reading.to, reading.wanted, Instant::now());
        while self.run.now() < to && began.elapsed() < SLICE {
            self.run.advance(to.min(self.run.now().plus(GRAIN)));
        }
        let over = self.run.now() >= to;
        let was_read = if over { self.kept.reading.take() } else { None };
        let at = wanted.unwrap_or(self.run.now());
        if self.at != at.min(self.run.now()) || over {
            self.look(at);
        } else {
            self.follow();
        }
        if let Some(reading) = was_read {
            self.read_whole(reading);
        }
        true
    }

    fn read_whole(&mut self, reading: Reading) {
        let count = self.run.digests().len();
        match self.run.parted() {
            Some(at) => {
                let why =
                    format!("this is another program: the run is no longer what was kept from checkpoint {at} on");
                self.kept.trouble = Some(why);
            }
            None => {
                let same = if count == 1 { "its checkpoint".to_owned() } else { format!("all {count} checkpoints") };
                self.say(format!("the take is read to {}, the same as it was at {same}", reading.to));
            }
        }
        if let Some(left) = reading.was {
            // It is written anew before it goes.
            self.follow_session(Duration::from_secs(3600));
            left.remove();
        }
    }

    /// How far a take is read, while it is.
    pub(super) fn reading(&self) -> Option<(LabTime, LabTime)> {
        self.kept.reading.as_ref().map(|reading| (self.run.now(), reading.to))
    }

    /// What needs all of the run waits until the take is read, and says so.
    pub(super) fn must_wait(&mut self) -> bool {
        let Some((now, to)) = self.reading() else { return false };
        self.say(format!("the take is still being read: {now} of {to}"));
        true
    }

    /// What is wrong with the take that the run came from, in a line.
    pub(super) fn take_trouble(&self) -> Option<&str> {
        self.kept.trouble.as_deref()
    }

    /// What is wrong with keeping the session, as long as it is.
    pub(super) fn session_trouble(&self) -> Option<&str> {
        self.kept.session.as_ref()?.trouble()
    }

    /// Keeps the run so far as a take in a folder, under a name or one that is free.
    pub(super) fn keep_take(&mut self, folder: &Path, name: Option<&str>) -> Result<String, String> {
        if let Some((now, to)) = self.reading() {
            return Err(format!("the take is still being read: {now} of {to}"));
        }
        let mut journal = self.journal();
        let text = journal.news(self.whole()) + &journal.look(self.at, self.name(self.selected.entity));
        let write = |name: &str| -> Result<(), OpenError> {
            Output::create_new(&folder.join(name))?.finish(|out| out.write_all(text.as_bytes()))
        };
        let ending = format!(".{TAKE}");
        let name = match name {
            Some(name) if name.ends_with(&ending) => name.to_owned(),
            Some(name) => format!("{name}{ending}"),
            None => {
                let stem = self.kept.file.split('.').next().filter(|stem| !stem.is_empty()).unwrap_or("run");
                let stem: String = stem.chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
                let free = |n: &u32| folder.join(format!("{stem}-{n}{ending}")).symlink_metadata().is_err();
                format!("{stem}-{}{ending}", (1..).find(free).unwrap_or(1))
            }
        };
        write(&name).map_err(|why| why.to_string())?;
        Ok(format!("kept as {name}, to {}: `velocitas {name}` opens it", self.whole().now()))
    }

    /// The same, from a key.
    pub(super) fn take_key(&mut self) {
        let said = self.keep_take(Path::new("."), None).unwrap_or_else(|why| why);
        self.say(said);
    }
}

/// How long ago something was, in words.
fn ago(since: SystemTime) -> String {
    let seconds = SystemTime::now().duration_since(since).unwrap_or_default().as_secs();
    let (count, unit) = match seconds {
        0..60 => return "just now".to_owned(),
        60..3600 => (seconds / 60, "minute"),
        3600..86_400 => (seconds / 3600, "hour"),
        _ => (seconds / 86_400, "day"),
    };
    format!("{count} {unit}{} ago", if count == 1 { "" } else { "s" })
}

/// A session that was left by another program, to be opened or not.
struct LeftSession {
    /// Until that is answered.
    offered: Option<(Left, Take)>,
    /// Whether the run goes on then.
    goes_on: bool,
}

impl Popup for LeftSession {
    fn is_modal(&self) -> bool {
        true
    }

    fn key(&mut self, stage: &mut Stage, key: &KeyEvent) -> Pressed {
        if key.kind != KeyEventKind::Press {
            return Pressed::Taken;
        }
        let Some((left, take)) = self.offered.take() else { return Pressed::Closes };
        match key.code {
            KeyCode::Enter => {
                if let Err(why) = stage.read_take(&take, None, Some(left)) {
                    stage.say(why.to_string());
                }
            }
            KeyCode::Char('D') => {
                left.remove();
                stage.pace.running = self.goes_on;
                stage.say("dropped the session that was left");
            }
            KeyCode::Esc => {
                stage.pace.running = self.goes_on;
                stage.say("left for later: it is offered again at the next start");
            }
            code => {
                self.offered = Some((left, take));
                // Who leaves now is asked again at the next start.
                return if code == KeyCode::Char('q') { Pressed::NotMine } else { Pressed::Taken };
            }
        }
        Pressed::Closes
    }

    fn draw(&self, stage: &Stage, room: Room, buffer: &mut Buffer) {
        let Some((left, take)) = &self.offered else { return };
        let p = stage.palette;
        let (text, muted, key) = (p.text(Tone::Text), p.text(Tone::Muted), p.chosen());
        let title = "a session was not closed";
        let inner = popup(stage.palette, room.screen, (74, 7), title, buffer);
        let (x, end) = (inner.x + 1, inner.right());
        let done = take.commands.len();
        let done = format!("{done} thing{} done", if done == 1 { "" } else { "s" });
        let what = format!("{} to {} {} {done} {} {}", take.file, take.end, p.dot(), p.dot(), ago(left.since));
        write(
            buffer,
            (x, inner.y),
            end,
            &[("its program ended before anybody left it; this is what was written", muted)],
        );
        write(buffer, (x, inner.y + 2), end, &[(&what, text)]);
        let keys = [
            ("Enter ", key),
            ("opens it   ", muted),
            ("Esc ", key),
            ("next time   ", muted),
            ("D ", key),
            ("drops it", muted),
        ];
        write(buffer, (x, inner.bottom().saturating_sub(1)), end, &keys);
    }
}
