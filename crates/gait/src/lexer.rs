//! From characters to tokens.
//!
//! Lines do not matter except for units: a unit stands on the line of its number. What is no token at all is reported
//! and left out, so that the rest is still read.

use crate::diagnostic::{Diagnostic, Span};

/// The longest text read, in bytes: far more than a rule can use.
pub(crate) const MOST_BYTES: usize = 256 * 1024;

/// What a token is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Kind {
    Name,
    Number(f64),
    Text,
    Open,
    Close,
    ParenOpen,
    ParenClose,
    Comma,
    Dot,
    Assign,
    Plus,
    Minus,
    Star,
    Slash,
    Caret,
    Percent,
    Less,
    LessEqual,
    More,
    MoreEqual,
    Equal,
    NotEqual,
    End,
}

/// A piece of text that means something.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Token {
    pub(crate) kind: Kind,
    pub(crate) span: Span,
    /// Whether it is the first of its line.
    pub(crate) first: bool,
}

struct Lexer<'a> {
    text: &'a str,
    at: usize,
    first: bool,
    tokens: Vec<Token>,
    diagnostics: Vec<Diagnostic>,
}

/// All tokens, ending with [`Kind::End`], and what could not be read.
pub(crate) fn lex(text: &str) -> (Vec<Token>, Vec<Diagnostic>) {
    // Editors of some systems begin a text with a byte order mark.
    let begin = if text.starts_with('\u{feff}') { '\u{feff}'.len_utf8() } else { 0 };
    let mut lexer = Lexer { text, at: begin, first: true, tokens: Vec::new(), diagnostics: Vec::new() };
    if text.len() > MOST_BYTES {
        let message = format!("expected at most {MOST_BYTES} bytes; found {}", text.len());
        lexer.diagnostics.push(Diagnostic::error("size", Span::new(0, 0), message));
    } else {
        while lexer.next() {}
    }
    let end = Span::new(lexer.text.len(), lexer.text.len());
    lexer.tokens.push(Token { kind: Kind::End, span: end, first: true });
    (lexer.tokens, lexer.diagnostics)
}

impl Lexer<'_> {
    fn next(&mut self) -> bool {
        let rest = &self.text[self.at..];
        let Some(c) = rest.chars().next() else { return false };
        match c {
            '\n' => {
                self.first = true;
                self.at += 1;
            }
            c if c.is_whitespace() => self.at += c.len_utf8(),
            '#' => self.at += rest.find('\n').unwrap_or(rest.len()),
            '"' => self.text_token(rest),
            c if c.is_ascii_digit() => self.number(rest),
            c if c.is_ascii_alphabetic() || c == '_' => {
                let end = rest.find(|c: char| !(c.is_ascii_alphanumeric() || c == '_')).unwrap_or(rest.len());
                self.push(Kind::Name, end);
            }
            _ => self.sign(rest, c),
        }
        true
    }

    fn push(&mut self, kind: Kind, bytes: usize) {
        let span = Span::new(self.at, self.at + bytes);
        self.tokens.push(Token { kind, span, first: self.first });
        self.first = false;
        self.at += bytes;
    }

    fn text_token(&mut self, rest: &str) {
        let line = rest.find('\n').unwrap_or(rest.len());
        match rest[1..line].find('"') {
            Some(end) => self.push(Kind::Text, end + 2),
            None => {
                let span = Span::new(self.at, self.at + line);
                let said = "expected a closing `\"` on the same line; found the line's end";
                self.diagnostics.push(Diagnostic::error("quote", span, said));
                self.push(Kind::Text, line);
            }
        }
    }

    fn number(&mut self, rest: &str) {
        let digits = |from: usize| rest[from..].bytes().take_while(u8::is_ascii_digit).count();
        let mut end = digits(0);
        if rest[end..].starts_with('.') && digits(end + 1) > 0 {
            end += 1 + digits(end + 1);
        }
        if rest[end..].starts_with(['e', 'E']) {
            let sign = usize::from(rest[end + 1..].starts_with(['-', '+']));
            let power = digits(end + 1 + sign);
            if power > 0 {
                end += 1 + sign + power;
            }
        }
        let value: f64 = rest[..end].parse().unwrap_or(f64::INFINITY);
        if value > f64::from(f32::MAX) {
            let span = Span::new(self.at, self.at + end);
            self.diagnostics.push(Diagnostic::error(
                "number",
                span,
                "expected a number below 3.4e38; found a larger one",
            ));
        }
        self.push(Kind::Number(if value > f64::from(f32::MAX) { 0.0 } else { value }), end);
    }

    fn sign(&mut self, rest: &str, c: char) {
        const PAIRS: [(&str, Kind); 4] =
            [("<=", Kind::LessEqual), (">=", Kind::MoreEqual), ("==", Kind::Equal), ("!=", Kind::NotEqual)];
        const SINGLE: [(char, Kind); 15] = [
            ('{', Kind::Open),
            ('}', Kind::Close),
            ('(', Kind::ParenOpen),
            (')', Kind::ParenClose),
            (',', Kind::Comma),
            ('.', Kind::Dot),
            ('=', Kind::Assign),
            ('+', Kind::Plus),
            ('-', Kind::Minus),
            ('*', Kind::Star),
            ('/', Kind::Slash),
            ('^', Kind::Caret),
            ('%', Kind::Percent),
            ('<', Kind::Less),
            ('>', Kind::More),
        ];
        /// Signs of other languages, with what to write here.
        const FOREIGN: [(&str, &str); 12] = [
            ("&&", "write `and`"),
            ("||", "write `or`"),
            ("!", "write `not`"),
            ("+=", "write the name twice: `x = x + …`"),
            ("-=", "write the name twice: `x = x - …`"),
            ("*=", "write the name twice: `x = x * …`"),
            ("/=", "write the name twice: `x = x / …`"),
            (";", "leave it out: a statement ends where the next begins"),
            ("//", "a comment begins with `#`"),
            ("\u{b2}", "write `^2`"),
            ("\u{b7}", "write `*`"),
            ("\u{2212}", "write `-`, the sign on the keyboard"),
        ];
        if let Some((_, kind)) = PAIRS.iter().find(|(sign, _)| rest.starts_with(sign)) {
            return self.push(*kind, 2);
        }
        let foreign = FOREIGN.iter().find(|(sign, _)| rest.starts_with(sign));
        if let (None, Some((_, kind))) = (foreign, SINGLE.iter().find(|(sign, _)| *sign == c)) {
            return self.push(*kind, 1);
        }
        let (sign, help) = foreign.map_or((&rest[..c.len_utf8()], None), |(sign, help)| (*sign, Some(*help)));
        let span = Span::new(self.at, self.at + sign.len());
        let found = if c.is_control() { c.escape_unicode().to_string() } else { sign.to_owned() };
        let said = format!("expected a name, a number or a sign of the language; found `{found}`");
        let help = help.map(str::to_owned);
        self.diagnostics.push(Diagnostic::error("character", span, said).maybe_help(help));
        // Read on as what it means, where it means something.
        match sign {
            "&&" | "||" | "!" => return self.push(Kind::Name, sign.len()),
            "+=" | "-=" | "*=" | "/=" => return self.push(Kind::Assign, sign.len()),
            "\u{b7}" => return self.push(Kind::Star, sign.len()),
            "\u{2212}" => return self.push(Kind::Minus, sign.len()),
            _ => self.at += sign.len(),
        }
        if sign == "//" {
            self.at += self.text[self.at..].find('\n').unwrap_or(self.text.len() - self.at);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kinds(text: &str) -> Vec<Kind> {
        lex(text).0.iter().map(|t| t.kind).collect()
    }

    #[test]
    fn numbers_end_where_they_end() {
        use Kind::{Dot, End, Name, Number};
        assert_eq!(kinds("1.5e-3 2e 3.x"), [Number(0.0015), Number(2.0), Name, Number(3.0), Dot, Name, End]);
    }

    #[test]
    fn signs_of_other_languages_are_named_and_left_out() {
        let (tokens, diagnostics) = lex("a && b; // rest\n c += 1 \u{7}");
        assert_eq!(tokens.len(), 7, "a and b c = 1 and the end: {tokens:?}");
        let help: Vec<_> = diagnostics.iter().map(|d| d.help.as_deref().unwrap_or("-")).collect();
        assert_eq!(help.len(), 5);
        assert!(help[0].contains("`and`") && help[2].contains('#') && help[4] == "-", "{help:?}");
    }

    #[test]
    fn lines_are_told_apart_and_comments_are_not_seen() {
        let (tokens, _) = lex("a # b c\n  d e");
        let first: Vec<bool> = tokens.iter().map(|t| t.first).collect();
        assert_eq!(first, [true, true, false, true]);
    }
}
