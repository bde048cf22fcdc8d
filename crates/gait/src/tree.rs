//! The resolved tree: every name has a meaning, every value a type.

use velocitas_core::{Agree, Blend, InputKind, LIMITS, Quantiser, SeenBy, Shape};

use crate::builtin::Builtin;
use crate::diagnostic::Span;
use crate::keys::Key;
use crate::syntax::Op;
use crate::types::Type;
use crate::unit::Dimension;

/// Where a value is read from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Var {
    State(usize),
    Input(usize),
    Tune(usize),
    Let(usize),
    Dt,
    Grip,
    Pace,
    Contact,
}

/// A value.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Node {
    pub(crate) kind: NodeKind,
    pub(crate) ty: Type,
    pub(crate) span: Span,
}

/// How a value comes about.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum NodeKind {
    Wrong,
    Const(f32),
    Read(Var),
    /// The components from this one on, as many as the type is wide.
    Component(Box<Node>, u8),
    Negative(Box<Node>),
    Not(Box<Node>),
    Binary(Op, Box<Node>, Box<Node>),
    If(Box<Node>, Box<Node>, Box<Node>),
    Call(Builtin, Vec<Node>),
}

impl Node {
    /// Calls back with this and every node below.
    pub(crate) fn walk(&self, each: &mut impl FnMut(&Self)) {
        each(self);
        match &self.kind {
            NodeKind::Component(a, _) | NodeKind::Negative(a) | NodeKind::Not(a) => a.walk(each),
            NodeKind::Binary(_, a, b) => {
                a.walk(each);
                b.walk(each);
            }
            NodeKind::If(a, b, c) => {
                a.walk(each);
                b.walk(each);
                c.walk(each);
            }
            NodeKind::Call(_, all) => all.iter().for_each(|a| a.walk(each)),
            NodeKind::Wrong | NodeKind::Const(_) | NodeKind::Read(_) => {}
        }
    }

    /// Whether any node below satisfies the question.
    pub(crate) fn any(&self, question: &impl Fn(&Self) -> bool) -> bool {
        let mut found = false;
        self.walk(&mut |node| found |= question(node));
        found
    }

    /// Whether it reads the variable.
    pub(crate) fn reads(&self, var: Var) -> bool {
        self.any(&|n| n.kind == NodeKind::Read(var))
    }
}

/// What to do.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Step {
    Let { id: usize, value: Node },
    Assign { field: usize, from: u8, ty: Type, value: Node, kick: bool, span: Span },
    If { condition: Node, then: Vec<Self>, otherwise: Vec<Self> },
    Repeat { times: u32, body: Vec<Self> },
    Slide { position: usize, velocity: usize },
}

/// A remembered value.
#[derive(Clone, Debug)]
pub(crate) struct StateInfo {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) shape: Shape,
    pub(crate) dimension: Dimension,
    pub(crate) wire: Quantiser,
    pub(crate) agree: Agree,
    pub(crate) blend: Blend,
    pub(crate) seen_by: SeenBy,
    pub(crate) start: f32,
}

impl StateInfo {
    pub(crate) const fn ty(&self) -> Type {
        match self.shape {
            Shape::Point => Type::Point,
            Shape::Vector => Type::Vector(self.dimension),
            Shape::Number | Shape::Counter => Type::Number(self.dimension),
            Shape::Bearing => Type::Bearing,
            Shape::Flag => Type::Truth,
        }
    }
}

/// A pressed value.
#[derive(Clone, Debug)]
pub(crate) struct InputInfo {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) kind: InputKind,
    /// The owner decides it and the server believes it.
    pub(crate) owned: bool,
    /// The keys it asks for, if any.
    pub(crate) keys: Vec<Key>,
}

impl InputInfo {
    pub(crate) const fn ty(&self) -> Type {
        match self.kind {
            InputKind::Stick { .. } => Type::Stick,
            InputKind::Held => Type::Truth,
            InputKind::Press => Type::Press,
            InputKind::Bearing { .. } => Type::Bearing,
            InputKind::Axis { .. } | InputKind::Pitch { .. } => Type::Number(Dimension::NONE),
            InputKind::Point { .. } => Type::Point,
        }
    }
}

/// A constant that may be turned.
#[derive(Clone, Debug)]
pub(crate) struct TuneInfo {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) dimension: Dimension,
    pub(crate) value: f32,
    pub(crate) least: f32,
    pub(crate) most: f32,
    /// Its unit could not be read; reported already.
    pub(crate) unclear: bool,
}

/// What a name stands for inside `step`, kept for the lints.
#[derive(Clone, Debug)]
pub(crate) struct LetInfo {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) ty: Type,
}

/// A whole rule with every name resolved.
#[derive(Clone, Debug)]
pub(crate) struct Tree {
    pub(crate) name: String,
    pub(crate) inputs: Vec<InputInfo>,
    pub(crate) state: Vec<StateInfo>,
    pub(crate) tunes: Vec<TuneInfo>,
    pub(crate) lets: Vec<LetInfo>,
    pub(crate) body: velocitas_core::Body,
    pub(crate) step: Vec<Step>,
    pub(crate) looks: Vec<velocitas_core::Look>,
    pub(crate) limits: Limits,
    pub(crate) hands: velocitas_core::Hands,
}

/// What is lawful.
#[derive(Clone, Debug)]
pub(crate) struct Limits {
    /// Along the ground, up, down.
    pub(crate) paces: [Node; 3],
    /// The pace that can be kept up, and the metres beyond it.
    pub(crate) burst: Option<[Node; 2]>,
    /// Those of [`LIMITS`], in its order.
    pub(crate) singles: [Option<Node>; LIMITS.len()],
    /// For some fields by how much they grow a second, at most.
    pub(crate) gains: Vec<(usize, Node)>,
    pub(crate) slack: f32,
}

impl Limits {
    /// All values in them.
    pub(crate) fn nodes(&self) -> impl Iterator<Item = &Node> {
        let once = self.burst.iter().flatten().chain(self.singles.iter().flatten());
        self.paces.iter().chain(once).chain(self.gains.iter().map(|(_, n)| n))
    }

    /// The same with every value made another.
    pub(crate) fn map(self, mut each: impl FnMut(Node) -> Node) -> Self {
        Self {
            paces: self.paces.map(&mut each),
            burst: self.burst.map(|b| b.map(&mut each)),
            singles: self.singles.map(|single| single.map(&mut each)),
            gains: self.gains.into_iter().map(|(field, node)| (field, each(node))).collect(),
            slack: self.slack,
        }
    }
}

/// Calls back with every value in these statements, outermost first.
pub(crate) fn values<'a>(steps: &'a [Step], each: &mut impl FnMut(&'a Node)) {
    for step in steps {
        match step {
            Step::Let { value, .. } | Step::Assign { value, .. } => each(value),
            Step::If { condition, then, otherwise } => {
                each(condition);
                values(then, each);
                values(otherwise, each);
            }
            Step::Repeat { body, .. } => values(body, each),
            Step::Slide { .. } => {}
        }
    }
}
