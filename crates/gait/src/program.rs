//! A rule as a flat list of operations on numbered registers.
//!
//! There are no jumps: a condition chooses between two finished values, and a `repeat` runs the operations behind it a
//! constant number of times. What a program does in a step is therefore bounded by [`Program::work`], whatever its
//! inputs. Truths are 1 and 0.

/// The most registers a program may use.
pub(crate) const REGISTERS: usize = 256;
/// The most operations a step may take, sub-steps counted.
pub(crate) const MOST_WORK: u32 = 16_384;

/// What an operation does. `to`, `a`, `b`, `c` are registers; `2` and `3` take as many from there on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Code {
    Move,
    Add,
    Sub,
    Mul,
    Div,
    Negate,
    Not,
    And,
    Or,
    Less,
    LessEqual,
    Equal,
    NotEqual,
    /// `to` = `a` if `c` is true, else `b`.
    Select,
    Min,
    Max,
    Clamp,
    Abs,
    Sign,
    Sin,
    Cos,
    Atan2,
    Sqrt,
    Wrap,
    /// `to` = e^(−`a` `b`).
    Fade,
    /// `a` to `b` by `c`.
    Mix,
    MixAngle,
    /// `a` towards `b` by `c`.
    Toward,
    TowardAngle,
    Toward2,
    Toward3,
    Dot2,
    Dot3,
    Cross2,
    Cross3,
    Unit2,
    Unit3,
    Shorten2,
    Shorten3,
    /// Stick `a` by bearing `b`.
    TurnStick,
    /// Level vector `a` by angle `b`.
    Turn2,
    Heading,
    /// Grip into `to` and pace into `b` of what is under point `a`.
    Surface,
    /// How far the body at `c` can go along the vector `a`, at most `b`; the next operation's `c` says whether at all.
    Ahead,
    /// Point `to`, velocity `a`, velocity at the beginning `b`, condition `c`; the next operation has flag `to`, tick
    /// length `a` and contact normal `b`.
    Slide,
    /// More operands of the operation before.
    More,
    /// The next `a` + 256 `b` operations, `c` times.
    Repeat,
}

/// One operation. Eight bytes, so that the next one is found without multiplying.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(align(8))]
pub(crate) struct Op {
    pub(crate) code: Code,
    pub(crate) to: u8,
    pub(crate) a: u8,
    pub(crate) b: u8,
    pub(crate) c: u8,
}

/// What a lane holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LaneKind {
    Real,
    Flag,
    Counter,
    /// A component of a stick or an axis: within −1..1.
    Unit,
}

/// Lanes in a row and the registers they are read into or kept from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct LaneMap {
    pub(crate) lane: u8,
    pub(crate) register: u8,
    pub(crate) len: u8,
    pub(crate) kind: LaneKind,
}

/// The lanes of an input or a state: lane i is in register `first` + i.
#[derive(Clone, Debug, Default)]
pub(crate) struct Block {
    pub(crate) first: u8,
    /// Lanes up to the last one in use.
    pub(crate) width: usize,
    /// What they hold.
    pub(crate) maps: Vec<LaneMap>,
    /// Those that are no plain reals, one by one.
    pub(crate) special: Vec<LaneMap>,
    /// Lanes within the width that nothing uses: what a rule before this one left there is dropped.
    pub(crate) holes: Vec<u8>,
}

/// A compiled rule.
#[derive(Clone, Debug)]
pub(crate) struct Program {
    /// Registers as they are before a step: constants in place.
    pub(crate) initial: Vec<f32>,
    pub(crate) ops: Vec<Op>,
    pub(crate) inputs: Block,
    pub(crate) state: Block,
    /// First register of the tunables.
    pub(crate) tunes: u8,
    pub(crate) dt: u8,
    /// Velocity of the field that slides and the registers that keep it as the tick begins.
    pub(crate) begin: Option<(u8, u8)>,
    /// First register of the contact normal: zero as every step begins.
    pub(crate) contact: Option<u8>,
    pub(crate) work: u32,
}
