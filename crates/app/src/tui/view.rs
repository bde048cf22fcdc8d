//! What a screen is: it draws, it may have a panel of its own, it takes what only it understands.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use serde_json::Value;
use velocitas_report::drawing::Drawing;

use super::action::{Action, Screen};
use super::palette::Palette;
use super::panel;
use super::stage::{Stage, Wish};

/// What a screen makes of an action.
pub(super) enum Answer {
    /// It was for it, and is done.
    Done,
    /// It was for it, and needs the program.
    Wish(Wish),
    /// It is not for it.
    NotMine,
}

/// A glyph of a screen, and what it stands for.
pub(super) type Glyph = (char, Style, &'static str);

/// What lies under a popup.
pub(super) struct Under {
    /// The screen.
    pub(super) screen: Screen,
    /// Every glyph on it.
    pub(super) glyphs: Vec<Glyph>,
    /// What its keys turn.
    pub(super) turns: Turns,
}

/// What the keys of a screen turn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Turns {
    /// The knob that is chosen on the stage.
    Knob,
    /// This tunable of the selected entity's rule.
    Tunable(usize),
    /// No setting.
    Nothing,
}

/// A screen: one question about the moment looked at, with a small state of its own.
pub(super) trait View {
    /// Follows the stage: called before it is drawn on this area.
    fn follow(&mut self, _stage: &Stage, _area: Rect) {}

    /// Draws; changes nothing.
    fn draw(&self, stage: &Stage, area: Rect, buffer: &mut Buffer);

    /// Draws what stands beside it: unless it has something of its own, what each machine believes.
    fn panel(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        panel::draw(stage, area, buffer);
    }

    /// Does what an action asks for, if it is for this screen.
    fn act(&mut self, stage: &mut Stage, action: Action) -> Answer;

    /// What its keys turn.
    fn turns(&self) -> Turns {
        Turns::Nothing
    }

    /// A cell of it was clicked.
    fn click(&mut self, _stage: &mut Stage, _area: Rect, _cell: (u16, u16)) {}

    /// Whether drawing it again would show more, although nothing moves.
    fn is_unfinished(&self) -> bool {
        false
    }

    /// Has all that is shown at hand, however long that takes: before it is taken away.
    fn complete(&mut self, _stage: &Stage) {}

    /// What is seen on an area, to be taken away, or why there is nothing.
    fn drawing(&self, stage: &Stage, area: Rect) -> Result<Drawing, String>;

    /// What of it should be there again the next time.
    fn remember(&self) -> Option<Value> {
        None
    }

    /// Takes up what it remembered: whatever of it means nothing any more is left out.
    fn recall(&mut self, _remembered: &Value) {}

    /// Every glyph that it draws.
    fn glyphs(&self, palette: Palette) -> Vec<Glyph>;
}
