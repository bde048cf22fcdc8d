//! The full-screen interface.
//!
//! State, update, draw: the [`Stage`] is what every screen shares (run, playhead, selections), keys
//! become `Action`s in one table, [`draw`] turns the stage into cells and changes nothing. One
//! thread: between two frames the lab is advanced for at most 8 ms.

mod action;
mod behind;
mod bindings;
mod branch;
mod budget;
mod canvas;
mod course;
mod dots;
mod driving;
mod edits;
mod export;
mod field;
mod frame;
mod guard;
mod hands;
mod helm;
mod help;
mod input;
mod job;
mod keyline;
mod knobs;
mod ladder;
mod masthead;
mod palette;
mod panel;
mod parts;
mod playhead;
mod plot;
mod popup;
mod popups;
mod price;
mod prompt;
mod rail;
mod recall;
mod record;
mod rules;
mod scope;
mod screens;
mod stage;
mod take;
mod terminal;
mod typing;
mod view;
mod who;
mod why;
mod world;

#[cfg(test)]
mod tests;

use std::io::stdout;
use std::mem::ManuallyDrop;
use std::time::{Duration, Instant};

use ratatui::backend::CrosstermBackend;
use ratatui::layout::Size;
use signal_hook::consts::SIGHUP;
use velocitas_lab::Keep;
use velocitas_record::{LabTime, MemberId};

pub use frame::{Frame, draw};
pub use palette::{Colours, Palette};
pub use stage::Stage;

use crate::files::{self, OpenError, Opened};
use crate::progress::{advance_to, progress};
use crate::{remembered, session};
use input::{Inbox, Input};
use stage::Wish;
use terminal::{Signals, Tty};

/// How the interface is opened.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// The course's own file, beside which its gaits are looked for.
    pub file: Option<std::path::PathBuf>,
    /// Rules of the user's own, that a course which is saved may name.
    pub own: Vec<std::sync::Arc<dyn velocitas_core::Motion>>,
    /// Plain ASCII characters only.
    pub ascii: bool,
    /// Another seed than the course's.
    pub seed: Option<u64>,
    /// How much is kept to look back at; [`Keep::USUAL`] if nothing is said.
    pub keep: Option<Keep>,
    /// The moment to run to first, and to stop at.
    pub at: Option<LabTime>,
    /// Whom to look at first; the first of the cast if nothing is said.
    pub entity: Option<MemberId>,
}

/// Never dropped as such: dropping it would complain on a terminal that is gone, and [`Tty`] restores more.
type Screen = ManuallyDrop<ratatui::Terminal<CrosstermBackend<std::io::Stdout>>>;

fn blank() -> std::io::Result<Screen> {
    Ok(ManuallyDrop::new(ratatui::Terminal::new(CrosstermBackend::new(stdout()))?))
}

/// Between two frames.
const FRAME: Duration = Duration::from_millis(33);
/// Between two looks around while nothing moves: for saved files, signals, and a terminal of another size.
const IDLE: Duration = Duration::from_millis(200);
/// How much of what followed is run as well when a moment is opened.
const BEYOND: LabTime = LabTime(2_000_000_000);
/// What the lab may take of it.
const SLICE: Duration = Duration::from_millis(8);

/// Opens the interface on a course, or on a take to look back at, and returns when the user leaves.
///
/// # Errors
/// When the course cannot be run or the terminal cannot be used.
pub fn run(opened: &Opened, options: &Options) -> Result<(), OpenError> {
    let opened = &opened.clone().seeded(options.seed)?;
    let mut run = opened.run()?;
    let keep = options.keep.unwrap_or(Keep::USUAL);
    run.set_keep(keep);
    run.meter();
    terminal::is_able().map_err(OpenError::Terminal)?;
    if let (Some(at), None) = (options.at, opened.end()) {
        let to = at.plus(BEYOND);
        let bar = progress("running there", to);
        advance_to(&mut run, to, &bar);
        bar.finish_and_clear();
    }
    let mut stage = Frame::new(run, Palette::from_environment(options.ascii));
    stage.origin = stage::origin::Origin { file: None, seed: options.seed, keep };
    stage.read_from(options.file.as_deref().filter(|_| opened.end().is_none()), &options.own);
    stage.tell_warnings();
    // Of a run that is over there is nothing to be kept.
    let folder = session::folder().filter(|_| opened.record().is_none());
    let left = folder.as_deref().map(session::left).unwrap_or_default();
    if folder.is_none() && opened.record().is_none() {
        stage.say(
            "neither XDG_STATE_HOME nor HOME names a folder: what is done here is not kept if the program is killed",
        );
    }
    if let Some(folder) = &folder {
        match remembered::read(folder) {
            Ok(remembered) => stage.shown.recall(&remembered),
            Err(why) => stage.say(why),
        }
    }
    let remembered = stage.shown.remember();
    stage.keep_session(&files::course_name(opened, options.file.as_deref()), folder.clone(), &options.own);
    look_first(&mut stage, opened, options, left);
    let signals = Signals::listen().map_err(OpenError::Terminal)?;
    let inbox = Inbox::new();
    let mut tty = Tty::take(&inbox).map_err(OpenError::Terminal)?;
    let done = frames(&mut stage, &mut tty, &inbox, &signals);
    tty.give_back();
    let shown = stage.shown.remember();
    if let Some(Err(why)) = folder.filter(|_| shown != remembered).map(|folder| remembered::write(&folder, &shown)) {
        tracing::warn!("what the screens show is not remembered: {why}");
    }
    stage.end_session(matches!(done, Ok(Left::Wished)) && signals.leave().is_none());
    match (done, signals.leave()) {
        (_, Some(signal)) => Err(OpenError::Signal(signal)),
        (Ok(Left::Wished), None) => Ok(()),
        // Whoever ignores the signal is told in another way that the terminal is gone.
        (Ok(Left::Gone), None) => Err(OpenError::Signal(SIGHUP as u8)),
        (Err(why), None) if why.raw_os_error() == Some(rustix::io::Errno::IO.raw_os_error()) => {
            Err(OpenError::Signal(SIGHUP as u8))
        }
        (Err(why), None) => Err(OpenError::Terminal(why)),
    }
}

/// Goes to what is looked at first: that of a take, of a record, or of a course.
fn look_first(stage: &mut Frame, opened: &Opened, options: &Options, left: Vec<session::Left>) {
    match opened.take() {
        Some(take) => {
            let look = take.look;
            stage.open_at(options.at, options.entity.or(look.map(|(_, who)| who)));
            stage.reads(take, Some(options.at.or(look.map(|(at, _)| at)).unwrap_or_default()), None);
        }
        None if opened.record().is_some() => {
            stage.open_at(Some(options.at.unwrap_or_default()), options.entity);
            if let Some(damage) = opened.record().and_then(|stored| stored.damage.as_ref()) {
                stage.say(format!("the record is not whole: {damage}"));
            }
        }
        None => {
            stage.open_at(options.at, options.entity);
            stage.offer_session(left);
        }
    }
}

/// Why the interface was left.
enum Left {
    Wished,
    /// The terminal is no more, or a signal came.
    Gone,
}

fn frames(stage: &mut Frame, tty: &mut Tty, inbox: &Inbox, signals: &Signals) -> std::io::Result<Left> {
    let mut terminal = blank()?;
    stage.resized(terminal.size()?);
    terminal.draw(|frame| draw(stage, frame.area(), frame.buffer_mut()))?;
    tracing::info!("first frame");
    // Not before there is something to see.
    tty.ask_for_releases()?;
    let mut before = Instant::now();
    let (mut size, mut changed) = (terminal.size()?, true);
    let mut rested = false;
    loop {
        let frame_began = Instant::now();
        let passed = frame_began.duration_since(before);
        before = frame_began;
        changed |= std::mem::replace(&mut size, terminal.size()?) != size;
        stage.resized(size);
        changed |= look_around(stage, passed);
        // Time in which nothing moved is no time of the world.
        advance(stage, if rested { passed.min(FRAME) } else { passed });
        let moves = stage.moves();
        if changed || moves || !rested {
            terminal.draw(|frame| draw(stage, frame.area(), frame.buffer_mut()))?;
        }
        (changed, rested) = (false, !moves);
        let mut wait = if moves || stage.works() || stage.is_unfinished() { FRAME } else { IDLE };
        while let Some((arrived, input)) = inbox.next(wait.saturating_sub(frame_began.elapsed())) {
            changed = true;
            if !moves {
                // What has arrived meanwhile is taken at once, and then it is seen.
                wait = Duration::ZERO;
            }
            match taken(stage, (arrived, &input), tty, terminal.size()?)? {
                Some(Wish::Leave) => return Ok(Left::Wished),
                Some(Wish::Suspend) => {
                    aside(stage, tty, inbox, &mut terminal, terminal::stop_until_continued)??;
                    before = Instant::now();
                }
                Some(Wish::Edit(path)) => {
                    let done = aside(stage, tty, inbox, &mut terminal, || edit(&path))?;
                    stage.edited(done);
                    // What was edited was no time of the world.
                    before = Instant::now();
                }
                None if input == Input::Gone => return Ok(Left::Gone),
                // What a line asked the frame for it has done.
                Some(Wish::Act(_)) | None => {}
            }
            if frame_began.elapsed() > FRAME {
                // However much arrives, frames go on.
                break;
            }
        }
        if signals.leave().is_some() {
            return Ok(Left::Gone);
        }
        if signals.suspend() {
            aside(stage, tty, inbox, &mut terminal, terminal::stop_until_continued)??;
            // The terminal comes back empty.
            (before, changed) = (Instant::now(), true);
        }
    }
}

/// Real time has passed: files, work beside the frames and the session are looked at. Says whether anything is to be drawn anew.
fn look_around(stage: &mut Frame, passed: Duration) -> bool {
    let mut changed = stage.look_at_files(passed);
    changed |= stage.notices.fade(passed);
    changed |= stage.look_at_jobs();
    changed |= stage.read_on();
    changed |= stage.follow_session(passed);
    changed | stage.is_unfinished()
}

/// Gives the terminal back while something else has it, and takes it again.
fn aside<T>(
    stage: &mut Frame,
    tty: &mut Tty,
    inbox: &Inbox,
    terminal: &mut Screen,
    meanwhile: impl FnOnce() -> T,
) -> std::io::Result<T> {
    stage.release_all();
    tty.give_back();
    let done = meanwhile();
    *tty = Tty::take(inbox)?;
    // Another terminal may have continued us: what it can is asked anew, and all is drawn anew. Asking where the cursor
    // is, as clearing does, would depend on an answer.
    stage.helm.driving.releases = false;
    tty.ask_for_releases()?;
    *terminal = blank()?;
    Ok(done)
}

/// Lets virtual time catch up with real time, for a slice at most.
fn advance(stage: &mut Frame, passed: Duration) {
    let began = Instant::now();
    stage.wait_for(passed);
    while stage.advance_a_little() {
        if began.elapsed() > SLICE {
            stage.fell_behind();
            return;
        }
    }
    stage.caught_up();
}

/// Takes what the terminal sent.
fn taken(
    stage: &mut Frame,
    (arrived, input): (Instant, &Input),
    tty: &Tty,
    size: Size,
) -> std::io::Result<Option<Wish>> {
    match input {
        Input::Key(_) | Input::Paste(_) if stage.waited_for_an_export(arrived, input) => {}
        Input::Key(key) => return Ok(stage.key(key)),
        Input::Paste(text) => stage.paste(text),
        Input::Mouse(mouse) => stage.mouse(mouse, size),
        Input::FocusLost => stage.release_all(),
        Input::Releases if !stage.helm.driving.releases => {
            tty.want_releases()?;
            stage.helm.driving.releases = true;
        }
        Input::Releases | Input::Gone => {}
    }
    Ok(None)
}

/// Opens a file in the user's editor and waits for it.
fn edit(path: &std::path::Path) -> Result<(), String> {
    let set = |name| std::env::var(name).ok().filter(|v| !v.trim().is_empty());
    let editor = set("VISUAL").or_else(|| set("EDITOR")).unwrap_or_else(|| "vi".to_owned());
    // As shells do: an editor may come with arguments of its own.
    let mut words = editor.split_whitespace();
    let program = words.next().unwrap_or("vi");
    match std::process::Command::new(program).args(words).arg(path).status() {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(format!("`{editor}` ended with {status}")),
        Err(why) => Err(format!("cannot start `{editor}`: {why}; set EDITOR to the editor you want")),
    }
}
