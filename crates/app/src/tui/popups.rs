//! The popups that a key opens, in one table, and those that are open.

use crossterm::event::{KeyEvent, KeyEventKind};
use ratatui::buffer::Buffer;

use super::action::Action;
use super::budget::Budget;
use super::help::Help;
use super::popup::{Popup, Pressed, Room};
use super::price::Price;
use super::stage::Stage;
use super::view::Under;
use super::why::Why;

/// A row of the table.
struct Spec {
    /// What opens it, and closes it again.
    action: Action,
    /// Opens it; without one there is nothing to show, and why was said.
    open: fn(&mut Stage, Under) -> Option<Box<dyn Popup>>,
}

/// All that a key opens.
const POPUPS: [Spec; 4] = [
    Spec { action: Action::Budget, open: |stage, _| Some(Box::new(Budget::of(stage))) },
    Spec { action: Action::Why, open: |stage, _| Some(Box::new(Why::ask(stage)?)) },
    Spec { action: Action::Price, open: |stage, under| Some(Box::new(Price::ask(stage, under.turns)?)) },
    Spec { action: Action::Help, open: |_, under| Some(Box::new(Help::of(under))) },
];

struct Open {
    popup: Box<dyn Popup>,
    /// What opened it, if a key did.
    by: Option<Action>,
    /// The run that it was opened on.
    run: u32,
}

/// Those that are open, the topmost last.
#[derive(Default)]
pub(super) struct Popups {
    open: Vec<Open>,
}

impl Popups {
    /// Opens or closes what an action is for. Says whether it is for any.
    pub(super) fn act(&mut self, stage: &mut Stage, action: Action, under: impl FnOnce() -> Under) -> bool {
        let Some(spec) = POPUPS.iter().find(|spec| spec.action == action) else { return false };
        if self.is_open(action) {
            self.open.retain(|open| open.by != Some(action));
        } else if let Some(popup) = (spec.open)(stage, under()) {
            self.open.push(Open { popup, by: Some(action), run: stage.run_number });
        }
        true
    }

    /// Opens one that no key opens.
    pub(super) fn show(&mut self, stage: &Stage, popup: Box<dyn Popup>) {
        self.open.push(Open { popup, by: None, run: stage.run_number });
    }

    /// Whether what an action opens is open.
    pub(super) fn is_open(&self, action: Action) -> bool {
        self.open.iter().any(|open| open.by == Some(action))
    }

    /// Whether one is open that lets no key pass.
    pub(super) fn is_modal(&self) -> bool {
        self.open.iter().any(|open| open.popup.is_modal())
    }

    /// Closes those whose run is no more, and has the others follow. Says whether there is anything new to see.
    pub(super) fn follow(&mut self, stage: &Stage) -> bool {
        let count = self.open.len();
        self.open.retain(|open| open.run == stage.run_number || open.popup.outlives_the_run());
        let news = self.open.iter_mut().map(|open| open.popup.follow(stage)).fold(false, |any, news| any | news);
        news || self.open.len() != count
    }

    /// Whether something goes on for one of them beside the frames.
    pub(super) fn works(&self) -> bool {
        self.open.iter().any(|open| open.popup.works())
    }

    /// Takes a key, the topmost first: those that let none pass, or the others. Says whether it was for one of them.
    pub(super) fn key(&mut self, stage: &mut Stage, key: &KeyEvent, modal: bool) -> bool {
        for i in (0..self.open.len()).rev() {
            let popup = &mut self.open[i].popup;
            if popup.is_modal() != modal || !modal && key.kind == KeyEventKind::Release {
                continue;
            }
            match popup.key(stage, key) {
                Pressed::NotMine => {}
                Pressed::Taken => return true,
                Pressed::Closes => {
                    self.open.remove(i);
                    return true;
                }
            }
        }
        false
    }

    pub(super) fn draw(&self, stage: &Stage, room: Room, buffer: &mut Buffer) {
        for open in &self.open {
            open.popup.draw(stage, room, buffer);
        }
    }
}
