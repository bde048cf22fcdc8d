//! The full-screen interface.
//!
//! State, update, draw: the [`Stage`](stage::Stage) is what every screen shares (run, playhead, selections), keys
//! become [`Action`](action::Action)s in one table, [`draw`] turns the stage into cells and changes nothing. One
//! thread: between two frames the lab is advanced for at most 8 ms.

mod action;
mod driving;
mod field;
mod help;
mod keyline;
mod masthead;
mod palette;
mod panel;
mod rail;
mod rules;
mod screen;
mod stage;
mod terminal;

#[cfg(test)]
mod tests;

use std::io::stdout;
use std::time::{Duration, Instant};

use crossterm::event::{self, Event};
use ratatui::backend::CrosstermBackend;
use ratatui::layout::Size;
use velocitas_lab::{Course, Run};

pub use palette::{Colours, Palette};
pub use screen::draw;
pub use stage::Stage;

use crate::files::OpenError;
use stage::Wish;
use terminal::{Signals, Tty};

/// How the interface is opened.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// The course's own file, beside which its gaits are looked for.
    pub file: Option<std::path::PathBuf>,
    /// Plain ASCII characters only.
    pub ascii: bool,
    /// Another seed than the course's.
    pub seed: Option<u64>,
}

/// Between two frames.
const FRAME: Duration = Duration::from_millis(33);
/// What the lab may take of it.
const SLICE: Duration = Duration::from_millis(8);

/// Opens the interface on a course and returns when the user leaves.
///
/// # Errors
/// When the course cannot be run or the terminal cannot be used.
pub fn run(mut course: Course, options: &Options) -> Result<(), OpenError> {
    course.seed = options.seed.unwrap_or(course.seed);
    let run = Run::new(course)?;
    let mut stage = Stage::new(run, Palette::from_environment(options.ascii));
    stage.read_from(options.file.as_deref());
    let signals = Signals::listen().map_err(OpenError::Terminal)?;
    let mut tty = Tty::take().map_err(OpenError::Terminal)?;
    let done = frames(&mut stage, &mut tty, &signals).map_err(OpenError::Terminal);
    tty.give_back();
    done
}

fn frames(stage: &mut Stage, tty: &mut Tty, signals: &Signals) -> std::io::Result<()> {
    let mut terminal = ratatui::Terminal::new(CrosstermBackend::new(stdout()))?;
    stage.resized(terminal.size()?);
    terminal.draw(|frame| draw(stage, frame.area(), frame.buffer_mut()))?;
    tracing::info!("first frame");
    // Asking the terminal takes a round trip to it: not before there is something to see.
    stage.driving.releases = tty.ask_for_releases();
    let mut before = Instant::now();
    loop {
        let frame_began = Instant::now();
        let passed = frame_began.duration_since(before);
        before = frame_began;
        stage.resized(terminal.size()?);
        stage.look_at_files(passed);
        advance(stage, passed);
        terminal.draw(|frame| draw(stage, frame.area(), frame.buffer_mut()))?;
        let mut wait = FRAME.saturating_sub(frame_began.elapsed());
        while event::poll(wait)? {
            let size = terminal.size()?;
            match stage_event(stage, &event::read()?, size) {
                Some(Wish::Leave) => return Ok(()),
                Some(Wish::Suspend) => suspend(tty, &mut terminal)?,
                Some(Wish::Edit(path)) => {
                    tty.give_back();
                    let done = edit(&path);
                    *tty = Tty::take()?;
                    stage.driving.releases = tty.ask_for_releases();
                    terminal.clear()?;
                    stage.edited(done);
                    // What was edited was no time of the world.
                    before = Instant::now();
                }
                None => {}
            }
            wait = FRAME.saturating_sub(frame_began.elapsed());
        }
        if signals.leave() {
            return Ok(());
        }
        if signals.suspend() {
            suspend(tty, &mut terminal)?;
        }
    }
}

/// Lets virtual time catch up with real time, for a slice at most.
fn advance(stage: &mut Stage, passed: Duration) {
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

fn stage_event(stage: &mut Stage, event: &Event, size: Size) -> Option<Wish> {
    match event {
        Event::Key(key) => stage.key(key),
        Event::Mouse(mouse) => {
            stage.mouse(mouse, size);
            None
        }
        Event::FocusLost => {
            stage.release_all();
            None
        }
        _ => None,
    }
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

fn suspend(tty: &mut Tty, terminal: &mut ratatui::Terminal<CrosstermBackend<std::io::Stdout>>) -> std::io::Result<()> {
    tty.give_back();
    terminal::stop_until_continued()?;
    *tty = Tty::take()?;
    terminal.clear()
}
