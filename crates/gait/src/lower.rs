//! From the tree to the flat program.
//!
//! Statements under a condition are carried out for both outcomes and chosen between: a register keeps its old value
//! where the condition is false. What asks the ground is skipped then.

mod call;

use std::collections::BTreeMap;

use velocitas_core::{InputKind, Shape};

use crate::builtin::Builtin;
use crate::diagnostic::{Diagnostic, Span};
use crate::program::{Block, Code, LaneKind, LaneMap, MOST_WORK, Op, Program, REGISTERS};
use crate::syntax;
use crate::tree::{Node, NodeKind, Step, Tree, Var, values};
use crate::types::Type;

/// Lanes of fields and inputs, in the order of the tree.
pub(crate) struct Lanes<'a> {
    pub(crate) state: &'a [usize],
    pub(crate) input: &'a [usize],
}

/// No room for the program.
struct TooLarge;

type Result<T> = std::result::Result<T, TooLarge>;

struct Lower<'a> {
    tree: &'a Tree,
    ops: Vec<Op>,
    initial: Vec<f32>,
    constants: BTreeMap<u32, u8>,
    inputs: Vec<u8>,
    state: Vec<u8>,
    tunes: u8,
    lets: Vec<Option<u8>>,
    dt: u8,
    surface: Option<(u8, u8)>,
    contact: Option<u8>,
    begin: Option<(usize, u8)>,
    /// First register not in use; how many were ever in use is the length of `initial`.
    free: usize,
    /// The condition under which statements count.
    condition: Option<u8>,
}

/// Compiles the step.
///
/// # Errors
/// When it needs more registers or more work than there may be.
pub(crate) fn program(tree: &Tree, lanes: &Lanes<'_>) -> std::result::Result<Program, Diagnostic> {
    compile(tree, lanes, None).map_err(|TooLarge| {
        let message = format!("expected a step of at most {REGISTERS} values and {MOST_WORK} operations; found more");
        Diagnostic::error("size", Span::default(), message).help("shorten it, or repeat fewer times")
    })
}

/// Compiles one value made of tunables and constants; it ends up in the last register returned.
pub(crate) fn limit(tree: &Tree, value: &Node) -> std::result::Result<(Program, u8), Diagnostic> {
    let lanes = Lanes { state: &[], input: &[] };
    let too_large = |TooLarge| Diagnostic::error("size", value.span, "expected a shorter limit");
    let program = compile(tree, &lanes, Some(value)).map_err(too_large)?;
    let at = program.begin.map_or(0, |(register, _)| register);
    Ok((program, at))
}

fn compile(tree: &Tree, lanes: &Lanes<'_>, only: Option<&Node>) -> Result<Program> {
    let mut l = Lower {
        tree,
        ops: Vec::new(),
        initial: Vec::new(),
        constants: BTreeMap::new(),
        inputs: Vec::new(),
        state: Vec::new(),
        tunes: 0,
        lets: vec![None; tree.lets.len()],
        dt: 0,
        surface: None,
        contact: None,
        begin: None,
        free: 0,
        condition: None,
    };
    l.tunes = l.take(tree.tunes.len())?;
    l.dt = l.take(1)?;
    let mut collect = Vec::new();
    match only {
        Some(value) => value.walk(&mut |n| collect.push(n.clone())),
        None => values(&tree.step, &mut |v| v.walk(&mut |n| collect.push(n.clone()))),
    }
    l.constants(&collect)?;
    if let Some(value) = only {
        let at = l.take(1)?;
        l.value(value, at)?;
        return l.finish(lanes, Some((at, at)));
    }
    let end = |lanes: &[usize], widths: Vec<usize>| lanes.iter().zip(widths).map(|(l, w)| l + w).max().unwrap_or(0);
    let width = end(lanes.input, tree.inputs.iter().map(|i| i.kind.lanes()).collect());
    let first = l.take(width)?;
    l.inputs = lanes.input.iter().map(|lane| first + *lane as u8).collect();
    let width = end(lanes.state, tree.state.iter().map(|f| f.shape.lanes()).collect());
    let first = l.take(width)?;
    l.state = lanes.state.iter().map(|lane| first + *lane as u8).collect();
    let uses = |var: Var| collect.iter().any(|n| n.kind == NodeKind::Read(var));
    if uses(Var::Grip) || uses(Var::Pace) {
        let (grip, pace) = (l.take(1)?, l.take(1)?);
        l.surface = Some((grip, pace));
        l.op(Code::Surface, grip, l.state[0], pace, 0);
    }
    if let Some(velocity) = slid(&tree.step) {
        let begin = l.take(3)?;
        l.begin = Some((velocity, begin));
        let contact = l.take(3)?;
        l.contact = Some(contact);
    } else if uses(Var::Contact) {
        let contact = l.take(3)?;
        l.contact = Some(contact);
    }
    l.steps(&tree.step)?;
    let begin = l.begin.map(|(velocity, begin)| (l.state[velocity], begin));
    l.finish(lanes, begin)
}

/// The velocity that slides, if any does.
fn slid(steps: &[Step]) -> Option<usize> {
    steps.iter().find_map(|s| match s {
        Step::Slide { velocity, .. } => Some(*velocity),
        Step::If { then, otherwise, .. } => slid(then).or_else(|| slid(otherwise)),
        Step::Repeat { body, .. } => slid(body),
        _ => None,
    })
}

/// Operations run, repeats counted.
fn work(ops: &[Op]) -> u32 {
    let (mut total, mut at) = (0u32, 0);
    while let Some(op) = ops.get(at) {
        at += 1;
        total = total.saturating_add(1);
        if op.code == Code::Repeat {
            let len = usize::from(op.a) + 256 * usize::from(op.b);
            let body = work(&ops[at..at + len]);
            total = total.saturating_add(body.saturating_mul(u32::from(op.c)));
            at += len;
        }
    }
    total
}

impl Lower<'_> {
    fn finish(self, lanes: &Lanes<'_>, begin: Option<(u8, u8)>) -> Result<Program> {
        let work = work(&self.ops);
        if work > MOST_WORK {
            return Err(TooLarge);
        }
        let mut inputs = Vec::new();
        for ((info, register), lane) in self.tree.inputs.iter().zip(&self.inputs).zip(lanes.input) {
            let kind = match info.kind {
                InputKind::Stick { .. } | InputKind::Axis { .. } => LaneKind::Unit,
                InputKind::Held | InputKind::Press => LaneKind::Flag,
                InputKind::Bearing { .. } | InputKind::Pitch { .. } | InputKind::Point { .. } => LaneKind::Real,
            };
            let reals = if kind == LaneKind::Flag { 1 } else { info.kind.real_lanes() };
            maps(&mut inputs, *lane, *register, reals, kind);
            if reals < info.kind.lanes() {
                // Whether a point is given.
                maps(&mut inputs, lane + reals, register + reals as u8, 1, LaneKind::Flag);
            }
        }
        let mut state = Vec::new();
        for ((info, register), lane) in self.tree.state.iter().zip(&self.state).zip(lanes.state) {
            let kind = match info.shape {
                Shape::Flag => LaneKind::Flag,
                Shape::Counter => LaneKind::Counter,
                _ => LaneKind::Real,
            };
            maps(&mut state, *lane, *register, info.shape.lanes(), kind);
        }
        let (inputs, state) = (block(inputs), block(state));
        let (tunes, dt, contact) = (self.tunes, self.dt, self.contact);
        Ok(Program { initial: self.initial, ops: self.ops, inputs, state, tunes, dt, begin, contact, work })
    }

    /// Registers in a row.
    fn take(&mut self, n: usize) -> Result<u8> {
        let at = self.free;
        self.free += n;
        if self.free > REGISTERS || at > 255 {
            return Err(TooLarge);
        }
        if self.free > self.initial.len() {
            self.initial.resize(self.free, 0.0);
        }
        Ok(at as u8)
    }

    /// Puts every constant into a register of its own, before anything else uses the place.
    fn constants(&mut self, nodes: &[Node]) -> Result<()> {
        self.constant(1.0)?;
        for node in nodes {
            match &node.kind {
                NodeKind::Const(x) => {
                    self.constant(*x)?;
                }
                NodeKind::Call(Builtin::Unit, _) => {
                    self.constant(0.0)?;
                }
                _ => {}
            }
        }
        let mut counts = Vec::new();
        repeats(&self.tree.step, &mut counts);
        for n in counts {
            self.constant(n as f32)?;
        }
        Ok(())
    }

    fn constant(&mut self, x: f32) -> Result<u8> {
        if let Some(known) = self.constants.get(&x.to_bits()) {
            return Ok(*known);
        }
        let at = self.take(1)?;
        self.initial[usize::from(at)] = x;
        self.constants.insert(x.to_bits(), at);
        Ok(at)
    }

    fn op(&mut self, code: Code, to: u8, a: u8, b: u8, c: u8) {
        self.ops.push(Op { code, to, a, b, c });
    }

    fn steps(&mut self, steps: &[Step]) -> Result<()> {
        let free = self.free;
        steps.iter().try_for_each(|s| self.step(s))?;
        self.free = free;
        Ok(())
    }

    fn step(&mut self, step: &Step) -> Result<()> {
        if self.ops.len() > MOST_WORK as usize {
            return Err(TooLarge);
        }
        match step {
            Step::Let { id, value } => {
                let at = self.take(value.ty.width())?;
                let free = self.free;
                self.value(value, at)?;
                self.free = free;
                self.lets[*id] = Some(at);
            }
            Step::Assign { field, from, value, kick, .. } => self.assign(*field, *from, value, *kick)?,
            Step::If { condition, then, otherwise } => {
                let free = self.free;
                let before = self.condition;
                let at = self.take(1)?;
                self.value(condition, at)?;
                let not = self.take(1)?;
                if !otherwise.is_empty() {
                    self.op(Code::Not, not, at, 0, 0);
                }
                for (outcome, body) in [(at, then), (not, otherwise)].into_iter().filter(|(_, b)| !b.is_empty()) {
                    if let Some(before) = before {
                        self.op(Code::And, outcome, outcome, before, 0);
                    }
                    self.condition = Some(outcome);
                    self.steps(body)?;
                }
                self.condition = before;
                self.free = free;
            }
            Step::Repeat { times, body } => self.repeat(*times, body)?,
            Step::Slide { position, velocity } => {
                let always = self.constant(1.0)?;
                let (at, v) = (self.state[*position], self.state[*velocity]);
                let begin = self.begin.map_or(v, |(_, b)| b);
                let contact = self.contact.unwrap_or(0);
                let grounded = self.tree.state.iter().position(|f| f.name == "grounded").unwrap_or(0);
                self.op(Code::Slide, at, v, begin, self.condition.unwrap_or(always));
                self.op(Code::More, self.state[grounded], self.dt, contact, 0);
            }
        }
        Ok(())
    }

    /// Steps that are made several times, each for its share of the tick.
    fn repeat(&mut self, times: u32, body: &[Step]) -> Result<()> {
        let free = self.free;
        let (dt, count) = (self.dt, self.constant(times as f32)?);
        let part = self.take(1)?;
        self.op(Code::Div, part, dt, count, 0);
        let at = self.ops.len();
        self.op(Code::Repeat, 0, 0, 0, times as u8);
        self.dt = part;
        self.steps(body)?;
        self.dt = dt;
        let len = self.ops.len() - at - 1;
        if len > 0xffff {
            return Err(TooLarge);
        }
        self.ops[at].a = len as u8;
        self.ops[at].b = (len >> 8) as u8;
        self.free = free;
        Ok(())
    }

    fn assign(&mut self, field: usize, from: u8, value: &Node, kick: bool) -> Result<()> {
        let free = self.free;
        let to = self.state[field] + from;
        let width = value.ty.width();
        // One operation reads everything before it writes; several must not read what the first has written.
        let one = width == 1
            || matches!(&value.kind, NodeKind::Call(b, _) if !matches!(b, Builtin::Vec | Builtin::Decay | Builtin::Mix));
        let direct = self.condition.is_none() && (one || !value.reads(Var::State(field)));
        let result = if direct {
            self.value(value, to)?;
            to
        } else {
            let result = self.operand(value)?;
            for i in 0..width as u8 {
                match self.condition {
                    None => self.op(Code::Move, to + i, result + i, 0, 0),
                    Some(c) => self.op(Code::Select, to + i, result + i, to + i, c),
                }
            }
            result
        };
        if let (true, Some((_, begin))) = (kick, self.begin.filter(|(velocity, _)| *velocity == field)) {
            for i in 0..width as u8 {
                let to = begin + from + i;
                match self.condition {
                    None => self.op(Code::Move, to, result + i, 0, 0),
                    Some(c) => self.op(Code::Select, to, result + i, to, c),
                }
            }
        }
        self.free = free;
        Ok(())
    }

    /// Where a value is, without copying what has a register already.
    fn operand(&mut self, node: &Node) -> Result<u8> {
        match &node.kind {
            NodeKind::Const(x) => self.constant(*x),
            NodeKind::Read(var) => Ok(self.register(*var)),
            NodeKind::Component(of, from) => Ok(self.operand(of)? + from),
            _ => {
                let at = self.take(node.ty.width())?;
                let free = self.free;
                self.value(node, at)?;
                self.free = free;
                Ok(at)
            }
        }
    }

    fn register(&self, var: Var) -> u8 {
        match var {
            Var::State(i) => self.state[i],
            Var::Input(i) => self.inputs[i],
            Var::Tune(i) => self.tunes + i as u8,
            Var::Let(i) => self.lets[i].unwrap_or(0),
            Var::Dt => self.dt,
            Var::Grip => self.surface.map_or(0, |s| s.0),
            Var::Pace => self.surface.map_or(0, |s| s.1),
            Var::Contact => self.contact.unwrap_or(0),
        }
    }

    /// Calculates a value into registers from `to` on.
    fn value(&mut self, node: &Node, to: u8) -> Result<()> {
        if self.ops.len() > MOST_WORK as usize {
            return Err(TooLarge);
        }
        let free = self.free;
        let width = node.ty.width() as u8;
        match &node.kind {
            NodeKind::Wrong => {}
            NodeKind::Const(_) | NodeKind::Read(_) | NodeKind::Component(..) => {
                let from = self.operand(node)?;
                for i in 0..width {
                    self.op(Code::Move, to + i, from + i, 0, 0);
                }
            }
            NodeKind::Negative(a) => {
                let a = self.operand(a)?;
                for i in 0..width {
                    self.op(Code::Negate, to + i, a + i, 0, 0);
                }
            }
            NodeKind::Not(a) => {
                let a = self.operand(a)?;
                self.op(Code::Not, to, a, 0, 0);
            }
            NodeKind::Binary(op, a, b) => self.binary(*op, a, b, to, node.ty)?,
            NodeKind::If(c, a, b) => {
                let c = self.operand(c)?;
                let (a, b) = (self.operand(a)?, self.operand(b)?);
                for i in 0..width {
                    self.op(Code::Select, to + i, a + i, b + i, c);
                }
            }
            NodeKind::Call(builtin, arguments) => self.call(*builtin, arguments, to)?,
        }
        self.free = free;
        Ok(())
    }

    fn binary(&mut self, op: syntax::Op, a: &Node, b: &Node, to: u8, ty: Type) -> Result<()> {
        use syntax::Op as S;
        let (wide_a, wide_b) = (a.ty.width() > 1, b.ty.width() > 1);
        let bearing = a.ty == Type::Bearing || b.ty == Type::Bearing;
        let (a, b) = (self.operand(a)?, self.operand(b)?);
        let (code, a, b) = match op {
            S::Add => (Code::Add, a, b),
            S::Sub => (Code::Sub, a, b),
            S::Mul => (Code::Mul, a, b),
            S::Div => (Code::Div, a, b),
            S::Less => (Code::Less, a, b),
            S::LessEqual => (Code::LessEqual, a, b),
            S::More => (Code::Less, b, a),
            S::MoreEqual => (Code::LessEqual, b, a),
            S::Equal => (Code::Equal, a, b),
            S::NotEqual => (Code::NotEqual, a, b),
            S::And => (Code::And, a, b),
            S::Or => (Code::Or, a, b),
        };
        for i in 0..ty.width() as u8 {
            let a = if wide_a { a + i } else { a };
            let b = if wide_b { b + i } else { b };
            self.op(code, to + i, a, b, 0);
        }
        // Sums and differences of bearings stay within half a turn.
        if bearing && matches!(op, S::Add | S::Sub) {
            self.op(Code::Wrap, to, to, 0, 0);
        }
        Ok(())
    }
}

/// Notes lanes; those that go on where the last ones end become one with them.
fn maps(out: &mut Vec<LaneMap>, lane: usize, register: u8, width: usize, kind: LaneKind) {
    let (lane, len) = (lane as u8, width as u8);
    match out.last_mut() {
        Some(last) if last.kind == kind && last.lane + last.len == lane && last.register + last.len == register => {
            last.len += len;
        }
        _ => out.push(LaneMap { lane, register, len, kind }),
    }
}

fn block(maps: Vec<LaneMap>) -> Block {
    let Some(first) = maps.first().map(|m| m.register - m.lane) else { return Block::default() };
    let width = maps.iter().map(|m| usize::from(m.lane + m.len)).max().unwrap_or(0);
    let used = |lane: u8| maps.iter().any(|m| (m.lane..m.lane + m.len).contains(&lane));
    let holes = (0..width as u8).filter(|lane| !used(*lane)).collect();
    let alone = |m: &LaneMap| {
        let m = *m;
        (0..m.len).map(move |i| LaneMap { lane: m.lane + i, register: m.register + i, len: 1, kind: m.kind })
    };
    let special = maps.iter().filter(|m| m.kind != LaneKind::Real).flat_map(alone).collect();
    Block { first, width, maps, special, holes }
}

fn repeats(steps: &[Step], out: &mut Vec<u32>) {
    for step in steps {
        match step {
            Step::Repeat { times, body } => {
                out.push(*times);
                repeats(body, out);
            }
            Step::If { then, otherwise, .. } => {
                repeats(then, out);
                repeats(otherwise, out);
            }
            _ => {}
        }
    }
}
