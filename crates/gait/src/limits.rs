//! What is lawful, ready to be asked: with any tunables, in any state or in one that was told.

use velocitas_core::{Burst, LIMITS, Limits, Quantiser, STATE_LANES, Shape, State, Underfoot};

use crate::diagnostic::Diagnostic;
use crate::interval::{Interval, Known, interval};
use crate::lower::limit;
use crate::program::Program;
use crate::syntax::Op;
use crate::tree::{Node, NodeKind, StateInfo, Tree, Var};

/// A value of tunables, and of the state where it varies.
#[derive(Clone, Debug)]
enum Bound {
    /// The same in every state: a program, and the register in which it ends.
    Fixed(Program, u8),
    /// Another in another state, or on another surface.
    Varying(Node),
}

/// A field that limits may depend on.
#[derive(Clone, Copy, Debug)]
struct Field {
    lane: usize,
    shape: Shape,
    wire: Quantiser,
}

/// All limits of a rule.
#[derive(Clone, Debug)]
pub(crate) struct Bounds {
    /// Along the ground, up, down.
    paces: [Bound; 3],
    burst: Option<[Bound; 2]>,
    /// Those of [`LIMITS`], in its order.
    singles: [Option<Bound>; LIMITS.len()],
    /// By the field's first lane.
    gains: Vec<(usize, Bound)>,
    slack: f32,
    fields: Vec<Field>,
}

impl Bound {
    fn of(tree: &Tree, node: &Node) -> Result<Self, Diagnostic> {
        if node.any(&|n| matches!(n.kind, NodeKind::Read(Var::State(_) | Var::Grip | Var::Pace))) {
            return Ok(Self::Varying(node.clone()));
        }
        limit(tree, node).map(|(program, register)| Self::Fixed(program, register))
    }

    /// The most it can be; nothing where that is no number.
    fn most(&self, known: &Known<'_>) -> f32 {
        match self {
            Self::Fixed(program, register) => program.number(known.tunables, known.defaults, *register),
            Self::Varying(node) => interval(node, known).high,
        }
    }
}

impl Bounds {
    /// Those of a rule whose fields lie in these lanes.
    ///
    /// # Errors
    /// When one guards nobody with the tunables as declared, or is too long.
    pub(crate) fn of(tree: &Tree, lanes: &[usize], defaults: &[f32]) -> Result<Self, Diagnostic> {
        let limits = &tree.limits;
        let bound = |node: &Node| Bound::of(tree, node);
        let field = |(f, lane): (&StateInfo, &usize)| Field { lane: *lane, shape: f.shape, wire: f.wire };
        let [pace, climb, drop] = &limits.paces;
        let mut singles = [const { None }; LIMITS.len()];
        for (single, node) in singles.iter_mut().zip(&limits.singles) {
            *single = node.as_ref().map(bound).transpose()?;
        }
        let bounds = Self {
            paces: [bound(pace)?, bound(climb)?, bound(drop)?],
            burst: limits.burst.as_ref().map(|[pace, metres]| Ok([bound(pace)?, bound(metres)?])).transpose()?,
            singles,
            gains: limits.gains.iter().map(|(f, n)| Ok((lanes[*f], bound(n)?))).collect::<Result<_, Diagnostic>>()?,
            slack: limits.slack,
            fields: tree.state.iter().zip(lanes).map(field).collect(),
        };
        let anything = |i: usize| bounds.fields[i].anything();
        let known = Known { tunables: defaults, defaults, field: &anything, underfoot: &Underfoot::ANY };
        let once = bounds.burst.iter().flatten().chain(bounds.singles.iter().flatten());
        let all = bounds.paces.iter().chain(once);
        for (bound, node) in all.zip(limits.nodes()) {
            sensible(bound.most(&known), node)?;
        }
        Ok(bounds)
    }

    /// In whatever state.
    pub(crate) fn at_most(&self, tunables: &[f32], defaults: &[f32]) -> Limits {
        let mut gains = [f32::INFINITY; STATE_LANES];
        let anything = |i: usize| self.fields[i].anything();
        let known = Known { tunables, defaults, field: &anything, underfoot: &Underfoot::ANY };
        let fixed = |bound: &Bound| positive(bound.most(&known));
        for (lane, bound) in &self.gains {
            gains[*lane] = fixed(bound);
        }
        let burst = self.burst.as_ref().map(|[level, metres]| Burst { level: fixed(level), metres: fixed(metres) });
        let [level, up, down] = self.paces.each_ref().map(fixed);
        let mut limits = Limits { burst, gains, ..Limits::of_pace(level, up, down, self.slack) };
        for (limit, single) in LIMITS.iter().zip(&self.singles) {
            (limit.set)(&mut limits, single.as_ref().map(fixed));
        }
        limits
    }

    /// Of what is lawful at `most`, what is left a given time after a state was told, with something of this underfoot.
    pub(crate) fn within(
        &self,
        most: &Limits,
        (tunables, defaults): (&[f32], &[f32]),
        (state, ago): (&State, f32),
        underfoot: &Underfoot,
    ) -> Limits {
        let field = |i: usize| self.fields[i].since(state, most.gains[self.fields[i].lane], ago);
        let known = Known { tunables, defaults, field: &field, underfoot };
        let pace = |bound: &Bound, most: f32| match bound {
            Bound::Fixed(..) => most,
            Bound::Varying(_) => velocitas_core::min(positive(bound.most(&known)), most),
        };
        let [level, up, down] = &self.paces;
        Limits { level: pace(level, most.level), up: pace(up, most.up), down: pace(down, most.down), ..*most }
    }
}

impl Field {
    /// What the wire can carry of it.
    fn anything(&self) -> Interval {
        match self.shape {
            Shape::Flag => Interval { low: 0.0, high: 1.0 },
            Shape::Counter => Interval { low: 0.0, high: f32::INFINITY },
            Shape::Number | Shape::Bearing => Interval { low: -self.wire.reach(), high: self.wire.reach() },
            Shape::Point | Shape::Vector => Interval::ANYTHING,
        }
    }

    /// What it can be a given number of seconds after it was told, rounded; `gain` is the most it grows a second.
    fn since(&self, state: &State, gain: f32, ago: f32) -> Interval {
        let all = self.anything();
        let value = match self.shape {
            Shape::Flag => f32::from(u8::from(state.flag(self.lane))),
            Shape::Counter => state.int(self.lane) as f32,
            Shape::Number | Shape::Bearing => state.real(self.lane),
            Shape::Point | Shape::Vector => return all,
        };
        // To the nearest: half a step away at most.
        let rounded = if matches!(self.shape, Shape::Number | Shape::Bearing) { self.wire.step() / 2.0 } else { 0.0 };
        let (low, high) = (value - rounded, value + rounded);
        if ago <= 0.0 {
            return Interval { low, high };
        }
        if self.shape == Shape::Number && gain.is_finite() {
            return Interval { low: all.low, high: high + gain * ago };
        }
        all
    }
}

fn positive(x: f32) -> f32 {
    if x.is_finite() { velocitas_core::max(x, 0.0) } else { 0.0 }
}

/// The most a limit may allow: beyond that a guard sees nothing.
const MOST: f32 = 10_000.0;

/// A limit of nothing, of less, or of anything guards nobody.
fn sensible(most: f32, node: &Node) -> Result<(), Diagnostic> {
    if most > 0.0 && most <= MOST {
        return Ok(());
    }
    let unit = match node.ty {
        crate::types::Type::Number(dimension) => dimension.to_string(),
        _ => String::new(),
    };
    let varies = node.any(&|n| matches!(n.kind, NodeKind::Read(Var::State(_) | Var::Grip | Var::Pace)));
    let message = format!(
        "expected a limit above 0 {unit} and of at most {MOST} {unit}; with the tunables as declared it is {}{} {unit}",
        if varies { "up to " } else { "" },
        if most > MOST { format!("{most:e}") } else { most.to_string() }
    );
    let divided = node.any(&|n| matches!(n.kind, NodeKind::Binary(Op::Div, ..)));
    let why = if varies && most > MOST {
        "in some state it is without bounds: clamp what it depends on"
    } else if divided && most == 0.0 {
        "what is divided by nothing is 0, and whoever moves at all would be accused"
    } else {
        "the guard accuses whoever goes faster than the limit"
    };
    Err(Diagnostic::error("limit", node.span, message).why(why))
}
