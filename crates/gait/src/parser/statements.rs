//! Statements: what a step is made of.

use super::{DEEPEST, Parser};
use crate::diagnostic::Diagnostic;
use crate::lexer::Kind;
use crate::syntax::Stmt;

impl Parser<'_> {
    pub(super) fn statements(&mut self) -> Vec<Stmt> {
        let mut out = Vec::new();
        while !matches!(self.peek().kind, Kind::Close | Kind::End) && !self.opens_section() {
            let (from, said) = (self.at, self.diagnostics.len());
            match self.statement() {
                Some(statement) => out.push(statement),
                None => {
                    if self.diagnostics.len() == said {
                        self.expected("a statement");
                    }
                    self.skip_line();
                }
            }
            if self.at == from {
                self.next();
            }
        }
        out
    }

    pub(super) fn block(&mut self) -> Option<Vec<Stmt>> {
        if !self.expect(Kind::Open, "`{`") {
            return None;
        }
        self.deeper(Self::statements).and_then(|body| self.expect(Kind::Close, "`}`").then_some(body))
    }

    /// Reads something one level down, or reports that there are too many levels.
    pub(super) fn deeper<T>(&mut self, read: impl FnOnce(&mut Self) -> T) -> Option<T> {
        if self.nested >= DEEPEST {
            let span = self.peek().span;
            let message = format!("expected at most {DEEPEST} levels of nesting; found more");
            self.report(Diagnostic::error("nesting", span, message).help("name a part with `let`"));
            return None;
        }
        self.nested += 1;
        let read = read(self);
        self.nested -= 1;
        Some(read)
    }

    pub(super) fn statement(&mut self) -> Option<Stmt> {
        let start = self.peek();
        if self.eat_word("let") {
            let name = self.name("a name after `let`")?;
            if !self.expect(Kind::Assign, "`=`") {
                return None;
            }
            return Some(Stmt::Let { name, value: self.expression() });
        }
        if self.eat_word("if") {
            return self.if_statement();
        }
        if self.eat_word("repeat") {
            let times = self.quantity()?;
            return Some(Stmt::Repeat { times, span: start.span.to(times.span), body: self.block()? });
        }
        if self.eat_word("slide") {
            let position = self.name("the point to move")?;
            self.expect(Kind::Comma, "`,` and the velocity");
            let velocity = self.name("the velocity")?;
            let span = start.span.to(velocity.span);
            return Some(Stmt::Slide { position, velocity, span });
        }
        let kick = self.eat_word("kick").then_some(start.span);
        if self.peek().kind != Kind::Name {
            self.expected("a statement: let, if, repeat, slide, kick, or a name to assign to");
            return None;
        }
        let target = self.postfix();
        let token = self.peek();
        if !self.eat(Kind::Assign) {
            let wrong = token.kind == Kind::Equal;
            self.expected(if wrong { "`=` to assign (`==` compares)" } else { "`=` and a value" });
            return None;
        }
        Some(Stmt::Assign { kick, target, value: self.expression() })
    }

    pub(super) fn if_statement(&mut self) -> Option<Stmt> {
        let condition = self.expression();
        if self.is_word(self.peek(), "then") {
            let span = self.peek().span;
            let message = "expected `{` after the condition of a statement; found `then`";
            let help = "`if … then … else …` is a value; a statement is `if … { … } else { … }`";
            self.report(Diagnostic::error("syntax", span, message).help(help));
            return None;
        }
        let then = self.block()?;
        let mut otherwise = Vec::new();
        if self.eat_word("else") {
            if self.eat_word("if") {
                otherwise.push(self.deeper(Self::if_statement)??);
            } else {
                otherwise = self.block()?;
            }
        }
        Some(Stmt::If { condition, then, otherwise })
    }
}
