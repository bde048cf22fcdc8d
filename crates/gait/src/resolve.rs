//! From what was written to what it means: names, types and units.

use velocitas_core::{
    Agree, Blend, Body, INPUT_LANES, InputKind, Quantiser, STATE_LANES, SeenBy, Shape, bearing_quantiser,
};

use crate::builtin::{BUILTINS, builtin_named};
use crate::diagnostic::{Diagnostic, Span, nearest};
use crate::syntax::{Attribute, AttributeValue, Expr, ExprKind, Field, File, Op, Quantity, Stmt, Word};
use crate::tree::{InputInfo, LetInfo, Look, Node, NodeKind, StateInfo, Step, Tree, TuneInfo, Type, Var};
use crate::unit::{Dimension, unit_named};

/// The most sub-steps of a `repeat`.
const MOST_REPEATS: f64 = 64.0;

struct Resolver {
    inputs: Vec<InputInfo>,
    state: Vec<StateInfo>,
    tunes: Vec<TuneInfo>,
    lets: Vec<LetInfo>,
    /// The lets that can be seen.
    scope: Vec<usize>,
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
    let (limits, slack) = r.limits(file);
    let looks = r.looks(file);
    let name = file.name.as_ref().map_or_else(String::new, |n| n.text.clone());
    let Resolver { inputs, state, tunes, lets, diagnostics, .. } = r;
    (Tree { name, inputs, state, tunes, lets, body, step, looks, limits, slack }, diagnostics)
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

fn is_zero(e: &Expr) -> bool {
    matches!(&e.kind, ExprKind::Quantity(q) if q.value == 0.0 && !q.has_unit)
}

/// The attributes of a field, each at most once.
struct Attributes<'a>(&'a [Attribute]);

impl Attributes<'_> {
    fn get(&self, name: &str) -> Option<&Attribute> {
        self.0.iter().find(|a| a.name.text == name)
    }

    fn quantity(&self, name: &str) -> Option<Quantity> {
        match self.get(name)?.value {
            AttributeValue::Quantity(q) => Some(q),
            _ => None,
        }
    }

    fn word(&self, name: &str) -> Option<&Word> {
        match &self.get(name)?.value {
            AttributeValue::Word(w) => Some(w),
            _ => None,
        }
    }
}

impl Resolver {
    fn report(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    fn error(&mut self, code: &'static str, span: Span, message: impl Into<String>) {
        self.report(Diagnostic::error(code, span, message));
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

    /// Checks that a name may be given to something new.
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
        } else if self.scope.iter().any(|&id| self.lets[id].name == name) {
            Some("a `let` above")
        } else {
            None
        };
        if let Some(what) = taken {
            let message = format!("expected a name not yet used; `{name}` is {what}");
            self.report(Diagnostic::error("name", word.span, message).help("choose another name"));
        }
    }

    /// Reports attributes that do not belong to a field of this kind, and repeated ones.
    fn known_attributes(&mut self, field: &Field, known: &[&str]) {
        for (i, a) in field.attributes.iter().enumerate() {
            let name = a.name.text.as_str();
            if !known.contains(&name) {
                let list = if known.is_empty() { "no attributes".to_owned() } else { known.join(", ") };
                let message = format!("expected {list} for a field of kind `{}`; found `{name}`", field.kind.text);
                self.error("attribute", a.name.span, message);
            } else if field.attributes[..i].iter().any(|b| b.name.text == a.name.text) {
                self.error("attribute", a.name.span, format!("expected `{name}` once; found it again"));
            }
        }
    }

    /// `bits` as a whole number within a range.
    fn bits(&mut self, attributes: &Attributes<'_>, default: u32, least: u32, most: u32) -> u32 {
        let Some(q) = attributes.quantity("bits") else { return default };
        if q.has_unit || q.value.fract() != 0.0 || q.value < f64::from(least) || q.value > f64::from(most) {
            self.error("range", q.span, format!("expected {least} to {most} bits; found {}", q.value));
            return default;
        }
        q.value as u32
    }

    fn input(&mut self, field: &Field) {
        self.new_name(&field.name);
        let attributes = Attributes(&field.attributes);
        let known: &[&str] = match field.kind.text.as_str() {
            "held" | "press" => &[],
            _ => &["bits", "owned"],
        };
        let kind = match field.kind.text.as_str() {
            "stick" => InputKind::Stick { bits: self.bits(&attributes, 7, 2, 16) },
            "axis" => InputKind::Axis { bits: self.bits(&attributes, 7, 2, 16) },
            "bearing" => InputKind::Bearing { bits: self.bits(&attributes, 10, 2, 16) },
            "pitch" => InputKind::Pitch { bits: self.bits(&attributes, 9, 2, 16) },
            "point" => InputKind::Point { bits: self.bits(&attributes, 14, 4, 20) },
            "held" => InputKind::Held,
            "press" => InputKind::Press,
            other => {
                let kinds = ["stick", "axis", "held", "press", "bearing", "pitch", "point"];
                let message = format!("expected a kind of input ({}); found `{other}`", kinds.join(", "));
                let help = nearest(other, kinds.into_iter());
                self.report(Diagnostic::error("kind", field.kind.span, message).maybe_help(help));
                InputKind::Held
            }
        };
        self.known_attributes(field, known);
        if let Some((_, _, span)) = field.unit {
            let message = "expected no unit: the kind of an input says what it is; found one";
            self.error("unit", span, message);
        }
        let owned = attributes.get("owned").is_some();
        self.inputs.push(InputInfo { name: field.name.text.clone(), span: field.name.span, kind, owned });
    }

    /// A quantity in the unit of a field; a bare number counts in that unit.
    fn in_unit(&mut self, q: Quantity, dimension: Dimension, factor: f64, what: &str) -> f64 {
        if !q.has_unit {
            return q.value * factor;
        }
        if q.dimension != dimension && !q.unclear {
            let message = format!("expected {what} in {dimension}; found {}", q.dimension);
            self.error("unit", q.span, message);
        }
        q.value
    }

    fn state_field(&mut self, field: &Field) {
        self.new_name(&field.name);
        let kinds = ["point", "vector", "number", "bearing", "flag", "counter"];
        let shapes = [Shape::Point, Shape::Vector, Shape::Number, Shape::Bearing, Shape::Flag, Shape::Counter];
        let kind = field.kind.text.as_str();
        let shape = kinds.iter().position(|k| *k == kind).map(|i| shapes[i]);
        if shape.is_none() {
            let message = format!("expected a kind of state ({}); found `{kind}`", kinds.join(", "));
            let help = nearest(kind, kinds.into_iter());
            self.report(Diagnostic::error("kind", field.kind.span, message).maybe_help(help));
        }
        let shape = shape.unwrap_or(Shape::Number);
        let unitless = matches!(shape, Shape::Bearing | Shape::Flag | Shape::Counter);
        let (dimension, factor) = match field.unit {
            Some((_, _, span)) if unitless => {
                self.error("unit", span, format!("expected no unit for a {kind}; found one"));
                (Dimension::NONE, 1.0)
            }
            Some((d, factor, span)) => {
                if shape == Shape::Point && d != Dimension::LENGTH {
                    self.error("unit", span, format!("expected a length for a point; found {d}"));
                }
                (if shape == Shape::Point { Dimension::LENGTH } else { d }, factor)
            }
            None if shape == Shape::Point => (Dimension::LENGTH, 1.0),
            None => (Dimension::NONE, 1.0),
        };
        self.known_attributes(
            field,
            match shape {
                Shape::Point | Shape::Vector => &["bits", "wire", "range", "agree", "blend", "private"],
                Shape::Number => &["bits", "wire", "range", "agree", "blend", "private", "start"],
                Shape::Bearing => &["bits", "agree", "blend", "private", "start"],
                Shape::Flag | Shape::Counter => &["private", "start", "agree", "exactly"],
            },
        );
        let attributes = Attributes(&field.attributes);
        let wire = self.wire(field, &attributes, shape, dimension, factor);
        let agree = self.agree(&attributes, shape, dimension, factor, wire);
        let blend = self.blend(&attributes, shape);
        let seen_by = if attributes.get("private").is_some() { SeenBy::Owner } else { SeenBy::All };
        let start = attributes.quantity("start").map_or(0.0, |q| self.in_unit(q, dimension, factor, "the start"));
        self.state.push(StateInfo {
            name: field.name.text.clone(),
            span: field.name.span,
            shape,
            dimension,
            wire,
            agree,
            blend,
            seen_by,
            start: start as f32,
        });
    }

    fn wire(&mut self, field: &Field, a: &Attributes<'_>, shape: Shape, d: Dimension, factor: f64) -> Quantiser {
        if matches!(shape, Shape::Bearing | Shape::Flag | Shape::Counter) {
            return bearing_quantiser(self.bits(a, 10, 2, 16));
        }
        let (step, range) = match shape {
            Shape::Point => (1.0 / 256.0, 500.0),
            Shape::Vector => (1.0 / 128.0, 120.0),
            _ => (1.0 / 32.0, 100.0),
        };
        let positive = |r: &mut Self, name: &str, default: f64| {
            let Some(q) = a.quantity(name) else { return default };
            let value = r.in_unit(q, d, factor, name);
            if value > 0.0 {
                return value;
            }
            r.error("range", q.span, format!("expected a positive `{name}`; found {value}"));
            default
        };
        let range = positive(self, "range", range);
        let bits_given = a.get("bits").is_some();
        let step = if bits_given && a.get("wire").is_none() {
            let bits = self.bits(a, 16, 2, 24);
            range / (f64::from(1u32 << (bits - 1)) - 1.0)
        } else {
            positive(self, "wire", step)
        };
        // One bit of sign; the ends of the range are still in it.
        let mut bits = 2;
        while bits < 40 && step * ((1u64 << (bits - 1)) as f64 - 1.0) < range * (1.0 - 1e-9) {
            bits += 1;
        }
        if bits > 24 {
            let message = format!("expected a step and a range that fit 24 bits; found a need of {bits} or more");
            let help = "make the step larger (`wire 1/64`) or the range smaller (`range 200 m`)";
            self.report(Diagnostic::error("range", field.name.span, message).help(help));
            bits = 24;
        }
        if bits_given && a.get("wire").is_some() {
            let given = self.bits(a, bits, 2, 24);
            if given < bits {
                let message = format!("expected at least {bits} bits for this step and range; found {given}");
                self.error("range", field.name.span, message);
            }
            bits = given.max(bits);
        }
        Quantiser::new(step as f32, bits)
    }

    fn agree(&mut self, a: &Attributes<'_>, shape: Shape, d: Dimension, factor: f64, wire: Quantiser) -> Agree {
        if matches!(shape, Shape::Flag | Shape::Counter) || a.word("agree").is_some() || a.get("exactly").is_some() {
            return Agree::Exactly;
        }
        let default = match shape {
            Shape::Point => 0.02,
            Shape::Vector | Shape::Bearing => 0.1,
            _ => f64::from(wire.step()) * 4.0,
        };
        let within = a.quantity("agree").map_or(default, |q| {
            let value = self.in_unit(q, d, factor, "the agreement");
            if value < 0.0 {
                self.error("range", q.span, format!("expected an agreement of 0 or more; found {value}"));
            }
            value
        });
        Agree::Within(within as f32)
    }

    fn blend(&mut self, a: &Attributes<'_>, shape: Shape) -> Blend {
        let default = match shape {
            Shape::Point | Shape::Number => Blend::Linear,
            Shape::Bearing => Blend::Bearing,
            _ => Blend::None,
        };
        let Some(word) = a.word("blend") else { return default };
        let (blend, fits) = match word.text.as_str() {
            "none" => (Blend::None, true),
            "linear" => (Blend::Linear, !matches!(shape, Shape::Flag | Shape::Counter | Shape::Bearing)),
            "curve" => (Blend::Curve, shape == Shape::Point),
            "bearing" => (Blend::Bearing, shape == Shape::Bearing),
            other => {
                let ways = ["none", "linear", "curve", "bearing"];
                let message = format!("expected a way to blend ({}); found `{other}`", ways.join(", "));
                let help = nearest(other, ways.into_iter());
                self.report(Diagnostic::error("blend", word.span, message).maybe_help(help));
                (default, true)
            }
        };
        if !fits {
            let message = format!("expected a blend that fits the field; found `{}`", word.text);
            let help = "curve is for points, bearing for bearings, linear for numbers, vectors and points";
            self.report(Diagnostic::error("blend", word.span, message).help(help));
        }
        blend
    }

    fn tunables(&mut self, file: &File) {
        for t in &file.tune {
            self.new_name(&t.name);
            let value = t.value.value;
            let (mut least, mut most) = if value == 0.0 {
                (-1.0, 1.0)
            } else if value < 0.0 {
                (value * 4.0, 0.0)
            } else {
                (0.0, value * 4.0)
            };
            if let Some((from, to)) = t.range {
                for end in [from, to] {
                    if end.dimension != t.value.dimension && !end.unclear && !t.value.unclear {
                        let message = format!("expected the range in {}; found {}", t.value.dimension, end.dimension);
                        self.error("unit", end.span, message);
                    }
                }
                (least, most) = (from.value, to.value);
                if !(least <= value && value <= most) {
                    let message = format!("expected a range around {value}; found {least} to {most}");
                    self.error("range", from.span.to(to.span), message);
                }
            }
            self.tunes.push(TuneInfo {
                name: t.name.text.clone(),
                span: t.name.span,
                dimension: t.value.dimension,
                value: value as f32,
                least: least as f32,
                most: most as f32,
                unclear: t.value.unclear,
            });
        }
    }

    /// Checks that everything fits a state and an input.
    fn lanes(&mut self, file: &File) {
        let first = self.state.first().map(|f| (f.shape, f.span));
        match first {
            Some((Shape::Point, _)) | None => {}
            Some((_, span)) => {
                let message = "expected a point as the first state field: where the entity is";
                self.report(Diagnostic::error("missing", span, message).help("begin with `pos point m`"));
            }
        }
        if first.is_none()
            && let Some(section) = file.sections.iter().find(|s| s.text == "state")
        {
            let message = "expected a point as the first state field; `state` is empty";
            self.report(Diagnostic::error("missing", section.span, message).help("begin with `pos point m`"));
        }
        let state: usize = self.state.iter().map(|f| f.shape.lanes()).sum();
        // One is kept for `grounded`.
        if state > STATE_LANES - 1
            && let Some(span) = self.state.last().map(|f| f.span)
        {
            let most = STATE_LANES - 1;
            let message = format!("expected state of at most {most} numbers (a vector is three); found {state}");
            self.error("size", span, message);
        }
        let input: usize = self.inputs.iter().map(|f| f.kind.lanes()).sum();
        if input > INPUT_LANES
            && let Some(span) = self.inputs.last().map(|f| f.span)
        {
            let message = format!("expected input of at most {INPUT_LANES} numbers; found {input}");
            self.error("size", span, message);
        }
    }

    fn body(&mut self, file: &File) -> Body {
        let mut body = Body { radius: 0.35, height: 1.7, step: 0.3 };
        let mut seen = Vec::new();
        for (word, q) in &file.body {
            let (place, least, most) = match word.text.as_str() {
                "radius" => (&mut body.radius, 0.05, 20.0),
                "height" => (&mut body.height, 0.05, 50.0),
                "step" => (&mut body.step, 0.0, 5.0),
                other => {
                    let message = format!("expected radius, height or step; found `{other}`");
                    let help = nearest(other, ["radius", "height", "step"].into_iter());
                    self.report(Diagnostic::error("name", word.span, message).maybe_help(help));
                    continue;
                }
            };
            seen.push(word.text.as_str());
            if q.dimension != Dimension::LENGTH {
                self.error("unit", q.span, format!("expected a length such as `0.3 m`; found {}", q.dimension));
            } else if !(least..=most).contains(&q.value) {
                self.error("range", q.span, format!("expected {least} m to {most} m; found {} m", q.value));
            } else {
                *place = q.value as f32;
            }
        }
        let section = file.sections.iter().find(|s| s.text == "body");
        if let Some(section) = section {
            for missing in ["radius", "height", "step"].into_iter().filter(|m| !seen.contains(m)) {
                self.error("missing", section.span, format!("expected `{missing}` in `body`; it is missing"));
            }
        }
        body
    }

    fn looks(&mut self, file: &File) -> Vec<Look> {
        let mut before = 0.0;
        let count = file.looks.len();
        let mut out = Vec::new();
        for (i, look) in file.looks.iter().enumerate() {
            match look.below {
                Some(q) if q.dimension != Dimension::SPEED => {
                    self.error("unit", q.span, format!("expected a speed such as `0.3 m/s`; found {}", q.dimension));
                }
                Some(q) if q.value <= before => {
                    self.error("range", q.span, "expected each look's speed to be above the one before");
                }
                None if i + 1 < count => {
                    self.error("range", look.name.span, "expected `above` for the last look only");
                }
                _ => {}
            }
            before = look.below.map_or(before, |q| q.value);
            out.push(Look { name: look.name.text.clone(), below: look.below.map(|q| q.value as f32) });
        }
        out
    }

    fn limits(&mut self, file: &File) -> ([Node; 3], f32) {
        let zero = || Node { kind: NodeKind::Const(0.0), ty: Type::Number(Dimension::SPEED), span: Span::default() };
        let mut out = [None, None, None];
        let mut slack: Option<(f64, Span)> = None;
        let names = ["pace", "climb", "drop"];
        for limit in &file.limits {
            let Some(i) = names.iter().position(|n| *n == limit.name.text) else {
                let message = format!("expected pace, climb or drop; found `{}`", limit.name.text);
                let help = nearest(&limit.name.text, names.into_iter());
                self.report(Diagnostic::error("name", limit.name.span, message).maybe_help(help));
                continue;
            };
            let target = self.value(&limit.target);
            let wanted = if i == 0 { Type::Level(Dimension::SPEED) } else { Type::Number(Dimension::SPEED) };
            let component = match (&target.kind, i) {
                (NodeKind::Component(of, 0), 0) => matches!(of.kind, NodeKind::Read(Var::State(_))),
                (NodeKind::Component(of, 2), 1 | 2) => matches!(of.kind, NodeKind::Read(Var::State(_))),
                _ => false,
            };
            if target.ty != Type::Wrong && (!component || target.ty != wanted) {
                let form = if i == 0 { "`vel.xy`" } else { "`vel.z`" };
                self.error("limit", target.span, format!("expected the velocity's {form} for `{}`", names[i]));
            }
            let most = self.value(&limit.most);
            if !matches!(most.ty, Type::Number(Dimension::SPEED) | Type::Wrong) {
                let message = format!("expected a speed; found {}", most.ty.words());
                self.error("unit", most.span, message);
            }
            let constant = !most.any(&|n| {
                matches!(n.kind, NodeKind::Read(v) if !matches!(v, Var::Tune(_)))
                    || matches!(
                        n.kind,
                        NodeKind::Call(crate::builtin::Builtin::Ahead | crate::builtin::Builtin::Decay, _)
                    )
            });
            if !constant {
                let message = "expected tunables and numbers only; found something that changes from tick to tick";
                let why = "the guard must know the limit without simulating";
                self.report(Diagnostic::error("limit", most.span, message).why(why));
            }
            if let Some(q) = limit.slack {
                if !q.dimension.is_none() || !(0.0..=1.0).contains(&q.value) {
                    self.error("range", q.span, "expected a slack of 0 % to 100 %");
                }
                match slack {
                    Some((s, _)) if s != q.value => {
                        let message = "expected the same slack for all limits; found another";
                        self.error("limit", q.span, message);
                    }
                    _ => slack = Some((q.value, q.span)),
                }
            }
            if out[i].replace(most).is_some() {
                self.error("limit", limit.name.span, format!("expected one `{}`; found another", names[i]));
            }
        }
        let [pace, climb, drop] = out;
        if pace.is_none()
            && let Some(section) = file.sections.iter().find(|s| s.text == "limits")
        {
            let message = "expected `pace` in `limits`: how fast along the ground";
            self.report(Diagnostic::error("missing", section.span, message).help(
                "add `pace vel.xy at most … slack 4 %`; `climb vel.z` and `drop vel.z` are as much unless given",
            ));
        }
        let pace = pace.unwrap_or_else(zero);
        let climb = climb.unwrap_or_else(|| pace.clone());
        let drop = drop.unwrap_or_else(|| pace.clone());
        ([pace, climb, drop], slack.map_or(0.04, |(s, _)| s as f32))
    }

    fn statements(&mut self, statements: &[Stmt]) -> Vec<Step> {
        let seen = self.scope.len();
        let out = statements.iter().filter_map(|s| self.statement(s)).collect();
        self.scope.truncate(seen);
        out
    }

    fn statement(&mut self, statement: &Stmt) -> Option<Step> {
        match statement {
            Stmt::Let { name, value } => {
                let value = self.value(value);
                self.new_name(name);
                let id = self.lets.len();
                self.lets.push(LetInfo { name: name.text.clone(), span: name.span, ty: value.ty });
                self.scope.push(id);
                Some(Step::Let { id, value })
            }
            Stmt::Assign { kick, target, value } => self.assign(*kick, target, value),
            Stmt::If { condition, then, otherwise } => {
                let condition = self.condition(condition);
                let then = self.statements(then);
                let otherwise = self.statements(otherwise);
                Some(Step::If { condition, then, otherwise })
            }
            Stmt::Repeat { times, body, span } => {
                let n = times.value;
                if times.has_unit || n.fract() != 0.0 || !(1.0..=MOST_REPEATS).contains(&n) {
                    let message = format!("expected a whole number of sub-steps from 1 to {MOST_REPEATS}; found {n}");
                    let why = "each sub-step is a part of the tick; how many there are must be known beforehand";
                    self.report(Diagnostic::error("range", *span, message).why(why));
                }
                let body = self.statements(body);
                Some(Step::Repeat { times: n.clamp(1.0, MOST_REPEATS) as u32, body })
            }
            Stmt::Slide { position, velocity, span: _ } => {
                let position = self.field_of(position, Type::Point, "the point to move")?;
                let velocity = self.field_of(velocity, Type::Vector(Dimension::SPEED), "a velocity in m/s")?;
                Some(Step::Slide { position, velocity })
            }
        }
    }

    fn field_of(&mut self, word: &Word, ty: Type, what: &str) -> Option<usize> {
        let found = self.state.iter().position(|f| f.name == word.text);
        match found {
            Some(i) if self.state[i].ty() == ty => Some(i),
            Some(i) => {
                let found = self.state[i].ty().words();
                self.error("type", word.span, format!("expected {what}; `{}` is {found}", word.text));
                None
            }
            None => {
                let help = nearest(&word.text, self.state.iter().map(|f| f.name.as_str()));
                let message = format!("expected {what}, a state field; found `{}`", word.text);
                self.report(Diagnostic::error("name", word.span, message).maybe_help(help));
                None
            }
        }
    }

    fn condition(&mut self, e: &Expr) -> Node {
        let node = self.value(e);
        if !node.ty.is_truth() {
            let help = match node.ty {
                Type::Number(_) => "compare it: `… > 0`".to_owned(),
                _ => "compare a length or a component".to_owned(),
            };
            let message = format!("expected true or false; found {}", node.ty.words());
            self.report(Diagnostic::error("type", node.span, message).help(help));
        }
        node
    }

    fn assign(&mut self, kick: Option<Span>, target: &Expr, value: &Expr) -> Option<Step> {
        let (name, component) = match &target.kind {
            ExprKind::Name(name) => (name, None),
            ExprKind::Component(of, component) => match &of.kind {
                ExprKind::Name(name) => (name, Some(component)),
                _ => {
                    self.error("assign", target.span, "expected a state field or one of its components");
                    return None;
                }
            },
            ExprKind::Wrong => return None,
            _ => {
                self.error("assign", target.span, "expected a state field or one of its components");
                return None;
            }
        };
        let Some(field) = self.state.iter().position(|f| f.name == *name) else {
            self.not_assignable(name, target.span);
            self.value(value);
            return None;
        };
        let whole = self.state[field].ty();
        let (from, ty) = match component {
            None => (0, whole),
            Some(c) => self.component(whole, c)?,
        };
        if let Some(span) = kick
            && whole != Type::Vector(Dimension::SPEED)
        {
            let message = format!("expected a velocity after `kick`; `{name}` is {}", whole.words());
            self.report(Diagnostic::error("kick", span, message).help("leave `kick` out"));
        }
        let node = self.value_for(value, ty);
        if node.ty == Type::Wrong || ty == Type::Wrong {
            return None;
        }
        if node.ty != ty && !(ty == Type::Truth && node.ty.is_truth()) {
            self.mismatch(target, ty, &node, value);
            return None;
        }
        Some(Step::Assign { field, from, ty, value: node, kick: kick.is_some(), span: target.span })
    }

    fn not_assignable(&mut self, name: &str, span: Span) {
        let (message, help) = if self.tunes.iter().any(|t| t.name == name) {
            (
                format!("expected a state field; `{name}` is a tunable and cannot be assigned to"),
                "a tunable is a constant of the rule; to remember something, add a field to `state`".to_owned(),
            )
        } else if self.inputs.iter().any(|i| i.name == name) {
            (
                format!("expected a state field; `{name}` is an input and cannot be assigned to"),
                "an input is what the player gave; name what you make of it with `let`".to_owned(),
            )
        } else if self.scope.iter().any(|&id| self.lets[id].name == name) {
            (
                format!("expected a state field; `{name}` was named with `let` and stays as it is"),
                format!("name the new value: `let {name}2 = …`, or use `if … then … else …`"),
            )
        } else {
            let known = nearest(name, self.state.iter().map(|f| f.name.as_str()));
            let message = format!("expected a state field; nothing is called `{name}`");
            (message, known.unwrap_or_else(|| format!("to name a value, write `let {name} = …`")))
        };
        self.report(Diagnostic::error("assign", span, message).help(help));
    }

    fn mismatch(&mut self, target: &Expr, ty: Type, node: &Node, value: &Expr) {
        let message = format!("expected {}; found {}", ty.words(), node.ty.words());
        let help = match (ty, node.ty) {
            (Type::Vector(a), Type::Level(b)) if a == b => Some("assign to its level part: `….xy = …`".to_owned()),
            (Type::Bearing, Type::Number(Dimension::NONE)) => Some("make it a bearing: `wrap(…)`".to_owned()),
            (Type::Level(_), Type::Stick) => Some("turn it first: `turn(stick, bearing)`".to_owned()),
            (Type::Number(a), Type::Number(b))
            | (Type::Level(a), Type::Level(b))
            | (Type::Vector(a), Type::Vector(b)) => by_time(a, b),
            _ => None,
        };
        let span = if value.span == Span::default() { target.span } else { node.span };
        self.report(Diagnostic::error("unit", span, message).maybe_help(help));
    }

    /// The components that a word names: the first one and the type.
    fn component(&mut self, of: Type, word: &Word) -> Option<(u8, Type)> {
        let d = match of {
            Type::Wrong => return None,
            Type::Vector(d) | Type::Level(d) => d,
            Type::Point => Dimension::LENGTH,
            Type::Stick => Dimension::NONE,
            _ => {
                self.error("type", word.span, format!("expected something with components; found {}", of.words()));
                return None;
            }
        };
        let three = of.width() == 3;
        match word.text.as_str() {
            "x" => Some((0, Type::Number(d))),
            "y" => Some((1, Type::Number(d))),
            "z" if three => Some((2, Type::Number(d))),
            "xy" if three => Some((0, Type::Level(d))),
            other => {
                let known = if three { "x, y, z or xy" } else { "x or y" };
                self.error("component", word.span, format!("expected {known}; found `{other}`"));
                None
            }
        }
    }

    fn wrong(span: Span) -> Node {
        Node { kind: NodeKind::Wrong, ty: Type::Wrong, span }
    }

    /// A value where one of a certain type is wanted: a bare 0 fits every unit.
    fn value_for(&mut self, e: &Expr, ty: Type) -> Node {
        if is_zero(e) && matches!(ty, Type::Number(_)) {
            return Node { kind: NodeKind::Const(0.0), ty, span: e.span };
        }
        self.value(e)
    }

    fn value(&mut self, e: &Expr) -> Node {
        let span = e.span;
        let made = |kind, ty| Node { kind, ty, span };
        match &e.kind {
            ExprKind::Wrong => Self::wrong(span),
            ExprKind::Quantity(q) if q.unclear => Self::wrong(span),
            ExprKind::Quantity(q) => made(NodeKind::Const(q.value as f32), Type::Number(q.dimension)),
            ExprKind::Truth(t) => made(NodeKind::Const(f32::from(u8::from(*t))), Type::Truth),
            ExprKind::Name(name) => self.read(name, span),
            ExprKind::Component(of, word) => self.part(of, word, span),
            ExprKind::Negative(inner) => {
                let inner = self.value(inner);
                let ty = match inner.ty {
                    Type::Number(_) | Type::Level(_) | Type::Vector(_) | Type::Wrong => inner.ty,
                    other => {
                        self.error("type", span, format!("expected a number or a vector; found {}", other.words()));
                        Type::Wrong
                    }
                };
                made(NodeKind::Negative(Box::new(inner)), ty)
            }
            ExprKind::Not(inner) => {
                let inner = self.condition(inner);
                made(NodeKind::Not(Box::new(inner)), Type::Truth)
            }
            ExprKind::Binary(op, a, b) => self.binary(*op, a, b, span),
            ExprKind::If(c, a, b) => self.choice(c, a, b, span),
            ExprKind::Call(name, arguments) => self.call(name, arguments, span),
        }
    }

    fn read(&mut self, name: &str, span: Span) -> Node {
        let found = if name == "dt" {
            Some((Var::Dt, Type::Number(Dimension::TIME)))
        } else if name == "contact" {
            Some((Var::Contact, Type::Vector(Dimension::NONE)))
        } else if let Some(&id) = self.scope.iter().rev().find(|&&id| self.lets[id].name == name) {
            Some((Var::Let(id), self.lets[id].ty))
        } else if let Some(i) = self.state.iter().position(|f| f.name == name) {
            Some((Var::State(i), self.state[i].ty()))
        } else if let Some(i) = self.inputs.iter().position(|f| f.name == name) {
            Some((Var::Input(i), self.inputs[i].ty()))
        } else {
            self.tunes.iter().position(|t| t.name == name).map(|i| {
                let t = &self.tunes[i];
                (Var::Tune(i), if t.unclear { Type::Wrong } else { Type::Number(t.dimension) })
            })
        };
        if let Some((var, ty)) = found {
            return Node { kind: NodeKind::Read(var), ty, span };
        }
        self.unknown(name, span);
        Self::wrong(span)
    }

    fn unknown(&mut self, name: &str, span: Span) {
        let visible = self.scope.iter().map(|&id| self.lets[id].name.as_str());
        let fields = self.state.iter().map(|f| f.name.as_str()).chain(self.inputs.iter().map(|f| f.name.as_str()));
        let tunes = self.tunes.iter().map(|t| t.name.as_str());
        let known: Vec<&str> = visible.chain(fields).chain(tunes).chain(["dt", "surface", "contact"]).collect();
        let help = match name {
            "delta" | "delta_time" | "deltaTime" | "frame_time" | "timestep" => {
                Some("the tick's length is `dt`".to_owned())
            }
            "time" | "now" | "tick" => {
                Some("a rule knows no clock; count time in a state field: `rest = rest + dt`".to_owned())
            }
            "rand" | "random" => Some("a rule knows no chance: every machine must come to the same result".to_owned()),
            "grounded" => Some("`grounded` is kept by `slide`; use `slide pos, vel` in `step`".to_owned()),
            _ if self.lets.iter().any(|l| l.name == name) => {
                Some(format!("`{name}` was named inside a block and is not seen outside it"))
            }
            _ => nearest(name, known.into_iter()),
        };
        let message = format!("expected a name that is known here; found `{name}`");
        self.report(Diagnostic::error("name", span, message).maybe_help(help));
    }

    fn part(&mut self, of: &Expr, word: &Word, span: Span) -> Node {
        if matches!(&of.kind, ExprKind::Name(name) if name == "surface") {
            let (var, ty) = match word.text.as_str() {
                "grip" => (Var::Grip, Type::Number(Dimension::NONE)),
                "pace" => (Var::Pace, Type::Number(Dimension::NONE)),
                other => {
                    self.error(
                        "component",
                        word.span,
                        format!("expected surface.grip or surface.pace; found `{other}`"),
                    );
                    return Self::wrong(span);
                }
            };
            return Node { kind: NodeKind::Read(var), ty, span };
        }
        let of = self.value(of);
        match self.component(of.ty, word) {
            Some((from, ty)) => Node { kind: NodeKind::Component(Box::new(of), from), ty, span },
            None => Self::wrong(span),
        }
    }

    fn binary(&mut self, op: Op, a: &Expr, b: &Expr, span: Span) -> Node {
        if matches!(op, Op::And | Op::Or) {
            let (a, b) = (self.condition(a), self.condition(b));
            return Node { kind: NodeKind::Binary(op, Box::new(a), Box::new(b)), ty: Type::Truth, span };
        }
        let (mut left, mut right) = (self.value(a), self.value(b));
        // A bare 0 fits every unit where the two must be alike.
        if !matches!(op, Op::Mul | Op::Div) {
            if is_zero(a) && matches!(right.ty, Type::Number(_)) {
                left.ty = right.ty;
            } else if is_zero(b) && matches!(left.ty, Type::Number(_)) {
                right.ty = left.ty;
            }
        }
        let ty = if left.ty == Type::Wrong || right.ty == Type::Wrong {
            Some(Type::Wrong)
        } else {
            match op {
                Op::Add | Op::Sub => sum(op, left.ty, right.ty),
                Op::Mul => product(left.ty, right.ty),
                Op::Div => quotient(left.ty, right.ty),
                _ => match (left.ty, right.ty) {
                    (Type::Number(x), Type::Number(y)) if x == y => Some(Type::Truth),
                    (x, y) if x.is_truth() && y.is_truth() && matches!(op, Op::Equal | Op::NotEqual) => {
                        Some(Type::Truth)
                    }
                    _ => None,
                },
            }
        };
        let Some(ty) = ty else {
            self.misfit(op, &left, &right, span);
            return Self::wrong(span);
        };
        Node { kind: NodeKind::Binary(op, Box::new(left), Box::new(right)), ty, span }
    }

    fn misfit(&mut self, op: Op, left: &Node, right: &Node, span: Span) {
        let (l, r) = (left.ty, right.ty);
        let shown = |ty: Type| match ty {
            Type::Number(d) if !d.is_none() => d.to_string(),
            Type::Level(d) | Type::Vector(d) if !d.is_none() => d.to_string(),
            other => other.words(),
        };
        let alike = matches!(
            op,
            Op::Add | Op::Sub | Op::Less | Op::LessEqual | Op::More | Op::MoreEqual | Op::Equal | Op::NotEqual
        );
        let help = match (l, r) {
            (Type::Stick, _) | (_, Type::Stick) => {
                Some("turn the stick first: `turn(stick, bearing)`, or take `.x` or `.y`".to_owned())
            }
            (Type::Press, _) | (_, Type::Press) | (Type::Truth, _) | (_, Type::Truth) => {
                Some("choose a value by it: `if … then … else …`".to_owned())
            }
            (Type::Number(a), Type::Number(b))
            | (Type::Level(a), Type::Level(b))
            | (Type::Vector(a), Type::Vector(b))
                if alike =>
            {
                by_time(a, b).or_else(|| Some("both sides must be of one unit".to_owned()))
            }
            (Type::Vector(_), Type::Level(_)) | (Type::Level(_), Type::Vector(_)) => {
                Some("take the level part of both: `.xy`".to_owned())
            }
            (Type::Vector(_) | Type::Level(_), Type::Vector(_) | Type::Level(_)) => {
                Some("for a product of vectors use `dot(a, b)` or `cross(a, b)`".to_owned())
            }
            (Type::Bearing, Type::Bearing) if matches!(op, Op::Add) => {
                Some("a bearing plus a bearing is none; add a number in radians".to_owned())
            }
            (Type::Bearing, _) | (_, Type::Bearing) => {
                Some("take the difference of two bearings, or `sin` and `cos`".to_owned())
            }
            (Type::Point, _) | (_, Type::Point) => Some("take the way between two points: `a - b`".to_owned()),
            (_, Type::Vector(_) | Type::Level(_)) if op == Op::Div => Some("divide by its `length(…)`".to_owned()),
            (Type::Vector(_) | Type::Level(_), _) if alike => Some("take its `length(…)` or a component".to_owned()),
            _ => None,
        };
        let message = format!("{} {} {}: these do not go together", shown(l), op.sign(), shown(r));
        self.report(Diagnostic::error("unit", span, message).maybe_help(help));
    }

    fn choice(&mut self, c: &Expr, a: &Expr, b: &Expr, span: Span) -> Node {
        let condition = self.condition(c);
        let (mut then, mut otherwise) = (self.value(a), self.value(b));
        if is_zero(a) && matches!(otherwise.ty, Type::Number(_)) {
            then.ty = otherwise.ty;
        } else if is_zero(b) && matches!(then.ty, Type::Number(_)) {
            otherwise.ty = then.ty;
        }
        let ty = match (then.ty, otherwise.ty) {
            (Type::Wrong, other) | (other, Type::Wrong) => other,
            (x, y) if x == y => x,
            (x, y) if x.is_truth() && y.is_truth() => Type::Truth,
            (x, y) => {
                let message = format!("expected both ways to give the same; found {} and {}", x.words(), y.words());
                self.error("type", span, message);
                Type::Wrong
            }
        };
        Node { kind: NodeKind::If(Box::new(condition), Box::new(then), Box::new(otherwise)), ty, span }
    }

    fn call(&mut self, name: &Word, arguments: &[Expr], span: Span) -> Node {
        let nodes: Vec<Node> = arguments.iter().map(|a| self.value(a)).collect();
        let Some(spec) = builtin_named(&name.text) else {
            let help = match name.text.as_str() {
                "lerp" => Some("write `mix(a, b, t)`".to_owned()),
                "normalize" | "normalized" | "normalise" => Some("write `unit(v)`".to_owned()),
                "magnitude" | "norm" | "len" => Some("write `length(v)`".to_owned()),
                "rotate" => Some("write `turn(v, angle)`".to_owned()),
                "pow" => Some("write the product: `x * x`".to_owned()),
                "rand" | "random" => {
                    Some("a rule knows no chance: every machine must come to the same result".to_owned())
                }
                other => nearest(other, BUILTINS.iter().map(|b| b.name)),
            };
            let message = format!("expected a function of the language; found `{}`", name.text);
            self.report(Diagnostic::error("name", name.span, message).maybe_help(help));
            return Self::wrong(span);
        };
        if !spec.builtin.arity().contains(&nodes.len()) {
            let message = format!("expected {}({}); found {} arguments", spec.name, spec.takes, nodes.len());
            self.error("arguments", span, message);
            return Self::wrong(span);
        }
        let mut types: Vec<Type> = nodes.iter().map(|n| n.ty).collect();
        // A bare 0 takes the unit of its neighbours.
        let unit =
            types.iter().zip(arguments).find(|(t, e)| matches!(t, Type::Number(_)) && !is_zero(e)).map(|(t, _)| *t);
        for (t, e) in types.iter_mut().zip(arguments) {
            if let (true, Some(unit)) = (is_zero(e), unit) {
                *t = unit;
            }
        }
        match spec.builtin.result(&types) {
            Ok(ty) => Node { kind: NodeKind::Call(spec.builtin, nodes), ty, span },
            Err(misfit) => {
                let at = misfit.argument.unwrap_or(0);
                let found = types[at].words();
                let message = format!("{}({}): expected {}; found {found}", spec.name, spec.takes, misfit.expected);
                let help = match (types[at], misfit.expected.as_str()) {
                    (Type::Number(d), _) if d == Dimension::ACCELERATION && spec.name == "toward" => {
                        Some("multiply by `dt`: how much it may change in one tick".to_owned())
                    }
                    (Type::Stick, _) => Some("turn the stick first: `turn(stick, bearing)`".to_owned()),
                    (Type::Vector(_), "a level vector, such as `vel.xy`") => {
                        Some("take its level part: `.xy`".to_owned())
                    }
                    _ => None,
                };
                self.report(Diagnostic::error("unit", nodes[at].span, message).maybe_help(help));
                Self::wrong(span)
            }
        }
    }
}

/// What to multiply by so that `found` becomes `wanted`, where that is the tick's length.
fn by_time(wanted: Dimension, found: Dimension) -> Option<String> {
    let bare = |d: Dimension| if d.is_none() { "a bare number".to_owned() } else { d.to_string() };
    if wanted == found.times(Dimension::TIME) {
        Some(format!("multiply by dt? {} times `dt` is {wanted}", bare(found)))
    } else if wanted.times(Dimension::TIME) == found {
        Some(format!("divide by dt? {found} over `dt` is {}; or leave `dt` out", bare(wanted)))
    } else {
        None
    }
}

fn sum(op: Op, a: Type, b: Type) -> Option<Type> {
    match (a, b) {
        (Type::Number(x), Type::Number(y)) if x == y => Some(a),
        (Type::Level(x), Type::Level(y)) if x == y => Some(a),
        (Type::Vector(x), Type::Vector(y)) if x == y => Some(a),
        (Type::Point, Type::Vector(Dimension::LENGTH)) => Some(Type::Point),
        (Type::Vector(Dimension::LENGTH), Type::Point) if op == Op::Add => Some(Type::Point),
        (Type::Point, Type::Point) if op == Op::Sub => Some(Type::Vector(Dimension::LENGTH)),
        (Type::Bearing, Type::Number(Dimension::NONE)) => Some(Type::Bearing),
        (Type::Bearing, Type::Bearing) if op == Op::Sub => Some(Type::Number(Dimension::NONE)),
        _ => None,
    }
}

fn product(a: Type, b: Type) -> Option<Type> {
    match (a, b) {
        (Type::Number(x), Type::Number(y)) => Some(Type::Number(x.times(y))),
        (Type::Number(x), Type::Level(y)) | (Type::Level(y), Type::Number(x)) => Some(Type::Level(x.times(y))),
        (Type::Number(x), Type::Vector(y)) | (Type::Vector(y), Type::Number(x)) => Some(Type::Vector(x.times(y))),
        _ => None,
    }
}

fn quotient(a: Type, b: Type) -> Option<Type> {
    match (a, b) {
        (Type::Number(x), Type::Number(y)) => Some(Type::Number(x.per(y))),
        (Type::Level(x), Type::Number(y)) => Some(Type::Level(x.per(y))),
        (Type::Vector(x), Type::Number(y)) => Some(Type::Vector(x.per(y))),
        _ => None,
    }
}
