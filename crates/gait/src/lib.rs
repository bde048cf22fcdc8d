//! The movement language: a rule written in a text file becomes a [`Motion`](velocitas_core::Motion).
//!
//! [`compile`] reads a text and gives a [`Gait`] or [`Diagnostic`]s, never a panic. The way from one to the other, a
//! module each: lexer, parser (which goes on after mistakes), resolver (names, types, dimensions), lints and the trust
//! check, folding of constants, lowering to a flat program, and the machine that runs it.
//!
//! What is not here: networking, files, anything that differs from machine to machine. `docs/gait.md` is the reference.

mod arithmetic;
mod builtin;
mod diagnostic;
mod fold;
#[doc(hidden)]
pub mod fuzz;
mod gait;
mod grammar;
mod highlight;
mod interval;
pub mod keys;
mod lane;
mod lexer;
mod limit_kinds;
mod limits;
mod lint;
mod lower;
mod machine;
mod parser;
mod program;
mod quantity;
mod resolve;
mod slack;
mod syntax;
mod tree;
mod trust;
mod types;
mod unit;

#[cfg(test)]
mod oracle;
#[cfg(test)]
mod tests;

pub use builtin::{BUILTINS, BuiltinSpec};
pub use diagnostic::{Diagnostic, Excerpt, Report, Row, Severity, SourcePosition, Span, escaped, printable};
pub use gait::{Compiled, Gait, compile, compile_after};
pub use grammar::grammar;
pub use highlight::{Class, classes};
pub use quantity::read_quantity;
pub use slack::with_slack;
pub use unit::{Dimension, UNITS, Unit};
