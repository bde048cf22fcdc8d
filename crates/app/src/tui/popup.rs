//! What a popup is: it stands over the screen, takes keys before it, and is closed by one of them.

use crossterm::event::KeyEvent;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::stage::Stage;

/// What a popup makes of a key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Pressed {
    /// It was for it.
    Taken,
    /// It was for it, and closes it.
    Closes,
    /// It is not for it.
    NotMine,
}

/// Where it may stand.
#[derive(Clone, Copy, Debug)]
pub(super) struct Room {
    /// Over the screen.
    pub(super) screen: Rect,
    /// Over everything.
    pub(super) whole: Rect,
}

/// A popup, with a state of its own.
pub(super) trait Popup {
    /// Whether no key passes it, not even into a line that is typed.
    fn is_modal(&self) -> bool {
        false
    }

    /// Whether it stays open when another run takes the place of the one that it was opened on.
    fn outlives_the_run(&self) -> bool {
        false
    }

    /// Follows the run and what goes on beside the frames. Says whether there is anything new to see.
    fn follow(&mut self, _stage: &Stage) -> bool {
        false
    }

    /// Whether something goes on for it beside the frames.
    fn works(&self) -> bool {
        false
    }

    /// Takes a key, also one that is let go.
    fn key(&mut self, stage: &mut Stage, key: &KeyEvent) -> Pressed;

    /// Draws; changes nothing.
    fn draw(&self, stage: &Stage, room: Room, buffer: &mut Buffer);
}
