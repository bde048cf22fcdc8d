//! What is around the stage: how the terminal is divided, which screen is shown, and to whom a key or the mouse goes.
//!
//! ```text
//! masthead                                       2 rows
//! the screen                       | side panel
//! rail                                           8 to 10 rows
//! key line                                       1 row
//! ```

use std::ops::{Deref, DerefMut};
use std::path::Path;
use std::time::Instant;

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, MouseButton, MouseEvent, MouseEventKind};
use ratatui::buffer::Buffer;
use ratatui::layout::{Rect, Size};
use velocitas_analysis::slices::Sliced;
use velocitas_lab::Run;
use velocitas_report::drawing::Theme;

use super::action::Action;
use super::bindings::action;
use super::canvas::clear;
use super::export::export;
use super::input::Input;
use super::palette::{Palette, Tone};
use super::popup::Room;
use super::popups::Popups;
use super::screens::{Screen, Shown};
use super::stage::{Stage, Wish};
use super::view::{Answer, Under};
use super::{keyline, masthead, rail};
use crate::session::Left;

/// The smallest terminal there is room in.
const LEAST: (u16, u16) = (80, 24);
/// Width of the side panel.
const PANEL: u16 = 47;
/// From this width on the panel has a place of its own.
const WIDE: u16 = 110;

/// A stage with the screens around it. What is not the frame's own is the stage's.
pub struct Frame {
    stage: Stage,
    pub(super) shown: Shown,
    pub(super) popups: Popups,
    /// What the rail shows, kept while it holds.
    sliced: Sliced,
    /// Where the screen was drawn last: what is seen there is taken away.
    area: Rect,
    /// When what was seen was written last.
    exported: Option<Instant>,
}

impl Deref for Frame {
    type Target = Stage;
    fn deref(&self) -> &Stage {
        &self.stage
    }
}

impl DerefMut for Frame {
    fn deref_mut(&mut self) -> &mut Stage {
        &mut self.stage
    }
}

/// Where everything is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Layout {
    pub(super) masthead: Rect,
    pub(super) screen: Rect,
    pub(super) panel: Option<Rect>,
    pub(super) rail: Rect,
    pub(super) keys: Rect,
}

impl Layout {
    /// `None` when there is too little room.
    pub(super) fn of(area: Rect, stage: &Stage) -> Option<Self> {
        if area.width < LEAST.0 || area.height < LEAST.1 {
            return None;
        }
        let members = stage.run.course().cast.len() as u16;
        let rail = if area.height >= 40 {
            (5 + members).clamp(8, 11)
        } else if area.height >= 32 {
            (5 + members).clamp(6, 8)
        } else {
            4
        };
        // A branch has a lane of its own.
        let rail = if area.height >= 32 { rail + u16::from(stage.branching.branch.is_some()) } else { rail };
        let middle = area.height - 2 - rail - 1;
        let row = |y: u16, height: u16| Rect::new(area.x, area.y + y, area.width, height);
        let body = row(2, middle);
        let wide = area.width >= WIDE;
        let panel = (wide || stage.panel).then(|| Rect { x: body.right() - PANEL, width: PANEL, ..body });
        let screen = if wide { Rect { width: body.width - PANEL, ..body } } else { body };
        Some(Self { masthead: row(0, 2), screen, panel, rail: row(2 + middle, rail), keys: row(area.height - 1, 1) })
    }
}

impl Frame {
    /// A run at its beginning, running, on the first screen.
    pub fn new(run: Run, palette: Palette) -> Self {
        Self {
            stage: Stage::new(run, palette),
            shown: Shown::default(),
            popups: Popups::default(),
            sliced: Sliced::default(),
            area: Rect::new(0, 2, 113, 33),
            exported: None,
        }
    }

    /// The screen that is shown.
    pub(super) const fn screen(&self) -> Screen {
        self.shown.screen()
    }

    /// Whether drawing again would show more, although nothing moves.
    pub(super) fn is_unfinished(&self) -> bool {
        self.shown.view().is_unfinished()
    }

    /// Presses plain keys, one after the other: for benchmarks.
    pub fn press_keys(&mut self, keys: &str) {
        for c in keys.chars() {
            self.key(&KeyEvent::new(KeyCode::Char(c), crossterm::event::KeyModifiers::NONE));
        }
    }

    /// Takes a key.
    pub(super) fn key(&mut self, key: &KeyEvent) -> Option<Wish> {
        let wish = self.key_of_any(key);
        match wish {
            Some(Wish::Act(action)) => self.act(action),
            wish => wish,
        }
    }

    fn key_of_any(&mut self, key: &KeyEvent) -> Option<Wish> {
        let meant = action(key, self.screen());
        if key.kind == KeyEventKind::Press && meant == Some(Action::QuitAlways) {
            return self.leave();
        }
        if key.kind == KeyEventKind::Press && meant == Some(Action::Suspend) {
            self.release_all();
            return Some(Wish::Suspend);
        }
        if self.popups.key(&mut self.stage, key, true) {
            return None;
        }
        if let Some(wish) = self.stage.key_in_a_mode(key) {
            return wish;
        }
        if key.kind == KeyEventKind::Release {
            return None;
        }
        let is_taken = self.popups.key(&mut self.stage, key, false)
            || key.code == KeyCode::Esc && self.stage.branching.offered.take().is_some();
        meant.filter(|_| !is_taken).map(Wish::Act)
    }

    /// Does what an action asks for: the screen that is shown is asked first.
    pub(super) fn act(&mut self, action: Action) -> Option<Wish> {
        // Enter looks at what is chosen where something is.
        if action != Action::Resume && action.needs_a_run() && self.stage.is_over() {
            return None;
        }
        match self.shown.view_mut().act(&mut self.stage, action) {
            Answer::Done => return None,
            Answer::Wish(wish) => return Some(wish),
            Answer::NotMine => {}
        }
        let palette = self.stage.palette;
        let under = || {
            let view = self.shown.view();
            Under { screen: self.shown.screen(), glyphs: view.glyphs(palette), turns: view.turns() }
        };
        if self.popups.act(&mut self.stage, action, under) {
            return None;
        }
        match action {
            Action::Show(screen) => self.shown.show(screen),
            Action::Export => self.export(Path::new("."), Theme::Dark),
            Action::ExportLight => self.export(Path::new("."), Theme::Light),
            Action::Quit => return self.leave(),
            action => self.stage.act(action),
        }
        None
    }

    /// What goes on beside the frames has told since the last one. Says whether anything changed.
    pub(super) fn look_at_jobs(&mut self) -> bool {
        let changed = self.stage.look_at_jobs();
        self.popups.follow(&self.stage) | changed
    }

    /// Whether something goes on beside the frames.
    pub(super) fn works(&self) -> bool {
        self.stage.works() || self.popups.works()
    }

    /// Offers the newest session that was left and can be read.
    pub(super) fn offer_session(&mut self, left: Vec<Left>) {
        if let Some(popup) = self.stage.offer_session(left) {
            self.popups.show(&self.stage, popup);
        }
    }

    /// Writes what is seen into a folder, and says what became of it.
    pub(super) fn export(&mut self, folder: &Path, theme: Theme) {
        self.shown.view_mut().complete(&self.stage);
        let drawing = self.shown.view().drawing(&self.stage, self.area);
        let name = &self.shown.name()[2..];
        let said = match drawing.and_then(|drawing| export(&self.stage, name, &drawing, theme, folder)) {
            Ok(name) => format!("wrote {name}.svg, .pdf and .csv"),
            Err(why) => why,
        };
        self.exported = Some(Instant::now());
        self.say(said);
    }

    /// Whether a key asks for what was being written when it arrived: that is there by now.
    pub(super) fn waited_for_an_export(&self, arrived: Instant, input: &Input) -> bool {
        let Input::Key(key) = input else { return false };
        let asks = matches!(action(key, self.screen()), Some(Action::Export | Action::ExportLight));
        asks && !self.has_line() && self.exported.is_some_and(|ended| arrived < ended)
    }

    /// Takes text that was pasted: into a line, if one is open. It is no keys.
    pub(super) fn paste(&mut self, text: &str) {
        if text.is_empty() {
            return;
        }
        if !self.has_line() || self.popups.is_modal() {
            return self.say("what was pasted is text and no keys: nothing is done with it");
        }
        let line = text.lines().next().unwrap_or_default();
        for c in line.chars().filter(|c| !c.is_control()) {
            self.key(&KeyEvent::new(KeyCode::Char(c), crossterm::event::KeyModifiers::NONE));
        }
    }

    /// A click on the rail moves the playhead there; one on the screen is the screen's.
    pub(super) fn mouse(&mut self, mouse: &MouseEvent, size: Size) {
        let clicked = matches!(mouse.kind, MouseEventKind::Down(MouseButton::Left));
        let held = clicked || matches!(mouse.kind, MouseEventKind::Drag(MouseButton::Left));
        let Some(layout) = Layout::of(Rect::new(0, 0, size.width, size.height), self).filter(|_| held) else { return };
        let cell = (mouse.column, mouse.row);
        if let Some(at) = self.rail.moment_at(layout.rail, mouse.column, mouse.row) {
            self.look(at);
        } else if clicked {
            self.shown.view_mut().click(&mut self.stage, layout.screen, cell);
        }
    }
}

/// Has the screen follow the moment, and draws. The same frame gives the same cells.
pub fn draw(frame: &mut Frame, area: Rect, buffer: &mut Buffer) {
    // A terminal may say that it has no rows at all.
    if area.is_empty() {
        return;
    }
    buffer.set_style(area, frame.palette.base());
    let Some(layout) = Layout::of(area, frame) else {
        let needs =
            format!("Velocitas needs {}\u{d7}{} cells; this is {}\u{d7}{}", LEAST.0, LEAST.1, area.width, area.height);
        buffer.set_stringn(area.x, area.y, needs, usize::from(area.width), frame.palette.text(Tone::Text));
        return;
    };
    frame.area = layout.screen;
    frame.sliced.follow(&frame.stage.run, rail::cut(&frame.stage, layout.rail));
    frame.shown.view_mut().follow(&frame.stage, layout.screen);
    frame.popups.follow(&frame.stage);
    let (stage, screen) = (&frame.stage, frame.screen());
    let view = frame.shown.view();
    masthead::draw(stage, screen, layout.masthead, buffer, area.width < WIDE);
    view.draw(stage, layout.screen, buffer);
    if let Some(panel) = layout.panel {
        clear(stage.palette, panel, buffer);
        view.panel(stage, panel, buffer);
    }
    rail::draw(stage, &frame.sliced, layout.rail, buffer);
    keyline::draw(stage, screen, layout.keys, buffer);
    frame.popups.draw(stage, Room { screen: layout.screen, whole: area }, buffer);
}
