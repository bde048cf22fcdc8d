//! Numbers with their units.

use super::Parser;
use super::{ATTRIBUTES, KEYWORDS};
use crate::diagnostic::{Diagnostic, Span};
use crate::lexer::Kind;
use crate::syntax::Quantity;
use crate::unit::{Dimension, Unit, unit_meant, unit_named};

impl Parser<'_> {
    /// The unit that follows on the same line, if any.
    pub(super) fn unit_here(&mut self) -> Option<(Dimension, f64, Span)> {
        let start = self.peek();
        if start.first {
            return None;
        }
        if start.kind == Kind::Percent {
            self.next();
            return Some((Dimension::NONE, 0.01, start.span));
        }
        // A leading 1 stands for "per": 1/s.
        let mut unit = Unit::NONE;
        let mut span = start.span;
        if start.kind == Kind::Number(1.0) {
            let divided = self.ahead(1).kind == Kind::Slash && self.unit_token(2).is_some();
            self.next();
            if !divided {
                return Some((Dimension::NONE, 1.0, span));
            }
        } else {
            let first = self.unit_token(0)?;
            self.next();
            unit = unit.times(self.raised(first));
        }
        loop {
            let token = self.peek();
            let per = token.kind == Kind::Slash;
            let skip = usize::from(per || token.kind == Kind::Star);
            if token.first || self.ahead(skip).first {
                break;
            }
            // Side by side units multiply; a sign must be followed by a unit on the same line to belong here.
            let Some(found) = self.unit_token(skip) else { break };
            self.at += skip;
            let end = self.next();
            let raised = self.raised(found);
            unit = unit.times(if per { raised.power(-1) } else { raised });
            span = span.to(end.span);
        }
        Some((unit.dimension, unit.factor, span))
    }

    /// The unit behind a number. A plain 1 is none there: two numbers in a row are a mistake.
    pub(super) fn unit_of_number(&mut self) -> Option<(Dimension, f64, Span)> {
        let per = self.ahead(1).kind == Kind::Slash && self.unit_token(2).is_some();
        if matches!(self.peek().kind, Kind::Number(_)) && !per { None } else { self.unit_here() }
    }

    pub(super) fn unit_token(&self, n: usize) -> Option<Unit> {
        let token = self.ahead(n);
        if token.kind == Kind::Name { unit_named(self.word_of(token)) } else { None }
    }

    /// The unit with the power that follows.
    pub(super) fn raised(&mut self, unit: Unit) -> Unit {
        if self.peek().kind != Kind::Caret {
            return unit;
        }
        let minus = usize::from(self.ahead(1).kind == Kind::Minus);
        if let Kind::Number(n) = self.ahead(1 + minus).kind
            && n.fract() == 0.0
            && (1.0..=9.0).contains(&n)
        {
            self.at += 2 + minus;
            return unit.power(if minus > 0 { -(n as i8) } else { n as i8 });
        }
        self.next();
        self.expected("a whole power from 1 to 9");
        unit
    }

    /// A number with its unit: `4.2 m/s`, `1/256`, `4 %`.
    pub(crate) fn quantity(&mut self) -> Option<Quantity> {
        let start = self.peek();
        let negative = self.eat(Kind::Minus);
        let token = self.peek();
        let Kind::Number(mut value) = token.kind else {
            self.expected("a number");
            return None;
        };
        self.next();
        let mut span = start.span.to(token.span);
        if self.peek().kind == Kind::Slash
            && let Kind::Number(under) = self.ahead(1).kind
        {
            self.next();
            let under_token = self.next();
            if under == 0.0 {
                self.report(Diagnostic::error("number", under_token.span, "expected a divisor other than 0"));
                return None;
            }
            value /= under;
            span = span.to(under_token.span);
        }
        let unit = self.unit_of_number();
        let (stray, unclear) = if unit.is_none() { self.stray_unit() } else { (None, false) };
        let unit = unit.or(stray);
        let (dimension, factor, unit_span) = unit.unwrap_or((Dimension::NONE, 1.0, span));
        let value = if negative { -value } else { value } * factor;
        Some(Quantity { value, dimension, span: span.to(unit_span), has_unit: unit.is_some(), unclear })
    }

    /// A name right behind a number that is no unit but was meant as one: which, if that can be told, and otherwise that
    /// nothing can be said about the number's unit.
    pub(super) fn stray_unit(&mut self) -> (Option<(Dimension, f64, Span)>, bool) {
        let token = self.peek();
        if token.kind != Kind::Name || token.first {
            return (None, false);
        }
        let word = self.word_of(token);
        let known = KEYWORDS.contains(&word)
            || ATTRIBUTES.contains(&word)
            || ["from", "to", "slack", "height", "step", "at"].contains(&word);
        let look =
            matches!(self.ahead(1).kind, Kind::Name) && ["below", "above"].contains(&self.word_of(self.ahead(1)));
        // In an expression a name may follow on the same line where a statement ends.
        if known
            || look
            || matches!(self.ahead(1).kind, Kind::Assign | Kind::Dot)
            || word == "&&"
            || word == "||"
            || word == "!"
        {
            return (None, false);
        }
        let message = format!("expected a unit after the number; found `{word}`");
        let (help, unit) = unit_meant(word);
        self.report(Diagnostic::error("unit", token.span, message).maybe_help(help));
        self.next();
        (unit.map(|u| (u.dimension, u.factor, token.span)), unit.is_none())
    }
}
