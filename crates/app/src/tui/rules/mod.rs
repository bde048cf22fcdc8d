//! Rules: what is the rule, what does it cost, and what if it were different?
//!
//! The source of the selected entity's rule with what is wrong with it, its fields with their bits on the wire, its
//! tunables as knobs. Saved edits take effect at one tick ahead of every machine; a broken one is shown, and the last
//! good rule runs on.
//!
//! ```text
//! ╭ Rules · courier · courier.gait ───────────╮╭ courier · bits on the wire ╮
//! │  36  step {                               ││ move    stick    14        │
//! │  37    let way = turn(move, look)         │╰────────────────────────────╯
//! │  38    vel.xy = toward(vel.xy, way, grip) │╭ tunables of plover (set) ──╮
//! │                                     ^^^^  ││ walk    ‹ 4.2 m/s ›        │
//! ╰───────────────────────────────────────────╯╰────────────────────────────╯
//! ```

mod acting;
mod fields;
mod source;
mod tunables;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_core::Motion;
use velocitas_record::Known;
use velocitas_report::drawing::Drawing;

use super::action::Action;
use super::palette::{Palette, Tone};
use super::stage::Stage;
use super::view::{Answer, Glyph, Turns, View};

/// What the screen keeps for itself.
#[derive(Debug, Default)]
pub(super) struct Rules {
    /// The tunable that keys act on.
    tunable: usize,
    /// First line shown.
    scroll: usize,
    /// How many mistakes have been gone to.
    seen: u32,
}

impl View for Rules {
    /// Scrolls so that the first mistake is in sight, when one is found.
    fn follow(&mut self, stage: &Stage, _area: Rect) {
        let (kind, count) = stage.edits.mistake;
        if std::mem::replace(&mut self.seen, count) == count {
            return;
        }
        let Some(source) = stage.edits.source(kind) else { return };
        let first = source.said.diagnostics.iter().find(|d| d.severity == velocitas_gait::Severity::Error);
        if let Some(d) = first {
            self.scroll = velocitas_gait::SourcePosition::of(&source.said.text, d.span).line.saturating_sub(8);
        }
    }

    /// The source.
    fn draw(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        source::draw(stage, self.scroll, area, buffer);
    }

    /// The fields and the tunables.
    fn panel(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        let both = Both::of(stage);
        let wanted = both.rule().tunables().len() as u16 + 5;
        let lower = wanted.min(area.height.saturating_sub(8)).max(area.height / 3);
        let upper = Rect { height: area.height - lower, ..area };
        fields::draw(stage, &both, upper, buffer);
        tunables::draw(stage, &both, self.tunable, Rect { y: upper.bottom(), height: lower, ..area }, buffer);
    }

    fn turns(&self) -> Turns {
        Turns::Tunable(self.tunable)
    }

    fn act(&mut self, stage: &mut Stage, action: Action) -> Answer {
        match action {
            Action::PageUp | Action::PageDown => self.scroll(stage, action == Action::PageDown),
            Action::Edit => return stage.edit().map_or(Answer::Done, Answer::Wish),
            Action::Reach => stage.turn_reach(),
            Action::KnobUp | Action::KnobDown => self.choose(stage, action == Action::KnobDown),
            Action::TurnDown | Action::TurnUp => self.tune(stage, action == Action::TurnUp, false),
            Action::TurnDownAll | Action::TurnUpAll => self.tune(stage, action == Action::TurnUpAll, true),
            _ => return Answer::NotMine,
        }
        Answer::Done
    }

    /// The text of the rule.
    fn drawing(&self, stage: &Stage, _area: Rect) -> Result<Drawing, String> {
        let both = Both::of(stage);
        let source = stage.edits.source(both.kind);
        let source = source.ok_or("this rule is written in Rust: there is no text to take away")?;
        // Letters of a page do not run together where a line begins.
        let lines = source
            .said
            .text
            .lines()
            .enumerate()
            .map(|(i, line)| format!("{:>4}  {line}", i + 1).replace(' ', "\u{a0}"));
        let title = format!("{}: the rule {}", stage.run.course().name, both.rule().name());
        Ok(Drawing { title, facts: lines.collect(), plots: Vec::new() })
    }

    fn glyphs(&self, palette: Palette) -> Vec<Glyph> {
        let style = palette.text(Tone::Correction);
        vec![('^', style, "a mistake in the rule, and what is wrong with it")]
    }
}

/// What the selected entity's machine and the server know of its rule.
pub(super) struct Both<'a> {
    pub(super) kind: u8,
    pub(super) here: &'a Known,
    pub(super) there: &'a Known,
}

impl<'a> Both<'a> {
    pub(super) fn of(stage: &'a Stage) -> Self {
        let lab = stage.run.lab();
        Self {
            kind: stage.run.course()[stage.selected.entity].kind,
            here: lab.known(stage.selected.entity),
            there: lab.server_known(),
        }
    }

    /// The rule on the selected entity's machine.
    pub(super) fn rule(&self) -> &'a dyn Motion {
        self.here.kinds.motion(self.kind)
    }

    /// The values of its tunables there.
    pub(super) fn values(&self) -> &'a [f32] {
        &self.here.tunables[usize::from(self.kind)]
    }

    /// Whether the two run different versions.
    pub(super) fn versions_differ(&self) -> bool {
        self.here.versions[usize::from(self.kind)] != self.there.versions[usize::from(self.kind)]
    }

    /// The server's value of a tunable, if it has one of that name.
    pub(super) fn at_the_server(&self, name: &str) -> Option<f32> {
        let i = self.there.kinds.motion(self.kind).tunables().iter().position(|t| t.name == name)?;
        self.there.tunables[usize::from(self.kind)].get(i).copied()
    }
}
