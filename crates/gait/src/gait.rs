//! A movement rule read from a text: what the core runs and what screens show.

use velocitas_core::{
    Body, Digest, Hands, INPUT_LANES, Input, InputField, Limits, Look, Motion, STATE_LANES, Scene, Schema, Shape,
    State, StateField, Step, Tunable, Underfoot, Vec3, names,
};

use crate::diagnostic::{Diagnostic, Severity, Span};
use crate::keys::Key;
use crate::limits::Bounds;
use crate::lower::{Lanes, program};
use crate::program::Program;
use crate::tree::{InputInfo, StateInfo, Step as TreeStep, Tree};

/// A rule that can be run.
#[derive(Clone, Debug)]
pub struct Gait {
    name: &'static str,
    schema: Schema,
    tunables: Vec<Tunable>,
    defaults: Vec<f32>,
    body: Body,
    program: Program,
    limits: Bounds,
    hands: Hands,
    starts: Vec<(usize, Shape, f32)>,
    looks: Vec<Look>,
    owned: Vec<&'static str>,
    keys: Vec<(&'static str, Vec<&'static str>)>,
    moves: u32,
    version: u64,
}

/// What came of reading a text.
#[derive(Clone, Debug)]
pub struct Compiled {
    /// The rule, unless something is wrong with it.
    pub gait: Option<Gait>,
    /// Everything there is to say, in the order of the text.
    pub diagnostics: Vec<Diagnostic>,
}

impl Compiled {
    /// Whether something is wrong.
    pub fn has_errors(&self) -> bool {
        self.gait.is_none()
    }
}

/// Reads a rule.
pub fn compile(text: &str) -> Compiled {
    compile_after(text, None)
}

/// Reads a rule that is to take the place of another while it runs: fields of the same name and kind stay in the lanes
/// they had, so that a state of the one is a state of the other. What is new begins at zero.
pub fn compile_after(text: &str, before: Option<&Schema>) -> Compiled {
    let (tokens, mut diagnostics) = crate::lexer::lex(text);
    if diagnostics.iter().any(|d| d.code == "size") {
        // Nothing was read, so nothing else can be said.
        return Compiled { gait: None, diagnostics };
    }
    let (file, said) = crate::parser::parse(text, &tokens);
    diagnostics.extend(said);
    let (tree, said) = crate::resolve::resolve(&file);
    // A text that could not be read whole has its other mistakes reported, but not what follows from the holes.
    let readable = diagnostics.is_empty();
    diagnostics.extend(said.into_iter().filter(|d| readable || d.code != "missing"));
    let is_error = |d: &Diagnostic| d.severity == Severity::Error;
    if !diagnostics.iter().any(is_error) {
        diagnostics.extend(crate::lint::lint(&tree));
        diagnostics.extend(crate::trust::check(&tree));
    }
    let mut gait = None;
    if !diagnostics.iter().any(is_error) {
        match build(crate::fold::fold(tree), before) {
            Ok(built) => gait = Some(built),
            Err(wrong) => diagnostics.push(wrong),
        }
    }
    diagnostics.sort_by_key(|d| (d.span.start, d.span.end));
    diagnostics.dedup();
    Compiled { gait, diagnostics: bounded(diagnostics) }
}

/// Errors, and warnings, of one text that are told one by one.
pub(crate) const MOST_TOLD: usize = 50;

/// The first errors and warnings, and how many more there are.
fn bounded(all: Vec<Diagnostic>) -> Vec<Diagnostic> {
    let mut more = [0usize; 2];
    let mut told = Vec::new();
    let mut last = Span::default();
    let mut counts = [0usize; 2];
    for d in all {
        let which = usize::from(d.severity == Severity::Error);
        counts[which] += 1;
        if counts[which] <= MOST_TOLD {
            last = d.span;
            told.push(d);
        } else {
            more[which] += 1;
        }
    }
    let s = |n: usize| if n == 1 { "" } else { "s" };
    let [warnings, errors] = more;
    if errors > 0 {
        told.push(Diagnostic::error("more", last, format!("{errors} more mistake{} not shown", s(errors))));
    }
    if warnings > 0 {
        told.push(Diagnostic::warning("more", last, format!("{warnings} more warning{} not shown", s(warnings))));
    }
    told
}

/// Lanes for fields: those of a field of the same name and kind before, else the first that are free.
fn lanes<'a>(fields: impl Iterator<Item = (&'a str, usize, Option<usize>)>, most: usize) -> Option<Vec<usize>> {
    let fields: Vec<_> = fields.collect();
    let mut taken = vec![false; most];
    for (_, width, kept) in &fields {
        if let Some(lane) = kept {
            taken[*lane..lane + width].fill(true);
        }
    }
    fields
        .iter()
        .map(|(_, width, kept)| {
            kept.or_else(|| {
                let at = (0..=most - width).find(|at| !taken[*at..at + width].contains(&true))?;
                taken[at..at + width].fill(true);
                Some(at)
            })
        })
        .collect()
}

/// There is no room for lanes of its own beside those that the rule before has.
fn no_room() -> Diagnostic {
    Diagnostic::error("size", Span::default(), "expected room beside the fields of the rule that runs; found none")
        .help("run the course anew: its state is then laid out from the beginning")
}

fn build(tree: Tree, before: Option<&Schema>) -> Result<Gait, Diagnostic> {
    let kept_state =
        |f: &StateInfo| before?.state.iter().find(|b| b.name == f.name && b.shape == f.shape).map(|b| b.lane);
    let kept_input = |f: &InputInfo| {
        let same = |a: &velocitas_core::InputKind, b: &velocitas_core::InputKind| {
            std::mem::discriminant(a) == std::mem::discriminant(b)
        };
        before?.input.iter().find(|b| b.name == f.name && same(&b.kind, &f.kind)).map(|b| b.lane)
    };
    // The place is where everything expects it: in the first lanes.
    let state = lanes(
        tree.state.iter().enumerate().map(|(i, f)| {
            let kept = if i == 0 { Some(0) } else { kept_state(f).filter(|lane| *lane >= 3) };
            (f.name.as_str(), f.shape.lanes(), kept)
        }),
        STATE_LANES,
    )
    .ok_or_else(no_room)?;
    let input = lanes(tree.inputs.iter().map(|f| (f.name.as_str(), f.kind.lanes(), kept_input(f))), INPUT_LANES)
        .ok_or_else(no_room)?;
    let compiled = program(&tree, &Lanes { state: &state, input: &input })?;
    let defaults: Vec<f32> = tree.tunes.iter().map(|t| t.value).collect();
    let limits = Bounds::of(&tree, &state, &defaults)?;
    let schema = Schema {
        state: tree.state.iter().zip(&state).map(|(f, lane)| state_field(f, *lane)).collect(),
        input: tree
            .inputs
            .iter()
            .zip(&input)
            .map(|(f, lane)| InputField { name: names::name(&f.name), lane: *lane, kind: f.kind })
            .collect(),
    };
    let starts = tree.state.iter().zip(&state).skip(1).map(|(f, lane)| (*lane, f.shape, f.start)).collect();
    let tunable = |t: &crate::tree::TuneInfo| Tunable {
        name: names::name(&t.name),
        unit: names::name(&t.dimension.to_string()),
        default: t.value,
        least: t.least,
        most: t.most,
    };
    Ok(Gait {
        version: digest(&format!("{compiled:?} {starts:?}")),
        name: names::name(&tree.name),
        schema,
        tunables: tree.tunes.iter().map(tunable).collect(),
        defaults: tree.tunes.iter().map(|t| t.value).collect(),
        body: tree.body,
        program: compiled,
        limits,
        hands: tree.hands,
        starts,
        owned: tree.inputs.iter().filter(|i| i.owned).map(|i| names::name(&i.name)).collect(),
        keys: asked(&tree.inputs),
        moves: moves(&tree.step),
        looks: tree.looks,
    })
}

/// Of the inputs that ask for keys, which.
fn asked(inputs: &[InputInfo]) -> Vec<(&'static str, Vec<&'static str>)> {
    let names = |keys: &[Key]| keys.iter().map(|key| names::name(&key.to_string())).collect();
    inputs.iter().filter(|i| !i.keys.is_empty()).map(|i| (names::name(&i.name), names(&i.keys))).collect()
}

/// A number that is another for another text.
fn digest(text: &str) -> u64 {
    let mut digest = Digest::default();
    text.bytes().for_each(|byte| digest.word(u64::from(byte)));
    digest.value()
}

/// How many slides a step may run at most.
fn moves(steps: &[TreeStep]) -> u32 {
    let of = |step: &TreeStep| match step {
        TreeStep::Slide { .. } => 1,
        TreeStep::If { then, otherwise, .. } => moves(then).max(moves(otherwise)),
        TreeStep::Repeat { times, body } => times.saturating_mul(moves(body)),
        _ => 0,
    };
    steps.iter().map(of).fold(0, u32::saturating_add)
}

fn state_field(f: &StateInfo, lane: usize) -> StateField {
    let unit = match f.shape {
        Shape::Bearing => "rad".to_owned(),
        Shape::Flag | Shape::Counter => String::new(),
        _ => f.dimension.to_string(),
    };
    StateField {
        name: names::name(&f.name),
        lane,
        shape: f.shape,
        unit: names::name(&unit),
        wire: f.wire,
        agree: f.agree,
        blend: f.blend,
        seen_by: f.seen_by,
    }
}

impl Gait {
    /// The most operations one step takes, whatever the state and input.
    pub const fn work(&self) -> u32 {
        self.program.work
    }

    /// Registers in use.
    pub fn registers(&self) -> usize {
        self.program.initial.len()
    }

    /// Inputs that their owner decides and the server takes as they are.
    pub fn owned(&self) -> &[&'static str] {
        &self.owned
    }

    /// Steps many entities of this rule at once: the same bits as one by one, at a lower price for each. States that
    /// come out non-finite are left so; see [`velocitas_core::checked_step`].
    pub fn step_many(&self, scene: &Scene<'_>, states: &mut [State], inputs: &[Input]) {
        self.program.step_many(scene, &self.defaults, &self.body, states, inputs);
    }

    /// One step and how many operations it took; counted in tests only.
    #[cfg(test)]
    pub(crate) fn counted_step(&self, scene: &Scene<'_>, state: &State, input: &Input) -> (Step, u32) {
        self.program.step(scene, &self.defaults, &self.body, state, input)
    }
}

impl Motion for Gait {
    fn name(&self) -> &'static str {
        self.name
    }

    fn schema(&self) -> &Schema {
        &self.schema
    }

    fn tunables(&self) -> &[Tunable] {
        &self.tunables
    }

    fn body(&self) -> Body {
        self.body
    }

    fn keys(&self) -> &[(&'static str, Vec<&'static str>)] {
        &self.keys
    }

    fn limits(&self, tunables: &[f32]) -> Limits {
        self.limits.at_most(tunables, &self.defaults)
    }

    fn limits_in(&self, most: &Limits, tunables: &[f32], since: (&State, f32), underfoot: &Underfoot) -> Limits {
        self.limits.within(most, (tunables, &self.defaults), since, underfoot)
    }

    fn hands(&self) -> &Hands {
        &self.hands
    }

    fn spawn(&self, position: Vec3, bearing: f32) -> State {
        let mut state = State::default();
        state.set_vec3(0, position);
        let looks = self.schema.bearing_lane();
        for &(lane, shape, start) in &self.starts {
            match shape {
                Shape::Bearing if looks == Some(lane) => state.set_real(lane, bearing),
                Shape::Number | Shape::Bearing => state.set_real(lane, start),
                Shape::Flag => state.set_flag(lane, start != 0.0),
                Shape::Counter => state.set_int(lane, velocitas_core::clamp(start, 0.0, 16_777_216.0) as u32),
                Shape::Point => state.set_vec3(lane, position),
                Shape::Vector => {}
            }
        }
        state
    }

    fn moves(&self) -> u32 {
        self.moves
    }

    fn version(&self) -> u64 {
        self.version
    }

    fn looks(&self) -> &[Look] {
        &self.looks
    }

    fn step(&self, scene: &Scene<'_>, state: &State, input: &Input) -> Step {
        self.program.step(scene, &self.defaults, &self.body, state, input).0
    }
}
