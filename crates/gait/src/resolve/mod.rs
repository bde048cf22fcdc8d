//! From what was written to what it means: names, types and units.
//!
//! [`fields`] reads what is pressed, remembered and tuned; [`frame`] body and looks; [`limits`] what is lawful; [`statements`] and
//! [`values`] the step. All of them go on after mistakes: what is wrong agrees with everything that follows.

mod fields;
mod frame;
mod hands;
mod limits;
mod statements;
mod values;

use std::collections::BTreeMap;

use velocitas_core::{Agree, Blend, SeenBy, Shape, bearing_quantiser};

use crate::builtin::builtin_named;
use crate::diagnostic::{Diagnostic, Span};
use crate::syntax::{File, Word};
use crate::tree::{InputInfo, LetInfo, StateInfo, Tree, TuneInfo};
use crate::unit::{Dimension, unit_named};

struct Resolver {
    inputs: Vec<InputInfo>,
    state: Vec<StateInfo>,
    tunes: Vec<TuneInfo>,
    lets: Vec<LetInfo>,
    /// The lets that can be seen.
    scope: Vec<usize>,
    /// The same by name, the innermost last.
    named: BTreeMap<String, Vec<usize>>,
    /// Where `grounded` was read in a rule in which nothing slides.
    wants_slide: Option<Span>,
    /// Whether something slides: then `grounded` is kept.
    slides: bool,
    diagnostics: Vec<Diagnostic>,
}

/// Gives every name its meaning. The tree is to be used only if no diagnostic is an error.
pub(crate) fn resolve(file: &File) -> (Tree, Vec<Diagnostic>) {
    let mut r = Resolver {
        inputs: Vec::new(),
        state: Vec::new(),
        tunes: Vec::new(),
        lets: Vec::new(),
        scope: Vec::new(),
        named: BTreeMap::new(),
        wants_slide: None,
        slides: file.slides,
        diagnostics: Vec::new(),
    };
    r.sections(file);
    file.inputs.iter().for_each(|f| r.input(f));
    file.state.iter().for_each(|f| r.state_field(f));
    r.tunables(file);
    r.lanes(file);
    let body = r.body(file);
    if file.slides && !r.state.iter().any(|f| f.name == "grounded") {
        r.state.push(grounded());
    }
    let step = r.statements(&file.step);
    if let Some(read) = r.wants_slide {
        let at = file.sections.iter().find(|s| s.text == "step").map_or(read, |s| s.span);
        let message = "expected `slide pos, vel` in `step`; found none, so nothing moves and `grounded` is not known";
        r.report(
            Diagnostic::error("slide", at, message)
                .why("`slide` moves the body through the ground and keeps `grounded`")
                .help("end `step` with `slide pos, vel`"),
        );
    }
    let limits = r.limits(file);
    let looks = r.looks(file);
    let hands = r.hands(file);
    let name = file.name.as_ref().map_or_else(String::new, |n| n.text.clone());
    let Resolver { inputs, state, tunes, lets, diagnostics, .. } = r;
    (Tree { name, inputs, state, tunes, lets, body, step, looks, limits, hands }, diagnostics)
}

/// The flag that `slide` keeps.
fn grounded() -> StateInfo {
    StateInfo {
        name: "grounded".to_owned(),
        span: Span::default(),
        shape: Shape::Flag,
        dimension: Dimension::NONE,
        wire: bearing_quantiser(10),
        agree: Agree::Exactly,
        blend: Blend::None,
        seen_by: SeenBy::All,
        start: 1.0,
    }
}

impl Resolver {
    fn report(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    fn error(&mut self, code: &'static str, span: Span, message: impl Into<String>) {
        self.report(Diagnostic::error(code, span, message));
    }

    /// The `let` that a name means here.
    fn let_named(&self, name: &str) -> Option<usize> {
        self.named.get(name)?.last().copied()
    }

    fn enter(&mut self, id: usize) {
        self.scope.push(id);
        self.named.entry(self.lets[id].name.clone()).or_default().push(id);
    }

    /// Drops all lets after the first `seen`.
    fn leave(&mut self, seen: usize) {
        for id in self.scope.drain(seen..) {
            if let Some(of_name) = self.named.get_mut(&self.lets[id].name) {
                of_name.retain(|other| *other != id);
            }
        }
    }

    fn new_name(&mut self, word: &Word) {
        let name = word.text.as_str();
        let taken = if unit_named(name).is_some() {
            Some("a unit")
        } else if builtin_named(name).is_some() {
            Some("a function of the language")
        } else if matches!(name, "dt" | "surface" | "contact") {
            Some("a word that `step` knows already")
        } else if self.inputs.iter().any(|i| i.name == name) {
            Some("an input")
        } else if self.state.iter().any(|s| s.name == name) {
            Some("a state field")
        } else if self.tunes.iter().any(|t| t.name == name) {
            Some("a tunable")
        } else if self.let_named(name).is_some() {
            Some("a `let` above")
        } else {
            None
        };
        if let Some(what) = taken {
            let message = format!("expected a name not yet used; `{name}` is {what}");
            self.report(Diagnostic::error("name", word.span, message).help("choose another name"));
        }
    }

    fn sections(&mut self, file: &File) {
        let has = |name: &str| file.sections.iter().any(|s| s.text == name);
        let end = file.sections.last().map_or(Span::default(), |s| s.span);
        for (section, example) in [
            ("input", "input { move stick bits 7 }"),
            ("state", "state { pos point m }"),
            ("body", "body { radius 0.35 m  height 1.7 m  step 0.3 m }"),
            ("step", "step { slide pos, vel }"),
            ("limits", "limits { pace vel.xy at most 6 m/s slack 4 % }"),
        ] {
            if !has(section) {
                let message = format!("expected a section `{section}`; the file has none");
                self.report(Diagnostic::error("missing", end, message).help(format!("add `{example}`")));
            }
        }
    }
}
