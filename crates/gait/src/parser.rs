//! From tokens to the tree, going on after mistakes.
//!
//! After a mistake the parser skips to the next word that begins a section, a statement or a line, so that one slip
//! costs one diagnostic. Nesting is bounded: no text makes it run out of stack.
//!
//! The grammar stands in `docs/gait.md`.

mod expression;
mod quantity;

mod statements;

use crate::diagnostic::{Diagnostic, nearest};
use crate::lexer::{Kind, Token};
use crate::limit_kinds::{limit_names, states_the_least};
use crate::syntax::{Attribute, AttributeValue, Field, File, Habit, HabitOf, Limit, Look, Quantity, Tune, Word};

/// The sections of a file.
pub(crate) const SECTIONS: [&str; 8] = ["input", "state", "tune", "body", "step", "looks", "limits", "hands"];
/// Words that are not names.
pub(crate) const KEYWORDS: [&str; 15] = [
    "gait", "let", "if", "then", "else", "and", "or", "not", "repeat", "slide", "kick", "true", "false", "below",
    "above",
];
/// What may follow a field's kind.
pub(crate) const ATTRIBUTES: [&str; 10] =
    ["bits", "owned", "key", "wire", "range", "agree", "blend", "private", "start", "exactly"];

/// What a field can be, in either section.
const FIELD_KINDS: [&str; 11] =
    ["stick", "axis", "held", "press", "bearing", "pitch", "point", "vector", "number", "flag", "counter"];

/// What can be said of hands.
const HABITS: [&str; 2] = ["turn", "apart"];

/// Levels an expression or a statement may have.
const DEEPEST: u16 = 60;
/// Mistakes after which reading on helps nobody.
const MOST_DIAGNOSTICS: usize = 50;

/// The state of reading.
pub(crate) struct Parser<'a> {
    text: &'a str,
    tokens: &'a [Token],
    at: usize,
    nested: u16,
    diagnostics: Vec<Diagnostic>,
}

/// Reads a file.
pub(crate) fn parse(text: &str, tokens: &[Token]) -> (File, Vec<Diagnostic>) {
    let mut parser = Parser::new(text, tokens);
    let file = parser.file();
    (file, parser.diagnostics)
}

impl<'a> Parser<'a> {
    pub(crate) const fn new(text: &'a str, tokens: &'a [Token]) -> Self {
        Self { text, tokens, at: 0, nested: 0, diagnostics: Vec::new() }
    }

    pub(crate) fn at_end(&self) -> bool {
        self.peek().kind == Kind::End
    }

    pub(crate) fn into_diagnostics(self) -> Vec<Diagnostic> {
        self.diagnostics
    }

    fn peek(&self) -> Token {
        self.tokens[self.at.min(self.tokens.len() - 1)]
    }

    fn ahead(&self, n: usize) -> Token {
        self.tokens[(self.at + n).min(self.tokens.len() - 1)]
    }

    fn next(&mut self) -> Token {
        let token = self.peek();
        self.at = (self.at + 1).min(self.tokens.len() - 1);
        token
    }

    fn word_of(&self, token: Token) -> &'a str {
        token.span.of(self.text)
    }

    fn is_word(&self, token: Token, word: &str) -> bool {
        // Signs of other languages were reported; they are read as what they mean, so that the rest makes sense.
        let text = match self.word_of(token) {
            "&&" => "and",
            "||" => "or",
            "!" => "not",
            text => text,
        };
        token.kind == Kind::Name && text == word
    }

    fn eat(&mut self, kind: Kind) -> bool {
        let found = self.peek().kind == kind;
        if found {
            self.next();
        }
        found
    }

    fn eat_word(&mut self, word: &str) -> bool {
        let found = self.is_word(self.peek(), word);
        if found {
            self.next();
        }
        found
    }

    fn report(&mut self, diagnostic: Diagnostic) {
        if self.diagnostics.len() < MOST_DIAGNOSTICS {
            self.diagnostics.push(diagnostic);
        }
    }

    fn found(&self, token: Token) -> String {
        match token.kind {
            Kind::End => "the end of the file".to_owned(),
            _ => format!("`{}`", self.word_of(token)),
        }
    }

    /// Reports what was expected at the next token.
    fn expected(&mut self, what: &str) {
        let token = self.peek();
        let message = format!("expected {what}; found {}", self.found(token));
        self.report(Diagnostic::error("syntax", token.span, message));
    }

    fn expect(&mut self, kind: Kind, what: &str) -> bool {
        let found = self.eat(kind);
        if !found {
            self.expected(what);
        }
        found
    }

    /// A name that somebody chooses.
    fn name(&mut self, what: &str) -> Option<Word> {
        let token = self.peek();
        if token.kind != Kind::Name {
            self.expected(what);
            return None;
        }
        let text = self.word_of(token);
        if KEYWORDS.contains(&text) || SECTIONS.contains(&text) && self.ahead(1).kind == Kind::Open {
            let message = format!("expected {what}; found `{text}`, a word of the language");
            self.report(Diagnostic::error("name", token.span, message).help("choose another name"));
            return None;
        }
        self.next();
        if text.len() > 32 {
            let message = format!("expected a name of at most 32 letters; found {}", text.len());
            self.report(Diagnostic::error("name", token.span, message));
        }
        Some(Word { text: text.to_owned(), span: token.span })
    }

    /// Any word, also one of the language's.
    fn any_word(&mut self, what: &str) -> Option<Word> {
        let token = self.peek();
        if token.kind != Kind::Name {
            self.expected(what);
            return None;
        }
        self.next();
        Some(Word { text: self.word_of(token).to_owned(), span: token.span })
    }

    fn opens_section(&self) -> bool {
        let token = self.peek();
        token.kind == Kind::Name
            && SECTIONS.contains(&self.word_of(token))
            && self.ahead(1).kind == Kind::Open
            && token.first
    }

    /// Skips to the first token of a later line, a closing brace or a section.
    fn skip_line(&mut self) {
        let from = self.at;
        while !matches!(self.peek().kind, Kind::End | Kind::Close) {
            if self.at > from && (self.peek().first || self.opens_section()) {
                return;
            }
            if self.peek().kind == Kind::Open {
                self.skip_block();
                return;
            }
            self.next();
        }
    }

    /// Skips a block and all in it.
    fn skip_block(&mut self) {
        let mut open = 0u32;
        loop {
            match self.next().kind {
                Kind::Open => open += 1,
                Kind::Close => open = open.saturating_sub(1),
                Kind::End => return,
                _ => {}
            }
            if open == 0 {
                return;
            }
        }
    }

    fn file(&mut self) -> File {
        let mut file = File::default();
        if self.eat_word("gait") {
            let token = self.peek();
            if self.expect(Kind::Text, "the rule's name in quotes, such as `gait \"courier\"`") {
                let text = self.word_of(token).trim_matches('"').to_owned();
                let sound = !text.is_empty()
                    && text.len() <= 32
                    && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | ' '));
                if !sound {
                    let message = "expected a name of 1 to 32 letters, digits, spaces, `-` and `_`";
                    self.report(Diagnostic::error("name", token.span, message));
                }
                file.name = Some(Word { text, span: token.span });
            }
        } else {
            self.expected("`gait \"name\"` on the first line");
        }
        let rest = self.peek();
        if file.name.is_some() && !self.at_end() && !rest.first {
            let message = format!("expected the end of the line after the rule's name; found {}", self.found(rest));
            self.report(Diagnostic::error("syntax", rest.span, message).help("a section begins on a line of its own"));
        }
        // What belongs to a botched first line is no section.
        while !self.at_end() && !self.peek().first {
            self.next();
        }
        if file.name.is_none() && self.peek().kind == Kind::Name && self.ahead(1).kind != Kind::Open {
            self.skip_line();
        }
        while !self.at_end() {
            self.section(&mut file);
        }
        file.slides = self.tokens.iter().any(|t| self.is_word(*t, "slide"));
        file
    }

    fn section(&mut self, file: &mut File) {
        let token = self.peek();
        let Some(word) = self.any_word("a section: input, state, tune, body, step, looks, limits or hands") else {
            self.next();
            while !self.at_end() && !self.opens_section() {
                self.next();
            }
            return;
        };
        if !SECTIONS.contains(&word.text.as_str()) {
            let message = format!("expected a section ({}); found `{}`", SECTIONS.join(", "), word.text);
            let help = nearest(&word.text, SECTIONS.into_iter());
            let meant = SECTIONS.into_iter().find(|s| help.as_ref().is_some_and(|h| h.contains(&format!("`{s}`"))));
            self.report(Diagnostic::error("section", word.span, message).maybe_help(help));
            if let Some(meant) = meant.filter(|_| self.peek().kind == Kind::Open) {
                self.contents(Word { text: meant.to_owned(), span: word.span }, file);
                return;
            }
            while !self.at_end() && !self.opens_section() {
                if self.peek().kind == Kind::Open {
                    self.skip_block();
                } else {
                    self.next();
                }
            }
            return;
        }
        if file.sections.iter().any(|s| s.text == word.text) {
            let message = format!("expected one `{}` section; found another", word.text);
            self.report(Diagnostic::error("section", token.span, message).help("put its lines into the first"));
        }
        self.contents(word, file);
    }

    /// What stands between the braces of a section.
    fn contents(&mut self, word: Word, file: &mut File) {
        let name = word.text.clone();
        file.sections.push(word);
        let opened = self.expect(Kind::Open, "`{`");
        // A brace that is missing or doubled is one slip: what follows is read as what it is.
        if !opened && (self.peek().kind != Kind::Name || self.opens_section()) {
            while !self.at_end() && !self.opens_section() {
                self.next();
            }
            return;
        }
        let doubled = opened && self.peek().kind == Kind::Open;
        if doubled {
            self.expected(&format!("what `{name}` holds"));
            self.next();
        }
        match name.as_str() {
            "step" => file.step = self.statements(),
            _ => self.lines(&name, file),
        }
        if !self.eat(Kind::Close) {
            self.expected(&format!("`}}` at the end of `{name}`"));
        } else if doubled {
            self.eat(Kind::Close);
        }
    }

    fn lines(&mut self, section: &str, file: &mut File) {
        while !matches!(self.peek().kind, Kind::Close | Kind::End) && !self.opens_section() {
            let from = self.at;
            let read = match section {
                "input" => self.field().map(|f| file.inputs.push(f)),
                "state" => self.field().map(|f| file.state.push(f)),
                "tune" => self.tune().map(|t| file.tune.push(t)),
                "body" => self.measure().map(|m| file.body.push(m)),
                "looks" => self.look().map(|l| file.looks.push(l)),
                "hands" => self.habit().map(|h| file.hands.push(h)),
                _ => self.limit().map(|l| file.limits.push(l)),
            };
            if read.is_none() {
                self.skip_line();
            }
            if self.at == from {
                self.next();
            }
        }
    }

    fn field(&mut self) -> Option<Field> {
        let name = self.name("a field's name")?;
        let kind = self.any_word("its kind")?;
        let unit = self.unit_here();
        let mut attributes = Vec::new();
        loop {
            let token = self.peek();
            if token.kind != Kind::Name || token.first {
                break;
            }
            let word = self.any_word("an attribute")?;
            if !ATTRIBUTES.contains(&word.text.as_str()) {
                let next = self.peek();
                if next.kind == Kind::Name && !next.first && FIELD_KINDS.contains(&self.word_of(next)) {
                    let message = format!("expected one field a line; found another, `{}`", word.text);
                    self.report(Diagnostic::error("field", word.span, message).help("write it on a line of its own"));
                    self.rest_of_line();
                    break;
                }
                let message = format!("expected an attribute ({}); found `{}`", ATTRIBUTES.join(", "), word.text);
                let help = nearest(&word.text, ATTRIBUTES.into_iter());
                self.report(Diagnostic::error("attribute", word.span, message).maybe_help(help));
                self.rest_of_line();
                break;
            }
            match self.attribute(word) {
                Some(attribute) => attributes.push(attribute),
                None => self.rest_of_line(),
            }
        }
        if !self.peek().first && !matches!(self.peek().kind, Kind::Close | Kind::End) {
            self.expected("an attribute or the next line");
            self.rest_of_line();
        }
        Some(Field { name, kind, unit, attributes })
    }

    /// One text in quotes or more, on this line.
    fn texts(&mut self, what: &str) -> Option<Vec<Word>> {
        let mut all = Vec::new();
        loop {
            let token = self.peek();
            if !all.is_empty() && (token.kind != Kind::Text || token.first) {
                return Some(all);
            }
            if !self.expect(Kind::Text, what) {
                return None;
            }
            all.push(Word { text: self.word_of(token).trim_matches('"').to_owned(), span: token.span });
        }
    }

    /// Leaves out what is left of a line.
    fn rest_of_line(&mut self) {
        while !self.peek().first && !matches!(self.peek().kind, Kind::Close | Kind::End) {
            self.next();
        }
    }

    fn attribute(&mut self, name: Word) -> Option<Attribute> {
        let value = match name.text.as_str() {
            "owned" | "private" | "exactly" => AttributeValue::Nothing,
            "blend" => AttributeValue::Word(self.any_word("none, linear, curve or bearing")?),
            "key" => AttributeValue::Texts(self.texts("a key in quotes, such as `key \"g\"`")?),
            "agree" if self.is_word(self.peek(), "exactly") => AttributeValue::Word(self.any_word("exactly")?),
            _ => AttributeValue::Quantity(self.quantity()?),
        };
        Some(Attribute { name, value })
    }

    fn tune(&mut self) -> Option<Tune> {
        let name = self.name("a tunable's name")?;
        let value = self.quantity()?;
        let range = if self.eat_word("from") {
            // A botched range costs the range, not the tunable.
            let range = self.range();
            if range.is_none() {
                self.rest_of_line();
            }
            range
        } else {
            None
        };
        Some(Tune { name, value, range })
    }

    fn range(&mut self) -> Option<(Quantity, Quantity)> {
        let least = self.quantity()?;
        if !self.eat_word("to") {
            self.expected("`to` and the largest value");
            return None;
        }
        Some((least, self.quantity()?))
    }

    fn measure(&mut self) -> Option<(Word, Quantity)> {
        Some((self.any_word("radius, height or step")?, self.quantity()?))
    }

    fn look(&mut self) -> Option<Look> {
        let name = self.name("the name of a look")?;
        if self.eat_word("above") {
            return Some(Look { name, below: None });
        }
        if !self.eat_word("below") {
            self.expected("`below` and a speed, or `above` for the last");
            return None;
        }
        Some(Look { name, below: Some(self.quantity()?) })
    }

    fn habit(&mut self) -> Option<Habit> {
        let name = self.any_word("turn or apart")?;
        if !HABITS.contains(&name.text.as_str()) {
            let message = format!("expected {}; found `{}`", HABITS.join(" or "), name.text);
            let help = nearest(&name.text, HABITS.into_iter());
            self.report(Diagnostic::error("name", name.span, message).maybe_help(help));
            return None;
        }
        let input = self.any_word("an input")?;
        if name.text == "apart" {
            if !self.eat_word("and") {
                self.expected("`and` and another input");
                return None;
            }
            return Some(Habit { name, input, what: HabitOf::Apart(self.any_word("another input")?) });
        }
        if !self.eat_word("at") || !self.eat_word("most") {
            self.expected("`at most` and how fast");
            return None;
        }
        Some(Habit { name, input, what: HabitOf::Turn(self.quantity()?) })
    }

    fn limit(&mut self) -> Option<Limit> {
        let name = self.any_word(&limit_names())?;
        let target = self.expression();
        let at = self.eat_word("at");
        let span = self.peek().span;
        let least = (at && self.eat_word("least")).then_some(span);
        if !at || least.is_none() && !self.eat_word("most") {
            self.expected(if states_the_least(&name.text) {
                "`at least` and the limit"
            } else {
                "`at most` and the limit"
            });
            return None;
        }
        let most = self.expression();
        let burst = self.eat_word("burst").then(|| self.expression());
        let slack = if self.eat_word("slack") { Some(self.quantity()?) } else { None };
        Some(Limit { name, target, least, most, burst, slack })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lexer::lex;
    use crate::syntax::{Expr, ExprKind};

    /// An expression as nested lists, to see what binds to what.
    fn shape(e: &Expr) -> String {
        match &e.kind {
            ExprKind::Wrong => "?".to_owned(),
            ExprKind::Quantity(q) if q.dimension.is_none() => format!("{}", q.value),
            ExprKind::Quantity(q) => format!("{} {}", q.value, q.dimension),
            ExprKind::Truth(t) => t.to_string(),
            ExprKind::Name(name) => name.clone(),
            ExprKind::Component(of, word) => format!("{}.{}", shape(of), word.text),
            ExprKind::Negative(a) => format!("(- {})", shape(a)),
            ExprKind::Not(a) => format!("(not {})", shape(a)),
            ExprKind::Binary(op, a, b) => format!("({} {} {})", op.sign(), shape(a), shape(b)),
            ExprKind::If(c, a, b) => format!("(if {} {} {})", shape(c), shape(a), shape(b)),
            ExprKind::Call(name, all) => {
                let all: Vec<String> = all.iter().map(shape).collect();
                format!("({} {})", name.text, all.join(" "))
            }
        }
    }

    fn read(text: &str) -> (String, Vec<String>) {
        let (tokens, _) = lex(text);
        let mut parser = Parser::new(text, &tokens);
        let shape = shape(&parser.expression());
        let rest = if parser.at_end() { "" } else { " …" };
        (shape + rest, parser.into_diagnostics().into_iter().map(|d| d.message).collect())
    }

    #[test]
    fn operators_bind_as_the_reference_says() {
        for (text, expected) in [
            ("a + b * c - d / e", "(- (+ a (* b c)) (/ d e))"),
            ("a - b - c", "(- (- a b) c)"),
            ("-a * b", "(* (- a) b)"),
            ("a * -b + -2", "(+ (* a (- b)) (- 2))"),
            ("a or b and not c < d", "(or a (and b (not (< c d))))"),
            ("not a == b and c", "(and (not (== a b)) c)"),
            ("a && b || !c", "(or (and a b) (not c))"),
            ("(a + b).x * v.xy.y", "(* (+ a b).x v.xy.y)"),
            ("walk * if s and b > 0 s then h else 1", "(* walk (if (and s (> b 0 s)) h 1))"),
            ("if a then b else c + d", "(if a b (+ c d))"),
            ("f(a, g(b), c + 1)", "(f a (g b) (+ c 1))"),
            ("5 m / s * dt", "(* 5 m/s dt)"),
            ("5 m / t2 * dt", "(* (/ 5 m t2) dt)"),
            ("2 1/s", "2 1/s"),
            ("90 deg", "1.5707963267948966"),
            ("3 kg m / s^2 + x", "(+ 3 kg*m/s^2 x)"),
            ("1 + 4 % * x", "(+ 1 (* 0.04 x))"),
            ("a\n(b)", "a …"),
            ("a\n- b", "(- a b)"),
        ] {
            assert_eq!(read(text), (expected.to_owned(), Vec::new()), "{text}");
        }
    }

    #[test]
    fn what_is_missing_is_named_and_read_over() {
        for (text, expected) in [
            ("a +", "expected a value; found the end of the file"),
            ("f(a b)", "expected `)` or `,`; found `b`"),
            ("(a", "expected `)`; found the end of the file"),
            (
                "if a then b",
                "expected `else` and a value: an `if` that is a value needs both; found the end of the file",
            ),
            ("a < b < c", "expected one comparison; found another behind it"),
            ("a.", "expected a component: x, y, z or xy; found the end of the file"),
            ("3 furlongs", "expected a unit after the number; found `furlongs`"),
            ("3 m^x", "expected a whole power from 1 to 9; found `x`"),
            ("let", "expected a value; found `let`"),
        ] {
            let (_, said) = read(text);
            assert_eq!(said.first().map(String::as_str), Some(expected), "{text}: {said:?}");
        }
    }

    /// Breaking any one line of a rule costs diagnostics about that line, not about the rest of the file.
    #[test]
    fn one_slip_is_told_where_it_is_and_nowhere_else() {
        let text = include_str!("../gaits/courier.gait");
        let lines: Vec<&str> = text.lines().collect();
        let step = lines.iter().position(|l| l.starts_with("step {")).expect("a step");
        let end = step + lines[step..].iter().position(|l| *l == "}").expect("its end");
        let mut tried = 0;
        for broken in step + 1..end {
            if lines[broken].trim().is_empty() || lines[broken].trim().starts_with('#') {
                continue;
            }
            for slip in
                ["  let = 3", "  vel.xy = ", "  @ what is this", "  if { x", "  slide", "  (((", "  toward(vel.xy, 3"]
            {
                let mut all = lines.clone();
                all[broken] = slip;
                let text = all.join("\n");
                let (tokens, mut said) = lex(&text);
                said.extend(parse(&text, &tokens).1);
                assert!(!said.is_empty(), "{slip}");
                let place = |d: &Diagnostic| crate::SourcePosition::of(&text, d.span).line;
                // A statement that is not finished ends where the next one begins; an open brace at the end of the file.
                let near =
                    |line: usize| (broken + 1..=broken + 3).contains(&line) || slip.contains('{') || slip.contains('(');
                assert!(said.iter().all(|d| near(place(d))), "line {}: `{slip}`: {said:?}", broken + 1);
                assert!(said.len() <= 4, "`{slip}` costs {} diagnostics: {said:?}", said.len());
                tried += 1;
            }
        }
        assert!(tried > 60);
    }
}
