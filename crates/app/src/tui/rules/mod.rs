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
use velocitas_lab::Known;

use super::stage::Stage;
use crate::sources::{GaitWatcher, Source};

/// What the screen keeps for itself.
#[derive(Debug, Default)]
pub(super) struct Rules {
    pub(super) sources: Vec<Source>,
    /// The thread that looks whether they were saved, where there are files.
    pub(super) watcher: Option<GaitWatcher>,
    /// The tunable that keys act on.
    pub(super) tunable: usize,
    /// First line shown.
    pub(super) scroll: usize,
    /// Whether saved edits reach the selected machine only.
    pub(super) one_only: bool,
}

impl Rules {
    /// The file behind a rule.
    pub(super) fn source(&self, kind: u8) -> Option<&Source> {
        self.sources.iter().find(|s| s.kind == kind)
    }

    /// Scrolls so that the first mistake is in sight.
    pub(super) fn show_first_mistake(&mut self, kind: u8) {
        let Some(source) = self.source(kind) else { return };
        let first = source.said.diagnostics.iter().find(|d| d.severity == velocitas_gait::Severity::Error);
        if let Some(d) = first {
            self.scroll = velocitas_gait::Place::of(&source.said.text, d.span).line.saturating_sub(8);
        }
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
        Self { kind: stage.run.course()[stage.entity].kind, here: lab.known(stage.entity), there: lab.server_known() }
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

/// The source.
pub(super) fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    source::draw(stage, area, buffer);
}

/// What stands beside it.
pub(super) fn draw_panel(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let both = Both::of(stage);
    let wanted = both.rule().tunables().len() as u16 + 5;
    let lower = wanted.min(area.height.saturating_sub(8)).max(area.height / 3);
    let upper = Rect { height: area.height - lower, ..area };
    fields::draw(stage, &both, upper, buffer);
    tunables::draw(stage, &both, Rect { y: upper.bottom(), height: lower, ..area }, buffer);
}
