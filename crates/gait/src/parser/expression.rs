//! Values: what binds to what, by precedence.

use super::{DEEPEST, KEYWORDS, Parser};
use crate::diagnostic::{Diagnostic, Span};
use crate::lexer::{Kind, Token};
use crate::syntax::{Expr, ExprKind, Op, Quantity, Word};
use crate::unit::Dimension;

impl Parser<'_> {
    pub(super) fn wrong(span: Span) -> Expr {
        Expr { kind: ExprKind::Wrong, span, depth: 0 }
    }

    /// Puts an expression together, unless it has become too deep.
    fn made(&mut self, kind: ExprKind, span: Span, parts: &[u16]) -> Expr {
        let depth = parts.iter().copied().max().unwrap_or(0) + 1;
        if depth > 4 * DEEPEST {
            let message = format!("expected an expression of at most {} parts in a row; found more", 4 * DEEPEST);
            self.report(Diagnostic::error("nesting", span, message).help("name a part with `let`"));
            return Self::wrong(span);
        }
        Expr { kind, span, depth }
    }

    pub(crate) fn expression(&mut self) -> Expr {
        let span = self.peek().span;
        match self.deeper(|p| p.binary(0)) {
            Some(expr) => expr,
            None => {
                self.next();
                Self::wrong(span)
            }
        }
    }

    pub(super) fn operator(&self) -> Option<(Op, u8)> {
        let token = self.peek();
        Some(match token.kind {
            Kind::Name if self.is_word(token, "or") => (Op::Or, 1),
            Kind::Name if self.is_word(token, "and") => (Op::And, 2),
            Kind::Less => (Op::Less, 3),
            Kind::LessEqual => (Op::LessEqual, 3),
            Kind::More => (Op::More, 3),
            Kind::MoreEqual => (Op::MoreEqual, 3),
            Kind::Equal => (Op::Equal, 3),
            Kind::NotEqual => (Op::NotEqual, 3),
            Kind::Plus => (Op::Add, 4),
            Kind::Minus => (Op::Sub, 4),
            Kind::Star => (Op::Mul, 5),
            Kind::Slash => (Op::Div, 5),
            _ => return None,
        })
    }

    fn binary(&mut self, least: u8) -> Expr {
        let mut left = self.unary();
        while let Some((op, strength)) = self.operator().filter(|(_, s)| *s > least) {
            let sign = self.next();
            let right = self.deeper(|p| p.binary(strength)).unwrap_or_else(|| Self::wrong(sign.span));
            if strength == 3 && self.operator().is_some_and(|(_, s)| s == 3) {
                let span = self.peek().span;
                let message = "expected one comparison; found another behind it";
                self.report(Diagnostic::error("syntax", span, message).help("join two with `and`"));
            }
            let (span, depths) = (left.span.to(right.span), [left.depth, right.depth]);
            left = self.made(ExprKind::Binary(op, Box::new(left), Box::new(right)), span, &depths);
        }
        left
    }

    fn unary(&mut self) -> Expr {
        let token = self.peek();
        let not = self.is_word(token, "not");
        if !not && token.kind != Kind::Minus {
            return self.postfix();
        }
        self.next();
        // `not` binds looser than comparison, minus tighter than everything.
        let inner = self.deeper(|p| if not { p.binary(2) } else { p.unary() });
        let inner = inner.unwrap_or_else(|| Self::wrong(token.span));
        let (span, depth) = (token.span.to(inner.span), inner.depth);
        let inner = Box::new(inner);
        self.made(if not { ExprKind::Not(inner) } else { ExprKind::Negative(inner) }, span, &[depth])
    }

    pub(super) fn postfix(&mut self) -> Expr {
        let mut expr = self.primary();
        while self.peek().kind == Kind::Dot {
            self.next();
            let Some(word) = self.any_word("a component: x, y, z or xy") else { return Self::wrong(expr.span) };
            let (span, depth) = (expr.span.to(word.span), expr.depth);
            expr = self.made(ExprKind::Component(Box::new(expr), word), span, &[depth]);
        }
        expr
    }

    fn primary(&mut self) -> Expr {
        let token = self.peek();
        match token.kind {
            Kind::Number(_) => match self.expression_quantity() {
                Some(q) => Expr { kind: ExprKind::Quantity(q), span: q.span, depth: 1 },
                None => Self::wrong(token.span),
            },
            Kind::ParenOpen => {
                self.next();
                let inner = self.expression();
                self.expect(Kind::ParenClose, "`)`");
                inner
            }
            Kind::Name => self.named(token),
            _ => {
                self.expected("a value");
                Self::wrong(token.span)
            }
        }
    }

    /// A number in an expression: `1/256` is a division there, which comes to the same.
    fn expression_quantity(&mut self) -> Option<Quantity> {
        let token = self.next();
        let Kind::Number(value) = token.kind else { return None };
        let unit = self.unit_of_number();
        let (stray, unclear) = if unit.is_none() { self.stray_unit() } else { (None, false) };
        let unit = unit.or(stray);
        let (dimension, factor, span) = unit.unwrap_or((Dimension::NONE, 1.0, token.span));
        let span = token.span.to(span);
        Some(Quantity { value: value * factor, dimension, span, has_unit: unit.is_some(), unclear })
    }

    fn named(&mut self, token: Token) -> Expr {
        let word = self.word_of(token);
        match word {
            "true" | "false" => {
                self.next();
                Expr { kind: ExprKind::Truth(word == "true"), span: token.span, depth: 1 }
            }
            "if" => {
                self.next();
                self.if_value(token)
            }
            _ if KEYWORDS.contains(&word) => {
                self.expected("a value");
                Self::wrong(token.span)
            }
            _ => {
                self.next();
                if self.peek().kind != Kind::ParenOpen || self.peek().first {
                    return Expr { kind: ExprKind::Name(word.to_owned()), span: token.span, depth: 1 };
                }
                self.call(Word { text: word.to_owned(), span: token.span })
            }
        }
    }

    fn if_value(&mut self, token: Token) -> Expr {
        let condition = self.expression();
        if !self.eat_word("then") {
            self.expected("`then` and a value");
            return Self::wrong(token.span);
        }
        let then = self.expression();
        if !self.eat_word("else") {
            self.expected("`else` and a value: an `if` that is a value needs both");
            return Self::wrong(token.span);
        }
        let otherwise = self.expression();
        let span = token.span.to(otherwise.span);
        let depths = [condition.depth, then.depth, otherwise.depth];
        self.made(ExprKind::If(Box::new(condition), Box::new(then), Box::new(otherwise)), span, &depths)
    }

    fn call(&mut self, name: Word) -> Expr {
        self.next();
        let mut arguments = Vec::new();
        while self.peek().kind != Kind::ParenClose {
            arguments.push(self.expression());
            if !self.eat(Kind::Comma) {
                break;
            }
        }
        let end = self.peek();
        self.expect(Kind::ParenClose, "`)` or `,`");
        let depths: Vec<u16> = arguments.iter().map(|a| a.depth).collect();
        let span = name.span.to(end.span);
        self.made(ExprKind::Call(name, arguments), span, &depths)
    }
}
