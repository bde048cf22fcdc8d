//! Inputs, state and tunables, and whether they fit.

use velocitas_core::{Agree, Blend, INPUT_LANES, InputKind, Quantiser, STATE_LANES, SeenBy, Shape, bearing_quantiser};

use super::Resolver;
use crate::diagnostic::{Diagnostic, nearest};
use crate::keys::{Key, parts};
use crate::syntax::{Attribute, AttributeValue, Field, File, Quantity, Word};
use crate::tree::{InputInfo, StateInfo, TuneInfo};
use crate::unit::Dimension;

/// A value with its unit, for people.
fn measured(value: f64, d: Dimension) -> String {
    let plain = value == 0.0 || (1e-4..1e7).contains(&value.abs());
    let number = if plain { value.to_string() } else { format!("{value:e}") };
    if d.is_none() { number } else { format!("{number} {d}") }
}

/// Whatever was written, a step that a number can hold.
fn quantiser(step: f64, bits: u32) -> Quantiser {
    Quantiser::new((step as f32).clamp(f32::MIN_POSITIVE, 1e30), bits)
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

    fn bits(&mut self, attributes: &Attributes<'_>, default: u32, least: u32, most: u32) -> u32 {
        let Some(q) = attributes.quantity("bits") else { return default };
        if q.has_unit || q.value.fract() != 0.0 || q.value < f64::from(least) || q.value > f64::from(most) {
            self.error("range", q.span, format!("expected {least} to {most} bits; found {}", q.value));
            return default;
        }
        q.value as u32
    }

    pub(super) fn input(&mut self, field: &Field) {
        self.new_name(&field.name);
        let attributes = Attributes(&field.attributes);
        let known: &[&str] = match field.kind.text.as_str() {
            "held" | "press" => &["key"],
            _ => &["bits", "owned", "key"],
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
        let keys = self.keys(&attributes, kind);
        self.inputs.push(InputInfo { name: field.name.text.clone(), span: field.name.span, kind, owned, keys });
    }

    /// The keys that an input asks for: as many as it takes, none of them used elsewhere.
    fn keys(&mut self, attributes: &Attributes<'_>, kind: InputKind) -> Vec<Key> {
        let Some(Attribute { value: AttributeValue::Texts(written), name }) = attributes.get("key") else {
            return Vec::new();
        };
        let mut keys: Vec<Key> = Vec::new();
        for word in written {
            let Some(key) = Key::named(&word.text) else {
                let message = format!("expected a letter, space, left, right, up or down; found `{}`", word.text);
                self.error("key", word.span, message);
                continue;
            };
            let other = self.inputs.iter().find(|input| input.keys.contains(&key));
            let taken = match (key.reserved(), other) {
                (Some(does), _) => Some(format!("{does} at the helm")),
                (None, Some(other)) => Some(format!("is that of input `{}`", other.name)),
                (None, None) => keys.contains(&key).then(|| "stands here already".to_owned()),
            };
            match taken {
                Some(taken) => {
                    self.error("key", word.span, format!("expected a key that is free; `{}` {taken}", word.text));
                }
                None => keys.push(key),
            }
        }
        let parts = parts(kind);
        if written.len() != parts.len() {
            let (count, s) = (parts.len(), if parts.len() == 1 { "" } else { "s" });
            let message = format!("expected {count} key{s} ({}); found {}", parts.join(", "), written.len());
            self.error("key", name.span, message);
        }
        keys
    }

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

    pub(super) fn state_field(&mut self, field: &Field) {
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
        let before = self.diagnostics.len();
        let wire = self.wire(field, &attributes, shape, dimension, factor);
        // What a wrong range would make of the agreement is not worth saying.
        let reach = if self.diagnostics.len() > before { f64::INFINITY } else { f64::from(wire.reach()) };
        let agree = self.agree(&attributes, shape, dimension, factor, (wire, reach));
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
        if step > range {
            let at = a.get("wire").or_else(|| a.get("range")).map_or(field.name.span, |w| w.name.span);
            let message = format!(
                "expected a step no larger than the range, {}; found {}",
                measured(range, d),
                measured(step, d)
            );
            let why = "every value would be rounded to nothing or to the range's end";
            self.report(Diagnostic::error("range", at, message).why(why));
            return quantiser(range, 2);
        }
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
        quantiser(step, bits)
    }

    /// `wire` comes with the largest agreement that makes sense.
    fn agree(
        &mut self,
        a: &Attributes<'_>,
        shape: Shape,
        d: Dimension,
        factor: f64,
        (wire, reach): (Quantiser, f64),
    ) -> Agree {
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
            let most = if shape == Shape::Bearing { std::f64::consts::PI } else { reach };
            if value < 0.0 {
                self.error("range", q.span, format!("expected an agreement of 0 or more; found {value}"));
            } else if value > most {
                let message = format!(
                    "expected an agreement below the field's range, {}; found {}",
                    measured(most, d),
                    measured(value, d)
                );
                let why = "whatever was predicted would agree";
                self.report(Diagnostic::error("range", q.span, message).why(why));
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

    pub(super) fn tunables(&mut self, file: &File) {
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

    pub(super) fn lanes(&mut self, file: &File) {
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
}
