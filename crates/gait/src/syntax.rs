//! The tree that the parser makes: what was written, not yet what it means.

use crate::diagnostic::Span;
use crate::unit::Dimension;

/// A word with its place.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Word {
    pub(crate) text: String,
    pub(crate) span: Span,
}

/// A number with its unit, in SI base units.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Quantity {
    pub(crate) value: f64,
    pub(crate) dimension: Dimension,
    pub(crate) span: Span,
    /// Whether a unit was written.
    pub(crate) has_unit: bool,
    /// The unit could not be read; reported already.
    pub(crate) unclear: bool,
}

/// A word and what follows it: `bits 7`, `agree 2 cm`, `owned`.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Attribute {
    pub(crate) name: Word,
    pub(crate) value: AttributeValue,
}

/// What follows an attribute's name.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum AttributeValue {
    Nothing,
    Quantity(Quantity),
    Word(Word),
    /// Texts in quotes, without these.
    Texts(Vec<Word>),
}

/// A line of `input` or `state`.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Field {
    pub(crate) name: Word,
    pub(crate) kind: Word,
    /// The unit after the kind.
    pub(crate) unit: Option<(Dimension, f64, Span)>,
    pub(crate) attributes: Vec<Attribute>,
}

/// A line of `tune`.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Tune {
    pub(crate) name: Word,
    pub(crate) value: Quantity,
    /// `from … to …`.
    pub(crate) range: Option<(Quantity, Quantity)>,
}

/// An item of `looks`.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Look {
    pub(crate) name: Word,
    pub(crate) below: Option<Quantity>,
}

/// A line of `limits`.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Limit {
    pub(crate) name: Word,
    pub(crate) target: Expr,
    /// Whether it is the least that is given, not the most.
    pub(crate) least: Option<Span>,
    pub(crate) most: Expr,
    pub(crate) burst: Option<Expr>,
    pub(crate) slack: Option<Quantity>,
}

/// A line of `hands`.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Habit {
    pub(crate) name: Word,
    pub(crate) input: Word,
    pub(crate) what: HabitOf,
}

/// What is said of an input.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum HabitOf {
    /// How fast it turns at most.
    Turn(Quantity),
    /// What is never given together with it.
    Apart(Word),
}

/// A whole file.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct File {
    pub(crate) name: Option<Word>,
    pub(crate) inputs: Vec<Field>,
    pub(crate) state: Vec<Field>,
    pub(crate) tune: Vec<Tune>,
    pub(crate) body: Vec<(Word, Quantity)>,
    pub(crate) step: Vec<Stmt>,
    pub(crate) looks: Vec<Look>,
    pub(crate) limits: Vec<Limit>,
    pub(crate) hands: Vec<Habit>,
    /// Whether the word `slide` stands anywhere, well written or not.
    pub(crate) slides: bool,
    /// The words that opened sections.
    pub(crate) sections: Vec<Word>,
}

/// What to do.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Stmt {
    Let { name: Word, value: Expr },
    Assign { kick: Option<Span>, target: Expr, value: Expr },
    If { condition: Expr, then: Vec<Self>, otherwise: Vec<Self> },
    Repeat { times: Quantity, body: Vec<Self>, span: Span },
    Slide { position: Word, velocity: Word, span: Span },
}

/// Two-sided operators.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Op {
    Add,
    Sub,
    Mul,
    Div,
    Less,
    LessEqual,
    More,
    MoreEqual,
    Equal,
    NotEqual,
    And,
    Or,
}

impl Op {
    /// As written.
    pub(crate) const fn sign(self) -> &'static str {
        match self {
            Self::Add => "+",
            Self::Sub => "-",
            Self::Mul => "*",
            Self::Div => "/",
            Self::Less => "<",
            Self::LessEqual => "<=",
            Self::More => ">",
            Self::MoreEqual => ">=",
            Self::Equal => "==",
            Self::NotEqual => "!=",
            Self::And => "and",
            Self::Or => "or",
        }
    }
}

/// What to calculate.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Expr {
    pub(crate) kind: ExprKind,
    pub(crate) span: Span,
    /// Levels below this one; bounded by the parser, so that walking a tree never runs out of stack.
    pub(crate) depth: u16,
}

/// The kinds of [`Expr`].
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum ExprKind {
    /// What could not be read; reported already.
    Wrong,
    Quantity(Quantity),
    Truth(bool),
    Name(String),
    Component(Box<Expr>, Word),
    Negative(Box<Expr>),
    Not(Box<Expr>),
    Binary(Op, Box<Expr>, Box<Expr>),
    If(Box<Expr>, Box<Expr>, Box<Expr>),
    Call(Word, Vec<Expr>),
}
